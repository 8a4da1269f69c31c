"""Begin, from a scene to a study that is being measured."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings.presets import write_preset
from swift_sample.core.study.log.store import is_study
from swift_sample.core.study.plan.model import LIMIT_KEYS, Limits
from swift_sample.ui.window.shell import MainWindow
from tests.core.scene.gltf_maker import GltfMaker

RENDERING = 120_000
SCENE = "honey-stall-small"


def begun(window: MainWindow, qtbot: QtBot, scene: str = SCENE):
    window.begin(scene)
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=RENDERING)
    assert window.beginning is not None
    window.beginning.edit(size=(96, 54))

    return window.beginning


def button(window: MainWindow, text: str) -> QPushButton:
    return next(
        one
        for one in window.begin_page.findChildren(QPushButton)
        if one.text() == text and one.isVisible()
    )


def test_a_scene_is_seen_lit_framed_and_measured(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    beginning = begun(window, qtbot)
    page = window.begin_page
    qtbot.waitUntil(
        lambda: bool(beginning.crops) and beginning.costs is not None, timeout=RENDERING
    )
    assert "triangles" in page._holds.text()
    assert "camera and light are the scene's own" in page._made_up.text()
    before = beginning.light
    assert before is not None
    search, everything = beginning.costs or (None, None)
    assert search is not None
    assert everything is not None
    assert 0 < search.low < search.high < everything.high
    assert f"Measure all {everything.trials}" == page.everything.text()

    qtbot.mouseClick(button(window, "grey sky"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: beginning.samples == 32 and beginning.light is not before, timeout=RENDERING
    )
    assert beginning.draft.staging.environment == "0.5,0.5,0.5"
    where = beginning.facts.viewpoint
    page.stage.setFocus()
    qtbot.keyClick(page.stage, Qt.Key.Key_Left)
    moved = beginning.draft.staging.viewpoint
    assert moved is not None
    assert moved.position != where.position
    assert moved.target == where.target
    centre = page.stage.rect().center()
    qtbot.mousePress(page.stage, Qt.MouseButton.LeftButton, pos=centre)
    qtbot.mouseMove(page.stage, centre + QPoint(40, 10))
    qtbot.mouseRelease(page.stage, Qt.MouseButton.LeftButton)

    grain = page._crop_buttons["grain", 8.0]
    qtbot.mouseClick(grain, Qt.MouseButton.LeftButton)
    assert beginning.draft.limits.grain == 8.0
    beginning.choose("tiles.size", False)
    assert "tiles.size" not in beginning.draft.values_to_try()
    draft = beginning.draft
    qtbot.mouseClick(page.fastest, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.activity.searching, timeout=RENDERING
    )
    assert window.beginning is None
    assert window.session is not None
    assert window.session.study == draft
    assert is_study(window.session.path)
    window.session.stop()


LYING = [-0.7071068, 0, 0, 0.7071068]
TURNED = [0, 0.7071068, 0, 0.7071068]
"""A square that lies on its back, and one that looks along +X."""


def interior(path: Path) -> Path:
    """Floor, back wall and side wall, a lamp, and two cameras with names."""
    lens = {"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.01}}
    nodes = [
        {"mesh": 0, "rotation": LYING, "scale": [4, 4, 4], "translation": [-2, 0, 2]},
        {"mesh": 0, "scale": [4, 3, 1], "translation": [-2, 0, -2]},
        {"mesh": 0, "rotation": TURNED, "scale": [4, 3, 1], "translation": [-2, 0, 2]},
        {"name": "door", "camera": 0, "translation": [0.5, 1.4, 4]},
        {"name": "desk", "camera": 0, "translation": [0, 0.8, 1.5]},
        {"translation": [0, 2.2, 0.5], "extensions": {"KHR_lights_punctual": {"light": 0}}},
    ]

    return GltfMaker(
        nodes=nodes,
        scenes=[{"nodes": list(range(len(nodes)))}],
        cameras=[lens],
        materials=[
            {"name": "plaster", "doubleSided": True, "pbrMetallicRoughness": {"metallicFactor": 0}}
        ],
        extensionsUsed=["KHR_lights_punctual"],
        extensions={"KHR_lights_punctual": {"lights": [{"type": "point", "intensity": 6}]}},
    ).save(path)


def product(path: Path) -> Path:
    """A shiny card that stands on a table, without camera and light."""
    nodes = [
        {"mesh": 0, "rotation": LYING, "scale": [3, 3, 3], "translation": [-1, 0, 1.5]},
        {"mesh": 0, "scale": [0.8, 1.2, 1]},
    ]
    shiny = {"metallicFactor": 1, "roughnessFactor": 0.25, "baseColorFactor": [0.8, 0.5, 0.2, 1]}
    materials = [{"name": "brass", "doubleSided": True, "pbrMetallicRoughness": shiny}]

    return GltfMaker(nodes=nodes, scenes=[{"nodes": [0, 1]}], materials=materials).save(path)


@pytest.mark.parametrize(
    ("make", "cameras", "made_up"),
    [(interior, ("door", "desk"), ()), (product, (), ("camera in the file", "light in the file"))],
)
def test_own_scenes_of_different_kinds_come_to_an_answer(
    window: MainWindow,
    qtbot: QtBot,
    tmp_path: Path,
    make,
    cameras: tuple[str, ...],
    made_up: tuple[str, ...],
) -> None:
    scene = make(tmp_path / f"{make.__name__}.glb")
    window.files.take([scene])
    qtbot.waitUntil(lambda: window.beginning is not None, timeout=RENDERING)
    beginning = window.beginning
    assert beginning.facts.cameras == cameras
    assert all(any(words in note for note in beginning.facts.notes) for words in made_up)
    assert list(tmp_path.glob("*.study")) == [], "nothing is written yet"

    if cameras:
        qtbot.wait(
            200
        )  # clicks find their button by its place, which the page has once it is laid out
        qtbot.mouseClick(button(window, "desk"), Qt.MouseButton.LeftButton)
        assert beginning.draft.staging.camera == "desk"

    beginning.edit(size=(64, 36), limits=Limits(**{**dict.fromkeys(LIMIT_KEYS), "grain": 30.0}))
    for key in beginning.chosen - {"samples.max"}:
        beginning.choose(key, False)

    qtbot.waitUntil(
        lambda: beginning.samples > 0 and beginning.light is not None, timeout=RENDERING
    )
    assert beginning.light.max() > 0.01, "something is seen"
    qtbot.mouseClick(window.begin_page.fastest, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.pick() is not None, timeout=RENDERING
    )
    qtbot.waitUntil(lambda: not window.session.activity.measuring, timeout=RENDERING)
    assert window.session.path == scene.with_suffix(".study")
    qtbot.waitUntil(lambda: window.verdict._seconds.text().endswith(" s"), timeout=5000)
    assert window.take_pick() is not None


def test_a_worker_that_was_kept_ready_shows_the_first_picture(
    window: MainWindow, qtbot: QtBot
) -> None:
    window.entrance.prepares_previews = True
    window.entrance.prepare_preview()
    warm = window.entrance._warm
    assert warm is not None
    qtbot.waitUntil(lambda: bool(warm._kept), timeout=RENDERING)
    beginning = begun(window, qtbot)
    assert beginning._worker is warm
    assert window.entrance._warm is None
    qtbot.waitUntil(lambda: beginning.samples > 0, timeout=RENDERING)
    qtbot.mouseClick(button(window, "Cancel"), Qt.MouseButton.LeftButton)
    assert not warm.folder.exists()


def test_what_can_be_typed_can_also_be_dropped(
    window: MainWindow, qtbot: QtBot, tmp_path: Path
) -> None:
    beginning = begun(window, qtbot)
    preset = tmp_path / "mine.toml"
    write_preset(preset, beginning.draft.base.replace({"samples.max": 48, "bounces.total": 5}))
    window.files.take([preset])
    assert (beginning.draft.base["samples.max"], beginning.draft.base["bounces.total"]) == (48, 5)
    assert max(beginning.draft.values_to_try()["samples.max"]) == 48, "nothing slower than today"
    sky = tmp_path / "sky.exr"
    write_exr(sky, Picture(np.ones((4, 8, 3), np.float32)))
    window.files.take([sky])
    assert beginning.draft.staging.environment == str(sky)
    finished = tmp_path / "finished.exr"
    spec = RenderSpec(
        scene=SCENE, size=(16, 9), settings={"samples.max": 6, "bounces.total": 3}, seed=1
    )
    run_render(spec, SceneCache(), finished)
    window.files.take([finished])
    assert (beginning.draft.base["samples.max"], beginning.draft.base["bounces.total"]) == (6, 3)
    assert beginning.draft.staging.environment == str(sky), "a finished render is no light"
    (tmp_path / "other.toml").write_text('[settings]\n"samples.most" = 3\n')
    window.files.take([tmp_path / "other.toml"])
    assert "samples.most" in window.notice.text()
    assert beginning.draft.base["samples.max"] == 6
    qtbot.waitUntil(lambda: beginning.samples > 0, timeout=RENDERING)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda b: b.edit(size=(0, 20)), "size=0x20"),
        (lambda b: b.stage(lambda s: replace(s, strength=-1.0)), "light.strength=-1"),
        (
            lambda b: b.stage(lambda s: replace(s, environment="/nowhere/sky.hdr")),
            "no such environment picture",
        ),
        (lambda b: b.base_from_file(Path("/nowhere.toml")), "not a readable preset"),
    ],
)
def test_bad_input_is_told_and_what_was_there_stays(
    window: MainWindow, qtbot: QtBot, change, words: str
) -> None:
    beginning = begun(window, qtbot)
    change(beginning)
    qtbot.waitUntil(lambda: words in window.notice.text(), timeout=RENDERING)
    assert beginning.draft.size == (96, 54)
    qtbot.waitUntil(lambda: beginning.draft.staging == Staging(), timeout=RENDERING)
    qtbot.mouseClick(button(window, "Cancel"), Qt.MouseButton.LeftButton)
    assert window.beginning is None
    assert window.session is None


def test_an_open_study_is_looked_at_again(
    window: MainWindow, qtbot: QtBot, study_path: Path
) -> None:
    window.open_study(study_path)
    qtbot.waitUntil(
        lambda: window.session is not None and window.session.facts is not None, timeout=RENDERING
    )
    session = window.session
    before = session.study
    window.look_again()
    beginning = window.beginning
    assert beginning.draft == before
    assert beginning.chosen == set(before.values_to_try())
    beginning.place_camera(lambda view: view.orbited(20, 5))
    beginning.set_limit("grain", 3.25)
    qtbot.waitUntil(lambda: beginning.samples > 0, timeout=RENDERING)
    qtbot.mouseClick(button(window, "To the map"), Qt.MouseButton.LeftButton)
    assert window.beginning is None
    qtbot.waitUntil(lambda: session.study.staging.viewpoint is not None, timeout=RENDERING)
    assert session.study.limits.grain == 3.25
    assert session.study.values_to_try() == before.values_to_try()
    session.undo()
    qtbot.waitUntil(lambda: session.study == before, timeout=RENDERING)
    window.look_again()
    qtbot.mouseClick(button(window, "Cancel"), Qt.MouseButton.LeftButton)
    assert window.session is session
    assert session.study == before
