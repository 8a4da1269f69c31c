"""Building blocks for scenes made by code: meshes with normals and texture coordinates.

Sizes in metres. Every function returns a Mesh around the origin; `placed` moves it.
"""

import itertools
from collections.abc import Callable, Sequence

import numpy as np

from swift_sample.core.scene.model import Mesh

LEAST_AREA_SQUARED = 1e-26
"""Triangles with less than this, in m^4 times four, are where a grid shrinks to a point, and are
left out."""


def placed(
    mesh: Mesh,
    position: Sequence[float] | np.ndarray = (0, 0, 0),
    turn: float = 0.0,
    tilt: float = 0.0,
    lean: float = 0.0,
) -> Mesh:
    """The mesh turned around Z (`lean`), X (`tilt`), then Y (`turn`), in radians, then moved."""
    rotation = _around(1, turn) @ _around(0, tilt) @ _around(2, lean)
    positions = (mesh.positions @ rotation.T + np.asarray(position)).astype(np.float32)
    normals = (mesh.normals @ rotation.T).astype(np.float32)

    return Mesh(
        name=mesh.name,
        material=mesh.material,
        positions=positions,
        corners=mesh.corners,
        normals=normals,
        uvs=mesh.uvs,
    )


def _around(axis: int, angle: float) -> np.ndarray:
    c = np.cos(angle)
    s = np.sin(angle)
    a, b = [(1, 2), (2, 0), (0, 1)][axis]
    rotation = np.eye(3)
    rotation[a, a] = c
    rotation[a, b] = -s
    rotation[b, a] = s
    rotation[b, b] = c

    return rotation


def sheet(
    name: str,
    material: int,
    columns: int,
    rows: int,
    surface: Callable[[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray, np.ndarray]],
    closed_u: bool = False,
) -> Mesh:
    """A grid over (u, v) in [0, 1]^2 bent by `surface`; the front is where d/du x d/dv points.

    Normals are smooth. With `closed_u` the normals at u = 0 and u = 1 are joined.
    """
    u, v = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0, 1, rows + 1))
    points = np.stack(surface(u, v), axis=-1)
    normals = _grid_normals(points, closed_u)
    index = np.arange((rows + 1) * (columns + 1)).reshape(rows + 1, columns + 1)
    a = index[:-1, :-1]
    b = index[:-1, 1:]
    c = index[1:, 1:]
    d = index[1:, :-1]
    corners = np.concatenate(
        [np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]
    )
    flat = points.reshape(-1, 3)
    edges = np.cross(
        flat[corners[:, 1]] - flat[corners[:, 0]], flat[corners[:, 2]] - flat[corners[:, 0]]
    )
    corners = corners[(edges**2).sum(axis=1) > LEAST_AREA_SQUARED]

    return Mesh(
        name=name,
        material=material,
        positions=flat.astype(np.float32),
        corners=corners.astype(np.int32),
        normals=normals.reshape(-1, 3).astype(np.float32),
        uvs=np.stack([u, v], -1).reshape(-1, 2).astype(np.float32),
    )


def _grid_normals(points: np.ndarray, closed_u: bool) -> np.ndarray:
    if closed_u:
        around = np.concatenate([points[:, -2:-1], points, points[:, 1:2]], axis=1)
        du = around[:, 2:] - around[:, :-2]
    else:
        du = np.gradient(points, axis=1)

    dv = np.gradient(points, axis=0)
    # Where a grid row shrinks to a point, the neighbouring row's direction stands in.
    for row, inner in ((0, 1), (-1, -2)):
        flat = np.linalg.norm(du[row], axis=-1) < 1e-9
        du[row][flat] = du[inner][flat]

    normals = np.cross(du, dv)
    return normals / np.maximum(np.linalg.norm(normals, axis=-1, keepdims=True), 1e-20)


def lathe(
    name: str,
    material: int,
    profile: Sequence[tuple[float, float]],
    segments: int = 96,
    smooth_steps: int = 0,
) -> Mesh:
    """Turn a profile of (radius, height) around +Y; listed from the bottom up, the outside is the
    front.

    With `smooth_steps` the profile is rounded by that many points a piece (Catmull and Rom 1974);
    otherwise every piece has its own flat normals, so that edges stay sharp.
    """
    points = np.asarray(profile, float)
    if smooth_steps:
        return _turned(name, material, _rounded(points, smooth_steps), segments)

    parts = [_turned(name, material, points[i : i + 2], segments) for i in range(len(points) - 1)]
    return joined(name, parts)


def _turned(name: str, material: int, profile: np.ndarray, segments: int) -> Mesh:
    lengths = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(profile, axis=0), axis=1))])
    at = lengths / max(lengths[-1], 1e-9)

    def surface(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        row = np.round(v * (len(profile) - 1)).astype(int)
        radius = profile[row, 0]
        height = profile[row, 1]
        angle = -2 * np.pi * u

        return radius * np.cos(angle), height, radius * np.sin(angle)

    mesh = sheet(name, material, segments, len(profile) - 1, surface, closed_u=True)
    rows = np.round(mesh.uvs[:, 1] * (len(profile) - 1)).astype(int)
    mesh.uvs[:, 1] = at[rows]

    return mesh


def _rounded(points: np.ndarray, steps: int) -> np.ndarray:
    padded = np.concatenate([[2 * points[0] - points[1]], points, [2 * points[-1] - points[-2]]])
    t = np.linspace(0, 1, steps, endpoint=False)[:, None]
    pieces = []

    for i in range(len(points) - 1):
        p0, p1, p2, p3 = padded[i : i + 4]
        pieces.append(
            0.5
            * (
                2 * p1
                + (p2 - p0) * t
                + (2 * p0 - 5 * p1 + 4 * p2 - p3) * t**2
                + (3 * p1 - p0 - 3 * p2 + p3) * t**3
            )
        )

    curve = np.concatenate([*pieces, points[-1:]])
    curve[:, 0] = np.maximum(curve[:, 0], 0)
    return curve


def joined(name: str, parts: Sequence[Mesh]) -> Mesh:
    """Several meshes of one material as one."""
    firsts = np.cumsum([0] + [len(p.positions) for p in parts[:-1]])
    return Mesh(
        name=name,
        material=parts[0].material,
        positions=np.concatenate([p.positions for p in parts]),
        corners=np.concatenate([p.corners + f for p, f in zip(parts, firsts, strict=True)]).astype(
            np.int32
        ),
        normals=np.concatenate([p.normals for p in parts]),
        uvs=np.concatenate([p.uvs for p in parts]),
    )


def box(
    name: str,
    material: int,
    size: Sequence[float],
    bevel: float = 0.004,
    texture_scale: float = 1.0,
) -> Mesh:
    """A box with bevelled edges and corners around the origin; texture runs along its longest side,
    in metres."""
    half = np.asarray(size, float) / 2
    inner = half - min(bevel, 0.49 * float(half.min()) * 2)
    longest = int(np.argmax(size))
    offset = np.modf(np.abs(np.sin(np.sum(half * [12.9898, 78.233, 37.719]))) * 43758.5453)[0]

    def point(outer_axis: int, *signs: float) -> np.ndarray:
        """A corner of the face that is perpendicular to an axis."""
        return np.where(np.arange(3) == outer_axis, half, inner) * signs

    corners = list(itertools.product((-1.0, 1.0), repeat=3))
    facets = [np.array([point(axis, *corner) for axis in range(3)]) for corner in corners]

    for axis in range(3):
        for side in (-1.0, 1.0):
            four = [corner for corner in corners if corner[axis] == side]
            facets.append(np.array([point(axis, *four[k]) for k in (0, 1, 3, 2)]))

    for along_axis in range(3):
        one, other = (axis for axis in range(3) if axis != along_axis)
        for low in (corner for corner in corners if corner[along_axis] < 0):
            high = tuple(-c if axis == along_axis else c for axis, c in enumerate(low))
            facets.append(
                np.array(
                    [point(one, *low), point(other, *low), point(other, *high), point(one, *high)]
                )
            )

    return joined(
        name, [_facet(name, material, facet, longest, texture_scale, offset) for facet in facets]
    )


def _facet(
    name: str, material: int, points: np.ndarray, longest: int, texture_scale: float, offset: float
) -> Mesh:
    """A flat polygon of three or four points that faces away from the origin."""
    normal = np.cross(points[1] - points[0], points[2] - points[0])
    if normal @ points[0] < 0:
        points = points[::-1]
        normal = -normal

    normal = normal / np.linalg.norm(normal)
    across = [x for x in range(3) if x != longest]

    uvs = np.stack(
        [
            points[:, longest] * texture_scale + offset,
            (points[:, across[0]] + points[:, across[1]]) * texture_scale + 7 * offset,
        ],
        -1,
    )
    fan = np.array([[0, k, k + 1] for k in range(1, len(points) - 1)], np.int32)

    return Mesh(
        name=name,
        material=material,
        positions=points.astype(np.float32),
        corners=fan,
        normals=np.repeat(normal[None], len(points), 0).astype(np.float32),
        uvs=uvs.astype(np.float32),
    )


def ball(name: str, material: int, radius: float, segments: int = 48) -> Mesh:
    """A sphere."""
    angles = np.linspace(-np.pi / 2, np.pi / 2, segments // 2 + 1)
    profile = np.stack([np.maximum(np.cos(angles), 0) * radius, np.sin(angles) * radius], -1)
    return _turned(name, material, profile, segments)


def ring(
    name: str, material: int, radius: float, thickness: float, segments: int = 64, sides: int = 16
) -> Mesh:
    """A torus lying flat."""

    def surface(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        around = -2 * np.pi * u
        over = 2 * np.pi * v
        reach = radius + thickness * np.cos(over)
        return reach * np.cos(around), thickness * np.sin(over), reach * np.sin(around)

    return sheet(name, material, segments, sides, surface, closed_u=True)


def flat_disc(name: str, material: int, radius: float, segments: int = 64) -> Mesh:
    """A disc facing +Y; its texture is the square around it, u along X and v along Z."""

    def surface(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        angle = -2 * np.pi * u
        return radius * (1 - v) * np.cos(angle), 0.0 * u, radius * (1 - v) * np.sin(angle)

    mesh = sheet(name, material, segments, 1, surface)
    mesh.uvs = (mesh.positions[:, [0, 2]] / (2 * radius) + 0.5).astype(np.float32)
    return _facing_up(mesh)


def pierced_disc(
    name: str, material: int, rings: list[list[float]], radius: float, segments: int
) -> Mesh:
    """A disc facing +Y with real holes. `rings` holds [inner radius, outer radius, holes, radius of
    each hole].

    Each hole stands in the middle of its cell, a piece of its ring; a ring of one cell has it in
    the disc's middle, and one of none is whole.
    """
    parts = []
    for inner, outer, count, hole in rings:
        cells = max(1, int(count))
        half = np.pi / cells
        steps = max(1, segments // (4 if count > 1 else 1))

        for k in range(cells):
            angle = 2 * np.pi * k / cells
            turn = np.linspace(angle - half, angle + half, steps + 1)

            if count > 1:
                ends = np.linspace(inner, outer, steps + 1)
                edge = np.concatenate(
                    [
                        _polar(np.full(steps, outer), turn[:-1]),
                        _polar(ends[::-1][:-1], turn[-1]),
                        _polar(np.full(steps, inner), turn[::-1][:-1]),
                        _polar(ends[:-1], turn[0]),
                    ]
                )

                middle = _polar(np.array([(inner + outer) / 2]), angle)[0]
                away = np.arctan2(edge[:, 1] - middle[1], edge[:, 0] - middle[0])
                rim = middle + _polar(np.full(len(edge), hole), away)
            else:
                edge = _polar(np.full(steps, outer), turn[:-1])
                rim = _polar(np.full(steps, hole if count else inner), turn[:-1])

            parts.append(_strip(name, material, rim, edge, radius))

    return _facing_up(joined(name, parts))


def _polar(reach: np.ndarray, angle: np.ndarray | float) -> np.ndarray:
    return np.stack([reach * np.cos(angle), reach * np.sin(angle) * np.ones_like(reach)], -1)


def _strip(name: str, material: int, rim: np.ndarray, edge: np.ndarray, radius: float) -> Mesh:
    """Triangles between two closed lines of equally many points in the plane Y = 0."""
    count = len(rim)
    flat = np.concatenate([rim, edge])
    here = np.arange(count)
    after = (np.arange(count) + 1) % count
    corners = np.concatenate(
        [
            np.stack([here, here + count, after + count], -1),
            np.stack([here, after + count, after], -1),
        ]
    )
    positions = np.stack([flat[:, 0], np.zeros(2 * count), flat[:, 1]], -1)

    return Mesh(
        name=name,
        material=material,
        positions=positions.astype(np.float32),
        corners=corners.astype(np.int32),
        normals=np.tile([[0, 1, 0]], (2 * count, 1)).astype(np.float32),
        uvs=(flat / (2 * radius) + 0.5).astype(np.float32),
    )


def _facing_up(mesh: Mesh) -> Mesh:
    """The same with every triangle's front, and every normal, towards +Y."""
    a, b, c = (mesh.positions[mesh.corners[:, k]] for k in range(3))
    down = np.cross(b - a, c - a)[:, 1] < 0
    mesh.corners[down] = mesh.corners[down][:, ::-1]
    mesh.normals = np.tile(np.array([[0, 1, 0]], np.float32), (len(mesh.positions), 1))

    return mesh
