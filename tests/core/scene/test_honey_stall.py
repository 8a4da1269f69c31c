import numpy as np
import pytest

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.scene import Choices, open_scene, parse_environment, scene_fingerprint
from swift_sample.core.scene.shapes import ball, box, lathe, placed, ring


def volume(mesh) -> float:
    """Signed volume inside a closed mesh: positive where the front is outside."""
    a, b, c = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    return float((np.cross(a, b) * c).sum() / 6)


@pytest.mark.parametrize(
    ("mesh", "expected"),
    [
        (box("b", 0, (1, 2, 3), 1e-4), 6.0),
        # Inner box, six slabs, twelve halves of square rods, eight corners of a sixth of a cube.
        (box("b", 0, (1.2, 2.2, 3.2), 0.1), 6.0 + 0.2 * (2 + 3 + 6) + 2 * 0.01 * (1 + 2 + 3) + 8 / 6 * 1e-3),
        (ball("b", 0, 1.0, 256), 4 / 3 * np.pi),
        (ring("r", 0, 2.0, 0.5, 256, 128), 2 * np.pi**2 * 2.0 * 0.25),
        (lathe("l", 0, [(0, 0), (1, 0), (1, 2), (0, 2)], 512), 2 * np.pi),
        (placed(box("b", 0, (1, 1, 1), 1e-4), (3, 4, 5), 0.4, 0.5, 0.6), 1.0),
    ],
)
def test_shapes_are_closed_and_face_outwards(mesh, expected: float) -> None:
    assert volume(mesh) == pytest.approx(expected, rel=2e-3)


@pytest.mark.parametrize(
    "mesh",
    [
        box("b", 0, (1, 2, 3), 0.1),
        ball("b", 0, 1.0),
        ring("r", 0, 2.0, 0.5),
        lathe("l", 0, [(0.2, 0), (1, 0.5), (0.5, 2)], 32, 4),
    ],
)
def test_normals_are_unit_and_on_the_front(mesh) -> None:
    assert np.linalg.norm(mesh.normals, axis=1) == pytest.approx(1.0, abs=1e-4)
    a, b, c = (mesh.positions[mesh.corners[:, k]] for k in range(3))
    flat = np.cross(b - a, c - a)
    mean = sum(mesh.normals[mesh.corners[:, k]] for k in range(3))
    assert ((flat * mean).sum(axis=1) > 0).all()


def test_the_stall_is_the_same_every_time_and_complete() -> None:
    one, other = open_scene("honey-stall-small"), open_scene("honey-stall-small")
    assert all(np.array_equal(a.positions, b.positions) for a, b in zip(one.meshes, other.meshes, strict=True))
    assert np.array_equal(one.environment.pixels, other.environment.pixels)
    names = {m.name for m in one.materials}
    assert {"jar glass", "blossom honey", "beeswax", "brass", "burlap", "oiled wood", "ribbed glass", "flame"} <= names
    assert all(np.isfinite(m.positions).all() for m in one.meshes)
    assert open_scene("honey-stall").triangle_count > 2 * one.triangle_count


@pytest.mark.parametrize("name", ["jar", "honey"])
def test_vessels_are_closed(name: str) -> None:
    for mesh in open_scene("honey-stall-small").meshes:
        if mesh.name == name:
            assert volume(mesh) > 0
            edges = np.sort(np.round(mesh.positions[mesh.corners[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)], 6), axis=1)
            _, counts = np.unique(edges.reshape(len(edges), -1), axis=0, return_counts=True)
            assert (counts == 2).mean() > 0.9


def test_fingerprints_tell_scenes_apart() -> None:
    assert scene_fingerprint("honey-stall") != scene_fingerprint("honey-stall-small")
    assert scene_fingerprint("honey-stall") == scene_fingerprint("honey-stall")


@pytest.mark.parametrize("text", ["1,2", "a,b,c", "1,2,nan", "-1,0,0", ""])
def test_bad_environments_are_refused(text: str) -> None:
    with pytest.raises(UsageError, match="expected"):
        parse_environment(text)


def test_both_lids_let_light_through_the_same_holes() -> None:
    lids = {}
    for variant in ("cut-out lid", "drilled lid"):
        scene = open_scene("honey-stall-small", Choices(variant=variant))
        (lid,) = [mesh for mesh in scene.meshes if mesh.name == "tin lid"]
        a, b, c = (lid.positions[lid.corners[:, k]].astype(float) for k in range(3))
        area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()
        use = scene.materials[lid.material].textures.get("base")
        opaque = 1.0 if use is None else (use.texture.pixels[..., 3] > 0).mean() * 4 / np.pi - (4 / np.pi - 1)
        lids[variant] = area * opaque
    assert lids["drilled lid"] == pytest.approx(lids["cut-out lid"], rel=0.03)
    with pytest.raises(SceneError, match="there are cut-out lid, drilled lid"):
        open_scene("honey-stall", Choices(variant="none"))


def test_the_camera_starts_at_rest_and_moves() -> None:
    still, later = open_scene("honey-stall-small"), open_scene("honey-stall-small", Choices(frame=24, shutter=0.5))
    assert still.camera.closing is None
    assert later.camera.closing is not None
    assert later.camera.position != still.camera.position
    assert later.frames == 48
