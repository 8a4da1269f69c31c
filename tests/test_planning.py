"""The plan from the command line: all that the window's pages edit."""

import json
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.settings.presets import write_preset
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.plan.model import Study


def plan_of(path: Path) -> Study:
    with look_at_study(path) as reading:
        return reading.state.plan


def test_a_plan_is_made_line_by_line(
    study_path: Path, tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    before = plan_of(study_path)
    preset = tmp_path / "mine.toml"
    write_preset(preset, before.base.replace({"bounces.total": 5}))
    sky = tmp_path / "sky.exr"
    write_exr(sky, Picture(np.ones((4, 8, 3), np.float32)))
    study = str(study_path)

    for line in (
        ["set", study, "samples.max=24", "tiles.size=16"],
        ["try", study, "samples.max", "4..16", "x2"],
        ["try", study, "samples.max", "6", "--add"],
        ["try", study, "bounces.total", "1", "2"],
        ["sweep", study, "pair", "samples.max", "bounces.total"],
        ["limit", study, "grain", "3.5"],
        ["limit", study, "stray_pixels", "off"],
        ["area", study, "lid", "2,2,16,8"],
        ["limit", study, "grain", "1.5", "--area", "lid"],
        [
            "view",
            study,
            "--exposure",
            "0.5",
            "--curve",
            "soft",
            "--environment",
            str(sky),
            "--turn",
            "30",
        ],
        ["view", study, "--position", "0,1,4", "--target", "0,0.3,0", "--field", "35"],
        ["goal", study, "first-picture"],
        ["goal", study, "final"],
        ["forbid", study, "bounces.total", "1"],
    ):
        assert run(line) == 0, line

    plan = plan_of(study_path)
    assert (plan.base["samples.max"], plan.base["tiles.size"]) == (24, 16)
    assert plan.values_to_try()["samples.max"] == (4, 8, 16, 6)
    assert [set(grid.values) for grid in plan.grids()] == [{"samples.max", "bounces.total"}]
    assert (plan.limits.grain, plan.limits.stray_pixels) == (3.5, None)
    assert [(area.name, area.width, area.limits.grain) for area in plan.areas] == [("lid", 16, 1.5)]
    assert (plan.view.exposure, plan.view.curve) == (0.5, "soft")
    assert (plan.staging.environment, plan.staging.turn, plan.staging.viewpoint.field) == (
        str(sky),
        30.0,
        35.0,
    )
    assert plan.forbidden == {"bounces.total": (1,)}
    told = capsys.readouterr().err
    assert "must not be used: Bounces, all kinds 1" in told
    assert "trials to measure" in told

    for line in (
        ["base", study, "--keep", "mine"],
        ["base", study, "--compare", "mine"],
        ["base", study, "--preset", str(preset)],
        ["base", study, "--keep", "five"],
        ["base", study, "--use", "mine"],
        ["base", study, "--use", "five"],
        ["view", study, "--environment", "own", "--camera", "own"],
        ["forbid", study, "bounces.total", "1", "--allow"],
        ["area", study, "lid", "--remove"],
        ["try", study, "bounces.total"],
    ):
        assert run(line) == 0, line

    capsys.readouterr()
    assert run(["sweep", study, "none", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["base"]["bounces.total"] == 5
    plan = plan_of(study_path)
    assert (plan.grids(), plan.areas, plan.forbidden) == ((), (), {})
    assert "bounces.total" not in plan.values_to_try()
    assert plan.staging.environment is None
    assert (plan.base_name, plan.bases["mine"]["bounces.total"]) == (
        "five",
        before.base["bounces.total"],
    )
    assert run(["preset", study, "--of", "base", "--form", "command"]) == 0
    assert "--set bounces.total=5" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (["set", "samples.max=many"], "samples.max=many: expected a whole number"),
        (["try", "samples.most", "3"], "samples.most"),
        (["limit", "graininess", "3"], "graininess: no such limit; expected one of grain"),
        (["limit", "grain", "little"], "grain=little: expected a number, or off"),
        (["limit", "grain", "3", "--area", "nowhere"], "area nowhere: there is none of that name"),
        (["area", "lid", "0,0,900,900"], "does not lie inside"),
        (["area", "lid"], "give its place"),
        (["base"], "give one of --preset"),
        (["base", "--use", "nothing"], "base nothing: no such name"),
        (["base", "--from-pick"], "has no pick yet"),
        (["preset"], "has no pick yet"),
        (["view", "--position", "0,1,4"], "needs --position and --target"),
        (
            ["view", "--position", "0,1", "--target", "0,0,0"],
            "position=0,1: expected three numbers",
        ),
        (["view", "--strength", "-2"], "light.strength=-2"),
        (["sweep", "pair", "samples.max"], "expected two settings"),
    ],
)
def test_bad_lines_say_what_was_expected_and_change_nothing(
    study_path: Path, capsys: pytest.CaptureFixture, line: list[str], words: str
) -> None:
    before = plan_of(study_path)
    assert run([line[0], str(study_path), *line[1:]]) != 0
    assert words in capsys.readouterr().err
    assert plan_of(study_path) == before


def test_a_scene_is_told_before_anything_is_written(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    begin = ["begin", "honey-stall-small", "--size", "48x27", "--set", "samples.max=32"]
    assert run([*begin, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert "glass" in told["about"]
    assert told["cost"]["once_seconds"] > 0
    assert told["cost"]["search_seconds"][0] < told["cost"]["everything_seconds"][1]
    assert {"samples.max", "bounces.total"} <= {
        one["key"] for one in told["worth_trying"] if one["first"]
    }
    assert (
        max(v for one in told["worth_trying"] if one["key"] == "samples.max" for v in one["values"])
        == 32
    )
    assert run([*begin, "--no-pilot"]) == 0
    words = capsys.readouterr().out
    assert "worth trying:" in words
    assert "not worth it: camera.motion_blur" in words
    assert list(tmp_path.iterdir()) == []
    assert run(["begin", "nowhere.glb"]) != 0
    assert "no such scene" in capsys.readouterr().err
