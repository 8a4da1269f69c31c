"""From a dropped scene to an answer, on scenes of the kinds on which artists did not get one: an
acceptable pick that is not slower than today's settings and has no change that does nothing, or a
sentence that says why there is none."""

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from swift_sample.cli import run
from swift_sample.core.scene.lighting import DARK_GLOW_NOTE, SOFT_SKY
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.ui.window.shell import MainWindow
from tests.scenes_of_others import bare_bust, lantern, plaque, remote_control

SIZE = "112x63"
BUDGET = "25"
WITHIN = 1.05
"""Times of the pick and of the base are told apart from this factor on, beside their intervals."""


def answered(study: Path, capsys: pytest.CaptureFixture) -> dict:
    """What `pick` tells of a study that was searched."""
    status = run(["pick", str(study), "--json"])
    data = json.loads(capsys.readouterr().out)
    assert status == (0 if data["pick"] is not None else 3)

    return data


def assert_is_an_answer(data: dict) -> None:
    pick = data["pick"]
    if pick is None:
        assert data["help"] is not None, "nothing was measured whole"
        assert data["help"]["failing"] or data["help"]["why"]
        assert data["help"]["why"]
        return

    assert pick["verdict"] == "acceptable"
    faster = pick["times_faster_than_base"]
    assert faster["high"] * WITHIN >= 1, f"slower than today: {pick['differs_from_base']}"

    for one in pick["contributions"]:
        told = one["times_faster"]
        assert told is None or told["high"] * WITHIN >= 1, f"{one['setting']} only takes time"


@pytest.mark.parametrize("made", [remote_control, bare_bust, plaque, lantern])
def test_a_foreign_scene_gets_an_answer_on_the_command_line(
    made: Callable[[Path], Path], tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    scene = made(tmp_path)
    study = tmp_path / "a.study"
    assert run(["begin", str(scene), "--size", SIZE]) == 0
    assert (
        run(["new", str(study), "--scene", str(scene), "--size", SIZE, "--set", "samples.max=64"])
        == 0
    )
    said = capsys.readouterr()
    assert "one a render counts as the limit" in said.err, (
        "the picture is small, and what that means is said before"
    )
    assert run(["search", str(study), "--budget", BUDGET]) in (0, 3)
    capsys.readouterr()
    data = answered(study, capsys)
    assert_is_an_answer(data)

    with look_at_study(study) as reading:
        snapshot = read_snapshot(reading)

        lit = snapshot.study.staging.environment
        assert lit == (SOFT_SKY if made is remote_control else None)

        if made is plaque:
            tried = {
                trial.configuration["textures.prepared"]
                for trial in snapshot.results.trials
                if trial.is_on_map
            }
            assert tried == {True, False} or "textures" in snapshot.untouched_words


def test_what_only_glows_a_little_is_lit_in_the_window_and_gets_an_answer(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    """U3: 99.2 % of the first picture was black, and nothing said so."""
    scene = remote_control(tmp_path)
    window.files.take([scene])
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=60_000)
    beginning = window.beginning
    assert beginning is not None
    beginning.edit(size=(112, 63))
    qtbot.waitUntil(
        lambda: beginning.light_note == DARK_GLOW_NOTE and beginning.pilot is not None,
        timeout=120_000,
    )
    assert beginning.draft.staging.environment == SOFT_SKY
    assert DARK_GLOW_NOTE in window.begin_page._made_up.text()
    beginning.stage(lambda staging: type(staging)())
    qtbot.waitUntil(lambda: "nearly black" in beginning.light_note, timeout=120_000)
    assert beginning.draft.staging.environment is None, "taken off, it stays off"
