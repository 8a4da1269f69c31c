"""Whole studies with renderers that are programs: the stand-in, and the built-in renderer by its
own command line."""

import json
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.command.description import described_by
from swift_sample.core.renderers.command.renderer import CommandEngine, CommandRenderer
from swift_sample.core.renderers.command.trust import confirm, seen_file
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.staging import Staging, Viewpoint
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.frames import FrameResult, FrameResults
from swift_sample.core.study.answers.frames_report import forecast_as_data, forecast_sentences
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.model import FramePlan
from tests.core.renderers.command.programs import program
from tests.core.scene.gltf_maker import GltfMaker

OUTSIDE = Path(__file__).parents[4] / "examples" / "outside"
BEADS = OUTSIDE / "beadlight.toml"
SHELF = OUTSIDE / "shelf.beads"


@pytest.fixture(autouse=True)
def own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))


def test_the_stand_in_is_checked_measured_and_searched(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    assert (
        run(
            [
                "renderer",
                "check",
                str(BEADS),
                "--scene",
                str(SHELF),
                "--size",
                "24x16",
                "--yes",
                "--json",
            ]
        )
        == 0
    )
    told = {one["what"]: one for one in json.loads(capsys.readouterr().out)["checked"]}
    assert told["seed"]["words"] == "another seed gives another grain"
    assert all(
        told[key]["state"] == "good"
        for key in ("picture", "repeat", "samples.max", "light.cap", "picture.soften")
    )
    study = tmp_path / "shelf.study"
    new = [
        "new",
        str(study),
        "--scene",
        str(SHELF),
        "--renderer",
        str(BEADS),
        "--size",
        "32x18",
        "--set",
        "samples.max=12",
    ]
    assert run(new) == 0
    assert "renderer_file = " in (study / "study.toml").read_text()
    free = dict.fromkeys(
        ("grain_worst", "light_shift_worst", "detail_kept", "detail_kept_worst", "stray_pixels"),
        "off",
    )
    for measure, most in {"grain": "60", "light_shift": "40", **free}.items():
        assert run(["limit", str(study), measure, most]) == 0

    for tried in (
        ["samples.max", "4", "12"],
        ["bounces.total", "1", "8"],
        ["light.lamp_rays", "1"],
        ["light.cap", "0"],
    ):
        assert run(["try", str(study), *tried]) == 0

    for tried in (["picture.soften", "0"], ["picture.rows", "45"]):
        assert run(["try", str(study), *tried]) == 0

    capsys.readouterr()
    assert run(["search", str(study), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["pick"]

    with look_at_study(study) as reading:
        snapshot = read_snapshot(reading)
        results = snapshot.results
        run_of_base = next(one for one in results.base.runs if one.result is not None)
        record = snapshot.record(run_of_base.number)

    assert {"load", "sampling", "write", "total"} <= set(record.seconds)
    assert results.base.figures["grain"] is not None
    reference = snapshot.state.reference
    picture = read_exr(study / "reference" / f"{snapshot.state.reference_name}.exr")
    off = View().levels(picture.layers["half_a"]) - View().levels(picture.layers["half_b"])
    assert reference.floor == pytest.approx(float(off.std()) / 2, rel=0.3), (
        "by two halves, though the program keeps none"
    )
    assert run(["report", str(study), "-o", str(tmp_path / "report.html")]) == 0
    assert run(["cost", str(study)]) == 0


def test_a_study_whose_renderer_file_is_gone_shows_what_was_measured(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    here = tmp_path / "outside"
    here.mkdir()
    for name in ("beadlight.py", "beadlight.toml", "studio.json", "shelf.beads"):
        (here / name).write_bytes((OUTSIDE / name).read_bytes())

    study = tmp_path / "shelf.study"
    assert (
        run(
            [
                "new",
                str(study),
                "--scene",
                str(here / "shelf.beads"),
                "--renderer",
                str(here / "beadlight.toml"),
                "--size",
                "16x9",
                "--yes",
            ]
        )
        == 0
    )
    (here / "beadlight.toml").write_text((here / "beadlight.toml").read_text() + "\n# changed\n")
    assert run(["run", str(study)]) == 1
    assert "was not confirmed as it is now" in capsys.readouterr().err
    (here / "beadlight.toml").unlink()
    assert run(["pick", str(study)]) in (0, 1, 3)
    assert run(["run", str(study)]) == 1
    assert "is not here any more" in capsys.readouterr().err


def test_a_packed_study_brings_its_renderer_file_which_is_confirmed_anew(
    tmp_path: Path, capsys: pytest.CaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    renderer = program(tmp_path / "p", ('label = "Way"', 'label = "Way"\ntried = ["well", "busy"]'))
    study = tmp_path / "a.study"
    assert (
        run(
            [
                "new",
                str(study),
                "--scene",
                str(tmp_path / "p" / "scene.txt"),
                "--renderer",
                str(renderer.path),
                "--size",
                "8x6",
            ]
        )
        == 0
    )
    assert run(["run", str(study)]) in (0, 3)
    assert run(["pack", str(study), "-o", str(tmp_path / "a.zip")]) == 0
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "elsewhere"))
    assert run(["unpack", str(tmp_path / "a.zip"), str(tmp_path / "b.study")]) == 0
    capsys.readouterr()
    run(["pick", str(tmp_path / "b.study")])
    told = capsys.readouterr()
    assert "shown is what was measured last" in told.out + told.err
    assert (
        "b.study/renderer/small.toml: names programs to start and was not confirmed"
        in told.out + told.err
    )
    assert run(["run", str(tmp_path / "b.study")]) == 1
    brought = tmp_path / "b.study" / "renderer" / "small.toml"
    (brought.parent / "program.py").write_bytes((tmp_path / "p" / "program.py").read_bytes())
    confirm(seen_file(brought))
    assert run(["run", str(tmp_path / "b.study")]) in (0, 3), (
        "the program it names stands beside it"
    )


def test_a_command_that_leaves_may_have_any_values(tmp_path: Path) -> None:
    """Its words and variables are those of the program's start, whatever a shell makes of it."""
    renderer = program(
        tmp_path / "p",
        ("[picture]", '[environment]\nALL = "{settings}"\n[picture]'),
        ('default = ""\narguments = ["{value}"]', 'default = ""\nenvironment = "MORE"'),
        ('"{seed}", "{arguments}"]', '"{seed}", "{arguments}", "none"]'),
    )
    extra = "two words; 'and' \"more\" $HOME"
    settings = {"program.way": "words", "program.extra": extra}
    spec = RenderSpec(
        scene=str(tmp_path / "p" / "scene.txt"), size=(8, 6), settings=settings, seed=1
    )
    command, remark = renderer.command_for(spec).split("\n")
    told = f"import os; open({str(tmp_path / 'told')!r}, 'w').write(os.environ['MORE'])"
    line = command.replace(f"{renderer.path.parent}/program.py", f"-c {shlex.quote(told)}")
    subprocess.run(line, shell=True, cwd=tmp_path, check=True, capture_output=True)
    assert (tmp_path / "told").read_text() == extra
    assert command.startswith("ALL=settings.json MORE=")
    assert json.loads(remark.removeprefix("# in settings.json: ")) == settings


def test_the_pick_leaves_as_the_command_that_renders_it(tmp_path: Path) -> None:
    """Each command is run, and its picture is the one that a study has."""
    renderer = CommandRenderer(BEADS)
    confirm(renderer.seen)
    settings = dict(
        Configuration(
            renderer.catalogue, {"samples.max": 2, "light.cap": 1.5, "picture.soften": 2.0}
        )
    )
    spec = RenderSpec(scene=str(SHELF), size=(16, 9), settings=settings, seed=3)
    command, *remarks = renderer.command_for(spec).split("\n")
    assert remarks[0] == f"# in a copy of {OUTSIDE}/studio.json: /studio/soften = 2"
    (tmp_path / "studio.json").write_text('{"studio": {"soften": 2.0, "rows": 45}}')
    subprocess.run(command, shell=True, cwd=tmp_path, check=True, capture_output=True)
    own, _ = CommandEngine(renderer).render(spec, None, lambda share: None, lambda stop: None)
    assert (read_exr(tmp_path / "picture.exr").beauty == own.beauty).all()
    staging = Staging(
        "0.2,0.3,0.5", 2.0, 30.0, viewpoint=Viewpoint((-0.5, 1.25, 4.0), (0.0, 0.5, 0.0), 35.0)
    )
    scene = str(GltfMaker().save(tmp_path / "the wall.glb"))
    settings = dict(Configuration(CATALOGUE, {"samples.max": 2, "device.threads": 1}))
    spec = RenderSpec(scene=scene, size=(16, 9), settings=settings, seed=1, staging=staging)
    words = shlex.split(RENDERER.command_for(spec))
    assert run([*words[1:4], str(tmp_path / "own.exr"), *words[5:]]) == 0
    own, _ = run_render(spec, SceneCache(), None)
    assert read_exr(tmp_path / "own.exr").beauty == pytest.approx(own.beauty, rel=1e-3), (
        "with its light and its camera"
    )


def test_frames_of_a_program_that_takes_none_are_all_the_same(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p")
    scene = str(tmp_path / "p" / "scene.txt")
    assert renderer.facts(scene, Configuration(renderer.catalogue), 0).still.endswith(
        "all frames are the same"
    )
    moving = program(tmp_path / "q", ('"{seed}", "{arg', '"{seed}{frame}", "{arg'))
    facts = moving.facts(scene, Configuration(moving.catalogue), 0)
    assert (facts.still, facts.frames) == ("", None)
    base = Configuration(renderer.catalogue)
    seconds = Figure(1.0, 0.9, 1.1)
    found = FrameResults(
        FramePlan(0, 10, 2), {base: tuple(FrameResult(k, seconds, 0.0, 0.0, None) for k in (0, 10))}
    )
    first, second, *_ = forecast_sentences(found, {base: "base"})
    assert first.startswith("base: 11 frames take 11.0 s (")
    assert "built" not in first + second, "it keeps no scene"
    assert forecast_as_data(found, {base: "base"})["base"]["forecast"]["seconds_built_once"] is None


def test_the_built_in_renderer_by_its_command_line_draws_the_same(tmp_path: Path) -> None:
    scene = GltfMaker().save(tmp_path / "wall.glb")
    confirm(seen_file(OUTSIDE / "built-in.toml"))
    renderer = CommandRenderer(OUTSIDE / "built-in.toml")
    assert {one.key for one in renderer.described.setting} <= CATALOGUE.keys(), "presets fit both"
    settings = dict(
        Configuration(
            renderer.catalogue, {"samples.max": 4, "bounces.total": 2, "device.threads": 1}
        )
    )
    spec = RenderSpec(scene=str(scene), size=(16, 9), settings=settings, seed=5)
    picture, record = CommandEngine(renderer).render(
        spec, None, lambda share: None, lambda stop: None
    )
    own, _ = run_render(
        spec.model_copy(update={"settings": {**dict(Configuration(CATALOGUE)), **settings}}),
        SceneCache(),
        None,
    )
    assert picture.beauty == pytest.approx(own.beauty, rel=1e-3), "as exactly as its EXR keeps it"
    assert record.seconds["total"] > 0.1


def test_beginning_tells_what_measuring_with_another_renderer_takes(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    small = program(
        tmp_path / "p",
        ('label = "Way"', 'label = "Way"\ntried = ["well", "busy"]'),
        confirmed=False,
    )
    asked = [
        "begin",
        str(tmp_path / "p" / "scene.txt"),
        "--renderer",
        str(small.path),
        "--size",
        "8x6",
        "--json",
    ]
    assert run([*asked, "--yes"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["about"] == ["a small program does not tell what is in scene.txt"]
    assert told["cost"]["trials"] == 2
    assert told["worth_trying"][0]["key"] == "program.way"


def test_the_example_study_stands_with_its_files_wherever_it_is_copied(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    shutil.copytree(
        OUTSIDE,
        tmp_path / "outside",
        ignore=shutil.ignore_patterns("__pycache__", "results.*", "worker.log"),
    )
    study = tmp_path / "outside" / "shelf.study"
    assert run(["pick", str(study)]) == 3
    told = capsys.readouterr()
    assert (
        "outside/beadlight.toml: names programs to start and was not confirmed"
        in told.out + told.err
    )
    confirm(seen_file(tmp_path / "outside" / "beadlight.toml"))
    assert run(["limit", str(study), "grain", "8"]) == 0
    assert "16 of 16 trials to measure, 1,080 combinations" in capsys.readouterr().err
    assert 'scene = "../shelf.beads"' in (study / "study.toml").read_text()


def test_the_examples_are_renderer_files() -> None:
    for path in OUTSIDE.glob("*.toml"):
        assert described_by(seen_file(path)).setting

    for one in described_by(seen_file(OUTSIDE / "built-in.toml")).setting:
        for value in (
            one.default,
            one.reference,
            one.minimum,
            one.maximum,
            *one.tried,
            *one.values,
        ):
            if value is not None:
                CATALOGUE[one.key].check(value)  # else a render by the command line is refused
