import numpy as np
import pytest

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.scene.environment import parse_environment
from swift_sample.core.scene.model import Choices
from swift_sample.core.scene.open import open_scene, scene_fingerprint
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
        (
            box("b", 0, (1.2, 2.2, 3.2), 0.1),
            6.0 + 0.2 * (2 + 3 + 6) + 2 * 0.01 * (1 + 2 + 3) + 8 / 6 * 1e-3,
        ),
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
    one = open_scene("honey-stall-small")
    other = open_scene("honey-stall-small")
    assert all(
        np.array_equal(a.positions, b.positions)
        for a, b in zip(one.meshes, other.meshes, strict=True)
    )
    assert np.array_equal(one.environment.pixels, other.environment.pixels)
    names = {m.name for m in one.materials}
    assert {
        "jar glass",
        "blossom honey",
        "beeswax",
        "brass",
        "burlap",
        "oiled wood",
        "ribbed glass",
        "flame",
    } <= names
    assert all(np.isfinite(m.positions).all() for m in one.meshes)
    assert open_scene("honey-stall").triangle_count > 2 * one.triangle_count


@pytest.mark.parametrize("name", ["jar", "honey"])
def test_vessels_are_closed(name: str) -> None:
    for mesh in open_scene("honey-stall-small").meshes:
        if mesh.name == name:
            assert volume(mesh) > 0
            edges = np.sort(
                np.round(mesh.positions[mesh.corners[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)], 6),
                axis=1,
            )
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
        opaque = (
            1.0
            if use is None
            else (use.texture.pixels[..., 3] > 0).mean() * 4 / np.pi - (4 / np.pi - 1)
        )
        lids[variant] = area * opaque

    assert lids["drilled lid"] == pytest.approx(lids["cut-out lid"], rel=0.03)
    with pytest.raises(SceneError, match="there are cut-out lid, drilled lid"):
        open_scene("honey-stall", Choices(variant="none"))


def test_the_camera_starts_at_rest_and_moves() -> None:
    still = open_scene("honey-stall-small")
    later = open_scene("honey-stall-small", Choices(frame=24, shutter=0.5))
    assert still.camera.closing is None
    assert later.camera.closing is not None
    assert later.camera.position != still.camera.position
    assert later.frames == 48


@pytest.mark.parametrize("name", ["honey-room", "honey-jar"])
def test_the_other_demo_scenes_are_whole_and_named(name: str) -> None:
    """Normals of unit length, corners inside, each scene with its own version, and no variant that
    it does not have."""
    scene = open_scene(name)
    for mesh in scene.meshes:
        assert mesh.corners.max() < len(mesh.positions), mesh.name
        assert np.linalg.norm(mesh.normals, axis=1) == pytest.approx(1.0, abs=1e-3), mesh.name
        assert 0 <= mesh.material < len(scene.materials)

    assert scene_fingerprint(name) != scene_fingerprint("honey-stall")
    with pytest.raises(SceneError, match="not one of its variants; it has none"):
        open_scene(name, Choices(variant="gilded"))


def test_the_honey_room_is_lit_through_its_window_alone() -> None:
    """From the middle of the room towards everywhere: only what looks out of the window meets no
    wall."""
    scene = open_scene("honey-room")
    shell = [m for m in scene.meshes if "wall" in m.name or m.name in ("floor", "ceiling")]
    triangles = np.concatenate([m.positions[m.corners].astype(float) for m in shell])
    rng = np.random.default_rng(1)
    origin = np.array([0.1, 0.2, 0.5])
    towards = rng.normal(size=(400, 3))
    open_ = [
        d
        for d in towards / np.linalg.norm(towards, axis=1)[:, None]
        if not _meets(triangles, origin, d)
    ]
    assert open_, "the window is open"
    low, high = np.array([-1.0, 0.02, -0.22]), np.array([-0.8, 0.62, 0.34])

    for d in open_:
        at = origin + d * (low[0] - origin[0]) / d[0]
        assert d[0] < 0
        assert (low[1:] - 0.06 <= at[1:]).all()
        assert (at[1:] <= high[1:] + 0.06).all()


def _meets(triangles: np.ndarray, origin: np.ndarray, direction: np.ndarray) -> bool:
    """Whether a ray meets any triangle (Moeller and Trumbore 1997)."""
    a = triangles[:, 0]
    u = triangles[:, 1] - triangles[:, 0]
    v = triangles[:, 2] - triangles[:, 0]
    p = np.cross(direction, v)
    scale = (u * p).sum(axis=1)

    with np.errstate(divide="ignore", invalid="ignore"):
        t = origin - a
        one = (t * p).sum(axis=1) / scale
        q = np.cross(t, u)
        two = (q @ direction) / scale
        far = (v * q).sum(axis=1) / scale
        return bool(((one >= 0) & (two >= 0) & (one + two <= 1) & (far > 0)).any())
