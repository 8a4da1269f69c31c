import json
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.settings.presets import write_preset
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Limits
from tests.core.scene.gltf_maker import GltfMaker
from tests.core.study.states import only_limits

SCENE = "honey-stall-small"


def output(capsys: pytest.CaptureFixture[str], *arguments: str, status: int = 0) -> dict:
    assert run(list(arguments)) == status
    return json.loads(capsys.readouterr().out)


def test_names_are_utf8_whatever_the_surroundings_say(tmp_path: Path) -> None:
    """Where they say ASCII, a study with an umlaut in its name is made, looked at and measured all
    the same."""
    ascii_only = {
        "LC_ALL": "C",
        "PYTHONUTF8": "0",
        "PYTHONCOERCECLOCALE": "0",
        "PYTHONIOENCODING": "ascii",
    }
    command = [sys.executable, "-m", "swift_sample.cli"]

    def status_of(*arguments: str) -> int:
        return subprocess.run(
            [*command, *arguments], env={**os.environ, **ascii_only}, cwd=tmp_path, check=False
        ).returncode

    assert status_of("new", "körbe.study", "--scene", "honey-stall-small", "--size", "8x8") == 0
    plan = tmp_path / "körbe.study" / "study.toml"
    known = plan_from_toml(plan.read_text(), plan)
    plan.write_text(
        plan_as_toml(replace(known, sweeps=(), repeats=1, limits=Limits(grain=60.0)), plan.parent)
    )
    assert status_of("run", "körbe.study") in (0, 3)
    assert status_of("log", "körbe.study") == 0


def test_render_prints_its_record_and_tiles_do_not_matter(tmp_path: Path, capsys) -> None:
    common = ["render", SCENE, "--size", "32x18", "--set", "samples.max=8", "--json"]
    one = output(capsys, *common, "-o", str(tmp_path / "a.exr"), "--set", "tiles.size=8")
    other = output(
        capsys,
        *common,
        "-o",
        str(tmp_path / "b.exr"),
        "--set",
        "tiles.size=64",
        "--set",
        "device.threads=1",
    )
    assert np.array_equal(read_exr(tmp_path / "a.exr").beauty, read_exr(tmp_path / "b.exr").beauty)
    assert one["size"] == [32, 18]
    assert set(one["seconds"]) == {
        "load",
        "textures",
        "build",
        "first_picture",
        "sampling",
        "denoise",
        "write",
        "total",
    }
    assert one["samples"]["mean"] == 8
    assert one["samples"]["share_at_max"] == 1.0
    assert one["rays"]["total"] == sum(
        sum(by_kind.values()) for by_kind in one["rays"]["by_bounce"]
    )
    assert np.sum(one["light_by_bounce"], axis=0) == pytest.approx(
        read_exr(tmp_path / "a.exr").beauty.mean(axis=(0, 1)), rel=1e-4
    )
    assert one["settings"].keys() == CATALOGUE.keys()
    assert one["device"] == "processor"
    assert other["threads"] == 1
    assert one["peak_memory_bytes"] > 1 << 20
    held = read_exr(tmp_path / "a.exr").layers
    assert {
        "half_a",
        "half_b",
        "albedo",
        "normal",
        "depth",
        "samples",
        "seconds",
        "error",
    } <= held.keys()


def test_environment_and_scale(tmp_path: Path, capsys) -> None:
    found = output(
        capsys,
        "render",
        SCENE,
        "-o",
        str(tmp_path / "a.exr"),
        "--size",
        "33x19",
        "--set",
        "output.scale=0.5",
        "--set",
        "samples.max=2",
        "--environment",
        "0,0,0",
        "--json",
    )
    assert found["size"] == [17, 10]


def test_compare_prints_all_measures(tmp_path: Path, capsys) -> None:
    grey = np.full((40, 60, 3), 0.2, np.float32)
    write_exr(tmp_path / "a.exr", Picture(grey))
    write_exr(tmp_path / "b.exr", Picture(grey * 1.5))
    found = output(
        capsys,
        "compare",
        str(tmp_path / "a.exr"),
        str(tmp_path / "b.exr"),
        "--area",
        "0,0,10,10",
        "--json",
    )
    assert {
        "grain",
        "light_shift",
        "detail_kept",
        "stray_pixels",
        "rms",
        "psnr",
        "ssim",
        "areas",
    } <= found.keys()
    assert found["grain"] is None
    assert found["light_shift"] == pytest.approx(found["rms"], rel=1e-3)
    assert found["areas"]["0,0,10,10"]["rms"] == pytest.approx(found["rms"], rel=1e-3)


def test_settings_lists_the_catalogue(capsys) -> None:
    listed = output(capsys, "settings", "--json")["settings"]
    assert [s["key"] for s in listed] == list(CATALOGUE)

    assert set(listed[0]) == {
        "key",
        "group",
        "label",
        "help",
        "unit",
        "type",
        "default",
        "minimum",
        "maximum",
        "values",
        "suggested",
    }


def test_check_describes_the_machine(capsys) -> None:
    found = output(capsys, "check", "--seconds", "0.1", "--json")
    assert found["machine"]["threads"] >= 1


def test_new_run_and_pick(tmp_path: Path, capsys) -> None:
    path = str(tmp_path / "a.study")
    assert (
        run(
            [
                "new",
                path,
                "--scene",
                SCENE,
                "--size",
                "24x14",
                "--set",
                "samples.max=16",
                "--set",
                "bounces.total=2",
            ]
        )
        == 0
    )
    file = Path(path) / "study.toml"
    plan = plan_from_toml(file.read_text(), file).with_values_to_try({"samples.max": (4, 16)})
    wide = only_limits(grain=200.0, light_shift=200.0, detail_kept=1.0, stray_pixels=1e6)
    file.write_text(
        plan_as_toml(replace(plan, limits=wide, repeats=2, renders_per_opening=50), Path(path))
    )
    capsys.readouterr()
    assert output(capsys, "pick", path, "--json", status=3)["pick"] is None
    found = output(capsys, "run", path, "--json")
    again = output(capsys, "pick", path, "--json")
    assert (found, list(found["pick"]["phases"])) == (again, list(again["pick"]["phases"])), (
        "in the same order too"
    )
    assert found["trials"] == {"planned": 2, "measured": 2}
    assert found["pick"]["verdict"] == "acceptable"
    assert {
        "configuration",
        "seconds",
        "times_faster_than_base",
        "limit_shares",
        "next_faster",
    } <= found["pick"].keys()
    assert (
        output(capsys, "pick", path, "--goal", "first-picture", "--json")["goal"] == "first-picture"
    )
    cost = output(capsys, "cost", path, "--json")
    assert sum(phase["share"] for phase in cost["phases"]) == pytest.approx(1.0)
    assert {"scene.keep_built": True} in [finding["changes"] for finding in cost["findings"]]
    assert run(["cost", path, "--of-pick"]) == 0
    assert "Try " in capsys.readouterr().out
    assert run(["export", path, "-o", str(tmp_path / "r.json")]) == 0
    assert len(json.loads((tmp_path / "r.json").read_text())["trials"]) == 2
    assert run(["export", path, "-o", str(tmp_path / "r.pdf")]) == 2
    assert run(["report", path, "-o", str(tmp_path / "report.html")]) == 0
    assert "How it was measured" in (tmp_path / "report.html").read_text()
    assert run(["report", path, "-o", str(tmp_path / "report.txt")]) == 2
    events = output(capsys, "log", path, "--json")["events"]
    assert events[0]["text"] == "The study began"
    assert events[1]["text"].startswith("rendering the reference: ")


def small_study(tmp_path: Path, values: dict) -> Path:
    path = tmp_path / "a.study"
    assert (
        run(
            [
                "new",
                str(path),
                "--scene",
                SCENE,
                "--size",
                "24x14",
                "--set",
                "samples.max=2",
                "--set",
                "bounces.total=2",
            ]
        )
        == 0
    )

    file = path / "study.toml"
    file.write_text(
        plan_as_toml(
            replace(plan_from_toml(file.read_text(), file).with_values_to_try(values), repeats=1),
            path,
        )
    )
    return path


def test_measuring_one_setting_only_needs_another_value_of_it(tmp_path: Path, capsys) -> None:
    path = small_study(tmp_path, {"bounces.diffuse": (1,)})
    assert run(["run", str(path), "--only", "samples.max"]) == 2
    assert (
        "--only samples.max: nothing to measure, no other value of it than the base's is tried"
        in capsys.readouterr().err
    )
    assert run(["run", str(path), "--only", "sample.max"]) == 2
    assert "unknown setting sample.max; did you mean samples.max?" in capsys.readouterr().err
    assert output(capsys, "pick", str(path), "--json", status=3)["trials"] == {
        "planned": 2,
        "measured": 0,
    }


def test_a_trial_that_always_fails_is_told_and_makes_the_status_that_of_failed_work(
    tmp_path: Path, capsys
) -> None:
    path = small_study(tmp_path, {"geometry.variant": ("drilled lid", "no such lid")})
    assert run(["run", str(path)]) == 1
    said = capsys.readouterr().err
    assert "no such lid could not be measured: " in said
    assert said.count("could not be measured") == 1
    assert output(capsys, "pick", str(path), "--json", status=3)["trials"] == {
        "planned": 3,
        "measured": 2,
    }


def test_more_threads_than_processors_are_noted_and_kept(tmp_path: Path, capsys) -> None:
    path = tmp_path / "a.study"
    assert run(["new", str(path), "--scene", SCENE, "--set", "device.threads=1024"]) == 0
    assert "device.threads=1024: this machine runs " in capsys.readouterr().err
    assert (
        plan_from_toml((path / "study.toml").read_text(), path / "study.toml").base[
            "device.threads"
        ]
        == 1024
    )


def test_a_preset_becomes_the_base(tmp_path: Path) -> None:
    write_preset(tmp_path / "p.toml", configured({"samples.max": 33, "bounces.total": 5}))
    assert (
        run(
            [
                "new",
                str(tmp_path / "a.study"),
                "--scene",
                SCENE,
                "--preset",
                str(tmp_path / "p.toml"),
                "--set",
                "bounces.total=7",
            ]
        )
        == 0
    )

    file = tmp_path / "a.study" / "study.toml"
    assert plan_from_toml(file.read_text(), file).base == configured(
        {"samples.max": 33, "bounces.total": 7}
    )


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        (["render", "gone.glb", "-o", "x.exr"], 1, "gone.glb: no such scene"),
        (
            ["render", SCENE, "-o", "nowhere/x.exr"],
            1,
            "x.exr: cannot be written (there is no folder nowhere); make it first",
        ),
        (["render", SCENE, "-o", "x.txt"], 2, "ends in .exr or .png"),
        (
            ["render", SCENE, "-o", "x.exr", "--set", "samples.max=0"],
            2,
            "samples.max=0: expected a whole number from 1",
        ),
        (["render", SCENE, "-o", "x.exr", "--set", "colour=red"], 2, "unknown setting colour"),
        (["render", SCENE, "-o", "x.exr", "--set", "samples.max"], 2, "expected KEY=VALUE"),
        (["render", SCENE, "-o", "x.exr", "--size", "0x4"], 2, "size=0x4: expected"),
        (["render", SCENE, "-o", "x.exr", "--environment", "1,2"], 2, "environment=1,2: expected"),
        (["render", SCENE], 2, "--output"),
        (
            ["render", SCENE, "-o", "x.exr", "--set", "samples.min=64", "--set", "samples.max=8"],
            2,
            "samples.min=64: expected at most samples.max, which is 8",
        ),
        (
            [
                "new",
                "a.study",
                "--scene",
                SCENE,
                "--set",
                "samples.min=64",
                "--set",
                "samples.max=8",
            ],
            2,
            "samples.min=64",
        ),
        (["unpack", "none.zip", "b.study"], 1, "none.zip: not a packed study"),
        (["open", "nowhere.study"], 1, "nowhere.study: not a study"),
        (["pick", "nowhere.study"], 1, "nowhere.study: not a study"),
        (["new", "a.study", "--scene", "gone.glb"], 1, "gone.glb: no such scene"),
        (["compare", "a.exr", "b.exr"], 1, "a.exr: no such picture"),
        (
            ["compare", "a.exr", "b.exr", "--area", "1,2"],
            2,
            "area=1,2: expected four whole numbers",
        ),
        (["compare", "a.exr", "b.exr", "--exposure", "nan"], 2, "exposure=nan: expected"),
        (["nonsense"], 2, "nonsense"),
    ],
)
def test_bad_commands_cost_one_line(
    arguments: list[str],
    status: int,
    words: str,
    capsys,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.chdir(tmp_path)
    assert run(arguments) == status
    captured = capsys.readouterr()
    assert captured.out == ""
    assert words in captured.err
    assert captured.err.count("\n") == 1
    assert list(tmp_path.iterdir()) == []


def test_an_environment_picture_lights_the_scene(tmp_path: Path, capsys) -> None:
    sky = tmp_path / "sky.exr"
    write_exr(sky, Picture(np.full((4, 8, 3), 0.5, np.float32)))

    scene = GltfMaker(
        materials=[
            {
                "pbrMetallicRoughness": {"metallicFactor": 0, "baseColorFactor": [1, 1, 1, 1]},
                "extensions": {"KHR_materials_ior": {"ior": 1}},
            }
        ]
    ).save(tmp_path / "square.glb")
    found = output(
        capsys,
        "render",
        str(scene),
        "-o",
        str(tmp_path / "a.exr"),
        "--size",
        "8x8",
        "--set",
        "samples.max=64",
        "--set",
        "samples.pixel_filter=box",
        "--environment",
        str(sky),
        "--frame",
        "2",
        "--json",
    )

    assert found["notes"] == []
    assert read_exr(tmp_path / "a.exr").beauty.mean() == pytest.approx(0.5, abs=0.02)
    layers = read_exr(tmp_path / "a.exr").layers
    assert {"direct.diffuse", "indirect.glossy", "emission"} <= set(layers)
    sky.write_bytes(sky.read_bytes()[:200])
    assert (
        run(["render", str(scene), "-o", str(tmp_path / "b.exr"), "--environment", str(sky)]) == 1
    )
    assert "truncated or damaged" in capsys.readouterr().err


def test_an_unknown_variant_is_named_with_those_that_there_are(tmp_path: Path, capsys) -> None:
    status = run(["render", SCENE, "-o", str(tmp_path / "a.exr"), "--set", "geometry.variant=none"])
    assert status == 1
    message = capsys.readouterr().err
    assert "there are cut-out lid, drilled lid" in message
    assert message.count("\n") == 1
