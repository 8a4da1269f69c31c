"""Which lights reach where: tried out once for a scene and its camera, so that light samples go
where light comes from.

From where the camera looks, and where light goes on from there, every light cluster is tried by
shadow rays. By place, in cubes around what is seen, the share of what it might bring that a cluster
did bring multiplies its weight (`lights.weigh_lights`): the root of its mean square, which leaves
the least variance; never below 1 of 255, so that nothing is left out and no light is lost. Few
tries are drawn towards those of the larger cube around them (as Vévoda, Kondapaneni and Křivánek
2018, "Bayesian online regression for adaptive direct illumination sampling", ACM TOG 37(4), learn
clusters by place, and choose by second moments). Depends on nothing but scene and camera, so pixels
depend on no thread and no tile.
"""

import numpy as np
from scipy.sparse import csr_array

from swift_sample.core.kernels.compiling import from_python
from swift_sample.core.renderers.builtin.kernels.textures import make_room_for_tiles
from swift_sample.core.renderers.builtin.kernels.traverse import STACK_BYTES
from swift_sample.core.renderers.builtin.kernels.try_lights import (
    HITS,
    PLACE_FLOATS,
    find_places,
    try_clusters,
)
from swift_sample.core.renderers.builtin.lowlevel.records import (
    MAX_CLUSTERS,
    PATH,
    SKY,
    VISIBILITY_SIDE,
)
from swift_sample.core.renderers.builtin.lowlevel.schema import Records, address_of
from swift_sample.core.renderers.builtin.tables.lights import with_finer_sky
from swift_sample.core.renderers.builtin.tables.scene import (
    CompiledScene,
    Visibility,
    compile_camera,
    put_lights,
    put_visibility,
)
from swift_sample.core.scene.model import Camera

FIRST_PLACES = 256
"""Places at which the sky's patches are tried before they are cut anew."""
RAYS = 2048
"""From the camera."""
INNER = 2.0
"""Percent of the places that are left out at each end of each axis when the cubes are laid out."""
PRIOR_TRIES = 4.0
FIRST_MEAN_SQUARE = 0.5
"""Where little was tried, so many tries of the larger cube count; of the largest, tries with this
outcome."""


def learn_visibility(compiled: CompiledScene, camera: Camera, turn: float) -> None:
    """Try the lights of a compiled scene out, and let its record know. The sky, turned by `turn`,
    is cut into finer patches where it reaches what the camera sees."""
    if int(compiled.record.records[0]["cluster_count"]) < 2:
        return

    paths = Records(PATH)
    paths.bind("working", np.zeros(STACK_BYTES, np.uint8))
    make_room_for_tiles(paths, compiled.textures.tiles_on_disk, 0)
    rays = _camera_rays(camera)
    places = np.zeros((len(rays) * HITS, PLACE_FLOATS), np.float32)
    from_python(find_places)(
        compiled.address, paths.address, address_of(rays), len(rays), address_of(places)
    )
    places = np.ascontiguousarray(places[places[:, 6] > 0])

    if not len(places):
        return

    if (compiled.lights.clusters["kind"] == SKY).any():
        some = np.ascontiguousarray(places[:: max(1, len(places) // FIRST_PLACES)])
        first = _tried(compiled, paths, some)
        share = (np.maximum(first, 0).sum(axis=0) + 1 / 255) / ((first >= 0).sum(axis=0) + 1)
        put_lights(compiled, with_finer_sky(compiled.lights, turn, share))

    tries = _tried(compiled, paths, places)
    put_visibility(compiled, visibility_of(places[:, :3], tries))


def _tried(compiled: CompiledScene, paths: Records, places: np.ndarray) -> np.ndarray:
    """What every cluster brought at each place over what it might bring, float32[n, MAX_CLUSTERS];
    -1 where not tried."""
    tries = np.full((len(places), MAX_CLUSTERS), -1, np.float32)
    from_python(try_clusters)(
        compiled.address, paths.address, address_of(places), len(places), address_of(tries)
    )
    return tries


def visibility_of(points: np.ndarray, tries: np.ndarray) -> Visibility:
    """Shares by place from tries at points, float32[n, 3] and float32[n, MAX_CLUSTERS], below zero
    where not tried."""
    low, high = np.percentile(points, [INNER, 100 - INNER], axis=0)
    scale = VISIBILITY_SIDE / np.maximum(high - low, 1e-6)
    cells = np.clip(((points - low) * scale).astype(np.int64), 0, VISIBILITY_SIDE - 1)
    cube = np.ravel_multi_index(tuple(cells.T), (VISIBILITY_SIDE,) * 3)
    number = np.arange(len(points))
    by_cube = csr_array(
        (np.ones(len(points), np.float32), (cube, number)), shape=(VISIBILITY_SIDE**3, len(points))
    )
    tried = by_cube @ (tries >= 0).astype(np.float32)
    squares = by_cube @ np.maximum(tries, 0) ** 2
    mean_square = np.full((1, 1, 1, MAX_CLUSTERS), FIRST_MEAN_SQUARE, np.float32)

    for side in (1, 2, 4, 8, VISIBILITY_SIDE):
        step = VISIBILITY_SIDE // side
        count, sums = (
            a.reshape(side, step, side, step, side, step, MAX_CLUSTERS).sum(axis=(1, 3, 5))
            for a in (tried, squares)
        )
        around = mean_square if side == 1 else mean_square.repeat(2, 0).repeat(2, 1).repeat(2, 2)
        mean_square = (sums + PRIOR_TRIES * around) / (count + PRIOR_TRIES)

    shares = (
        np.clip(np.round(np.sqrt(mean_square) * 255), 1, 255)
        .astype(np.uint8)
        .reshape(-1, MAX_CLUSTERS)
    )
    return Visibility(shares, VISIBILITY_SIDE, tuple(low.tolist()), tuple(scale.tolist()))


def _camera_rays(camera: Camera) -> np.ndarray:
    """float32[RAYS, 6]: origins and directions, spread evenly over a wide picture."""
    lens = compile_camera(camera, 16, 9, depth_of_field=False, motion=False)[0]
    number = np.arange(RAYS)
    x, y = (
        2 * np.mod(number * step + 0.5, 1) - 1 for step in (0.7548776662466927, 0.5698402909980532)
    )
    origin, right, up, forward = (
        lens[name][0].astype(np.float64) for name in ("origin", "right", "up", "forward")
    )
    offset = x[:, None] * right + y[:, None] * up

    if lens["orthographic"]:
        origins = origin + offset
        directions = np.broadcast_to(forward, offset.shape)
    else:
        origins = np.broadcast_to(origin, offset.shape)
        directions = forward + offset

    directions = directions / np.linalg.norm(directions, axis=1, keepdims=True)
    return np.ascontiguousarray(np.concatenate([origins, directions], axis=1), np.float32)
