import numpy as np
import pytest

from swift_sample.core.render.traverse import any_hit, closest_hit, new_traversal_scratch
from swift_sample.core.render.tree import Tree, build_tree

RAYS = 600


def brute_force(corners: np.ndarray, origin: np.ndarray, direction: np.ndarray) -> float:
    """Distance to the nearest triangle by Moeller and Trumbore in float64, infinity for none."""
    a, e1, e2 = (corners[:, 0].astype(float), (corners[:, 1] - corners[:, 0]).astype(float),
                 (corners[:, 2] - corners[:, 0]).astype(float))
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
    tree, scratch = build_tree(corners), new_traversal_scratch()
    rng = np.random.default_rng(5)
    origins = rng.uniform(-1.5, 1.5, (RAYS, 3)).astype(np.float32)
    directions = rng.normal(size=(RAYS, 3))
    directions[:50] = np.eye(3)[rng.integers(0, 3, 50)]
    directions = (directions / np.linalg.norm(directions, axis=1)[:, None]).astype(np.float32)
    limit, hits = np.float32(0.7), 0
    for origin, direction in zip(origins, directions, strict=True):
        expected = brute_force(corners, origin, direction)
        o, d = tuple(origin), tuple(direction)
        distance, slot = closest_hit(tree, o, d, np.float32(1e30), scratch)
        if np.isfinite(expected):
            hits += 1
            assert slot >= 0
            assert distance == pytest.approx(expected, rel=1e-3, abs=1e-5)
            assert tree.triangles[slot] >= 0
        else:
            assert slot == -1
        if abs(expected - limit) > 1e-3:
            assert any_hit(tree, o, d, limit, scratch) == (expected < limit)
    assert hits > 3


def test_every_triangle_is_in_the_tree_once() -> None:
    tree: Tree = build_tree(triangles("cloud"))
    held = np.sort(tree.triangles[tree.triangles >= 0])
    assert (held == np.arange(2000)).all()
    assert tree.nodes.ctypes.data % 64 == 0
    assert tree.packets.ctypes.data % 64 == 0
