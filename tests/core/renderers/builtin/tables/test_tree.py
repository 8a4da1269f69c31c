import numpy as np
import pytest

from swift_sample.core.renderers.builtin.tables.tree import Tree, build_tree
from tests.core.renderers.builtin.kernels.rays import Rays

RAYS = 600


def brute_force(corners: np.ndarray, origin: np.ndarray, direction: np.ndarray) -> float:
    """Distance to the nearest triangle by Moeller and Trumbore in float64, infinity for none."""
    a = corners[:, 0].astype(float)
    e1 = (corners[:, 1] - corners[:, 0]).astype(float)
    e2 = (corners[:, 2] - corners[:, 0]).astype(float)
    p = np.cross(direction, e2)

    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1 / (e1 * p).sum(axis=1)
        u = ((origin - a) * p).sum(axis=1) * inverse
        q = np.cross(origin - a, e1)
        v = (q * direction).sum(axis=1) * inverse
        t = (e2 * q).sum(axis=1) * inverse
        hit = (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 1e-5)

    return float(t[hit].min()) if hit.any() else float("inf")


def triangles(kind: str) -> np.ndarray:
    rng = np.random.default_rng(3)
    if kind == "one":
        return np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]], np.float32)
    if kind == "coincident":
        return np.repeat(triangles("one"), 300, axis=0)

    if kind == "line":
        shift = np.zeros((200, 1, 3), np.float32)
        shift[:, 0, 2] = np.geomspace(1e-3, 1, 200)
        return triangles("one") + shift

    spread = rng.uniform(-1, 1, (2000, 1, 3))
    return (spread + rng.normal(0, 0.08, (2000, 3, 3))).astype(np.float32)


@pytest.mark.parametrize("kind", ["one", "coincident", "line", "cloud"])
def test_agrees_with_brute_force(kind: str) -> None:
    corners = triangles(kind)
    tree = build_tree(corners)
    rays = Rays(tree)
    rng = np.random.default_rng(5)
    origins = rng.uniform(-1.5, 1.5, (RAYS, 3)).astype(np.float32)
    directions = rng.normal(size=(RAYS, 3))
    directions[:50] = np.eye(3)[rng.integers(0, 3, 50)]
    directions = (directions / np.linalg.norm(directions, axis=1)[:, None]).astype(np.float32)
    limit = np.float32(0.7)
    hits = 0

    for origin, direction in zip(origins, directions, strict=True):
        expected = brute_force(corners, origin, direction)
        distance, slot = rays.closest(origin, direction)

        if np.isfinite(expected):
            hits += 1
            assert slot >= 0
            assert distance == pytest.approx(expected, rel=1e-3, abs=1e-5)
            assert tree.triangles[slot] >= 0
        else:
            assert slot == -1

        if abs(expected - limit) > 1e-3:
            assert rays.any(origin, direction, limit) == (expected < limit)

    assert hits > 3


def test_every_triangle_is_in_the_tree_once() -> None:
    tree: Tree = build_tree(triangles("cloud"))
    held = np.sort(tree.triangles[tree.triangles >= 0])
    assert (held == np.arange(2000)).all()
    assert tree.nodes.ctypes.data % 64 == 0
    assert tree.packets.ctypes.data % 64 == 0


def test_the_tree_does_not_depend_on_threads() -> None:
    rng = np.random.default_rng(11)
    corners = (rng.uniform(-1, 1, (30_000, 1, 3)) + rng.normal(0, 0.01, (30_000, 3, 3))).astype(
        np.float32
    )
    one = build_tree(corners, threads=1)
    four = build_tree(corners, threads=4)
    assert one.nodes.tobytes() == four.nodes.tobytes()
    assert one.packets.tobytes() == four.packets.tobytes()


@pytest.mark.parametrize("time", [0.0, 0.3, 1.0])
def test_moving_triangles_are_met_where_they_are(time: float) -> None:
    corners = triangles("cloud")[:300]
    motion = np.random.default_rng(8).normal(0, 0.3, corners.shape).astype(np.float32)
    rays = Rays(build_tree(corners, motion))
    now = corners + np.float32(time) * motion
    rng = np.random.default_rng(9)
    hits = 0

    for _ in range(200):
        origin = rng.uniform(-1.5, 1.5, 3).astype(np.float32)
        direction = rng.normal(size=3)
        direction = (direction / np.linalg.norm(direction)).astype(np.float32)
        expected, (distance, slot) = (
            brute_force(now, origin, direction),
            rays.closest(origin, direction, time),
        )
        hits += slot >= 0
        assert (slot >= 0) == np.isfinite(expected)

        if slot >= 0:
            assert distance == pytest.approx(expected, rel=1e-3, abs=1e-4)

    assert hits > 20


def test_single_sided_triangles_are_not_there_from_behind() -> None:
    corners = triangles("one")
    front = np.array([0.2, 0.2, 1])
    back = np.array([0.2, 0.2, -1])

    for single, seen in ((False, 0), (True, -1)):
        rays = Rays(build_tree(corners), single=np.array([single]))
        assert rays.closest(front, -front + [0.2, 0.2, 0])[1] == 0
        assert rays.closest(back, -back + [0.2, 0.2, 0])[1] == seen


def walk(tree: Tree) -> list[tuple[np.ndarray, np.ndarray, list[int]]]:
    """Every child of every node: its box, and the triangles below it."""
    nodes = tree.nodes.reshape(-1, 64)
    references = tree.nodes.view(np.int32).reshape(-1, 64)
    seen: list[tuple[np.ndarray, np.ndarray, list[int]]] = []

    def below(node: int) -> list[int]:
        held: list[int] = []
        for lane in range(8):
            low, high = nodes[node, lane:24:8], nodes[node, 24 + lane : 48 : 8]
            if (low > high).any():
                continue

            reference = int(references[node, 48 + lane])
            if reference >= 0:
                own = below(reference)
            else:
                first = (-1 - reference) // 8
                count = (-1 - reference) % 8 + 1
                slots = tree.triangles[8 * first : 8 * (first + count)]
                own = [int(t) for t in slots if t >= 0]

            seen.append((low, high, own))
            held += own

        return held

    assert sorted(below(0)) == sorted(int(t) for t in tree.triangles if t >= 0)
    return seen


@pytest.mark.parametrize("kind", ["one", "coincident", "line", "cloud"])
def test_boxes_hold_exactly_what_is_below_them(kind: str) -> None:
    corners = triangles(kind)
    for low, high, held in walk(build_tree(corners)):
        assert (low == corners[held].min(axis=(0, 1))).all()
        assert (high == corners[held].max(axis=(0, 1))).all()


def test_boxes_of_moving_triangles_hold_both_ends() -> None:
    corners = triangles("cloud")
    motion = np.random.default_rng(6).normal(0, 0.1, corners.shape).astype(np.float32)
    ends = np.concatenate([corners, corners + motion], axis=1)

    for low, high, held in walk(build_tree(corners, motion)):
        assert (low == ends[held].min(axis=(0, 1))).all()
        assert (high == ends[held].max(axis=(0, 1))).all()


@pytest.mark.parametrize("scale", [1e-12, 1e-3, 1e6, 1e15])
def test_scenes_of_any_size_are_split(scale: float) -> None:
    """Boxes stay apart whatever the units: a ray meets few leaves, so a tree that is one large leaf
    would be a fault."""
    corners = (triangles("cloud") * np.float32(scale)).astype(np.float32)
    tree = build_tree(corners)
    assert len(tree.nodes) // 64 > 20
    assert sorted(t for t in tree.triangles if t >= 0) == list(range(2000))


def test_many_triangles_in_one_place_are_halved_by_count() -> None:
    """No split could tell them apart; leaves still hold at most eight packets."""
    tree = build_tree(np.repeat(triangles("one"), 5000, axis=0))
    assert sum(len(held) for _, _, held in walk(tree)) >= 5000
    references = tree.nodes.view(np.int32).reshape(-1, 64)[:, 48:56]
    leaves = references[references < 0]
    assert ((-1 - leaves) % 8 + 1 <= 8).all()
    assert len(leaves) >= 5000 / 64


def test_one_packet_is_never_split() -> None:
    """Eight triangles are tested at once, so two leaves could only cost more."""
    tree = build_tree(triangles("cloud")[:8])
    assert len(tree.triangles) == 8
    assert len(tree.nodes) == 64
