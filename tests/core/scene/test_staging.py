import math
from dataclasses import replace

import numpy as np
import pytest

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.scene.facts import about
from swift_sample.core.scene.model import Camera
from swift_sample.core.scene.open import open_scene
from swift_sample.core.scene.staging import (
    NO_CAMERA_NOTE,
    NO_LIGHT_NOTE,
    Staging,
    Viewpoint,
    staged,
    viewpoint_of,
)

STALL = open_scene("honey-stall-small")


def test_light_replaces_the_scenes_own_or_turns_it() -> None:
    scene = replace(STALL, notes=[NO_LIGHT_NOTE, "kept"])
    lit = staged(scene, Staging("0.5,1,2", 3.0, 90.0))
    assert np.allclose(lit.environment.pixels, [[[1.5, 3.0, 6.0]]])
    assert lit.environment.turn == pytest.approx(math.pi / 2)
    assert lit.notes == ["kept"], "the light is no longer made up"
    turned = staged(scene, Staging(strength=2.0, turn=180.0))
    assert np.allclose(turned.environment.pixels, 2 * scene.environment.pixels)
    assert turned.environment.turn == pytest.approx(scene.environment.turn + math.pi)
    assert staged(scene, Staging()) == scene


def test_a_camera_is_chosen_by_name_or_placed_by_hand() -> None:
    scene = replace(
        STALL,
        cameras={"front": STALL.camera, "near": Camera(position=(0, 1, 1), target=(0, 1, 0))},
        notes=[NO_CAMERA_NOTE],
    )
    near = staged(scene, Staging(camera="near"))
    assert near.camera.position == (0, 1, 1)
    assert near.camera.aperture == scene.camera.aperture, "the lens stays"
    with pytest.raises(
        SceneError, match="camera=far is not one of its cameras; there are front, near"
    ):
        staged(scene, Staging(camera="far"))

    placed = staged(scene, Staging(viewpoint=Viewpoint((0, 1, 5), (0, 1, 0), 30.0)))
    assert placed.camera.vertical_field == pytest.approx(math.radians(30))
    assert placed.notes == [], "the camera is no longer made up"


def test_turning_moving_and_nearing_keep_what_they_should() -> None:
    start = Viewpoint((0.0, 1.0, 4.0), (0.0, 1.0, 0.0), 40.0)
    turned = start.orbited(90.0, 0.0)
    assert turned.position == pytest.approx((-4.0, 1.0, 0.0), abs=1e-5)
    assert math.dist(start.orbited(20, 70).position, start.target) == pytest.approx(4.0, abs=1e-4)
    assert start.orbited(0.0, 500.0).position[1] == pytest.approx(
        1 + 4 * math.sin(math.radians(89)), abs=1e-4
    )
    moved = start.moved(0.5, 0.25)
    height = 2 * 4 * math.tan(math.radians(20))
    assert moved.target == pytest.approx((0.5 * height, 1 + 0.25 * height, 0.0), abs=1e-5)
    assert math.dist(moved.position, moved.target) == pytest.approx(4.0, abs=1e-4)
    assert start.nearer(0.5).position == pytest.approx((0.0, 1.0, 2.0))
    own = viewpoint_of(STALL)
    seen = staged(STALL, Staging(viewpoint=own)).camera
    assert seen.position == pytest.approx(STALL.camera.position, abs=1e-5)
    forward = np.subtract(seen.target, seen.position)
    own_forward = np.subtract(STALL.camera.target, STALL.camera.position)
    assert np.dot(forward, own_forward) == pytest.approx(
        np.linalg.norm(forward) * np.linalg.norm(own_forward), rel=1e-5
    )


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Staging(strength=-1.0), "light.strength=-1"),
        (lambda: Staging(turn=math.inf), "light.turn=inf"),
        (lambda: Viewpoint((0, 0, 0), (0, 0, 0)), "are the same"),
        (lambda: Viewpoint((0, 0, 1), (0, 0, 0), 180.0), "camera.field=180"),
        (lambda: Viewpoint((0, 0, math.nan), (0, 0, 0)), "finite"),
    ],
)
def test_what_cannot_be_is_refused(make, words: str) -> None:
    with pytest.raises(UsageError, match=words):
        make()


def test_each_staging_has_a_fingerprint_of_its_own() -> None:
    hand = Viewpoint((0, 0, 1), (0, 0, 0))
    all_different = [
        Staging(),
        Staging(strength=2.0),
        Staging(turn=2.0),
        Staging(camera="2.0"),
        Staging(viewpoint=hand),
    ]
    assert len({one.fingerprint() for one in all_different}) == 5
    assert Staging("1,1,1").fingerprint() == "", "the light has a name of its own"


def test_what_a_scene_holds_is_told_in_words() -> None:
    words = about(STALL)
    assert words[0] == f"{STALL.triangle_count:,} triangles"
    assert {"glass", "cut-outs", "light below surfaces", "haze"} <= set(words)
