"""The film: what a render accumulates per pixel, and how it becomes a picture with layers."""

from typing import NamedTuple

import numpy as np

from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.lowlevel.records import (
    CELL,
    CLAMPS,
    KIND_COUNTS,
    PASSES,
    SNAPSHOTS,
)


class FilmArrays(NamedTuple):
    """Running sums that kernels add to, h rows and w columns. Each pixel is written by one thread
    at a time."""

    half_a: np.ndarray
    """float32[h, w, 3]: radiance of the even-numbered samples"""
    half_b: np.ndarray
    """float32[h, w, 3]: radiance of the odd-numbered samples"""
    guides: np.ndarray
    """float32[h, w, 7]: albedo, normal in world space, and distance to the first hit in metres, 0
    where there is none"""
    samples: np.ndarray
    """int32[h, w]: samples taken"""
    material: np.ndarray
    """int32[h, w]: what the first sample hit first, -1 for nothing"""
    object: np.ndarray
    """int32[h, w]"""
    cycles: np.ndarray
    """uint64[h, w]: processor cycles spent"""
    active: np.ndarray
    """uint8[h, w]: 1 where more samples are wanted"""
    passes: np.ndarray
    """float32[h, w, 9, 3]: radiance by the first scattering, in the order of PASSES; empty where
    not kept"""
    passes_half: np.ndarray
    """float32[h, w, 9, 3]: the passes of the odd-numbered samples; empty unless each pass is
    denoised"""
    guides_half: np.ndarray
    """float32[h, w, 7]: albedo, normal and depth of the odd-numbered samples; empty unless a
    denoiser uses them"""
    light: np.ndarray
    """float32[h, w, bounces + 1, 3]: radiance by bounce; empty where every pixel takes the same
    number of samples"""
    light_cells: np.ndarray
    """float64[cell rows, cell columns, bounces + 1, 3]: the same, summed over pixels, where `light`
    is empty"""
    snapshots: np.ndarray
    """float64[cell rows, cell columns, SNAPSHOTS]: a quarter of the squared distance of the halves
    as shares of the display's range, summed over pixels, when each half had 2^k samples"""
    clamped: np.ndarray
    """float64[cell rows, cell columns, 2, CLAMPS + 1, 3]: light that clamps would take, summed over
    samples: of direct and of indirect light, at `least_clamp` times 2^k, and at last at the
    render's own clamp; empty where not recorded"""
    by_kind: np.ndarray
    """float64[cell rows, cell columns, 4, KIND_COUNTS, 3]: light by how often it was scattered in
    each way (diffuse, glossy, transmission, volume), from once on, summed over samples; the first
    entry of all is all light. Empty where not recorded"""
    clamped_grain: np.ndarray
    """float64[cell rows, cell columns, 2 (CLAMPS + 1) + 1]: squared distances of the halves as
    shares of the display's range, times samples, summed over pixels: by how much more or less with
    each clamp of `clamped` in place of the render's own (the last of each kind without that clamp),
    and at the end as rendered. Empty where not recorded"""


def new_film(
    width: int,
    height: int,
    bounces: int,
    adaptive: bool,
    passes: bool = True,
    passes_half: bool = False,
    guides_half: bool = False,
    record: bool = True,
) -> FilmArrays:
    """An empty film."""
    picture = (height, width, 3)
    plane = (height, width)
    entries = (bounces + 1, 3)
    cells = (-(-height // CELL), -(-width // CELL))

    return FilmArrays(
        np.zeros(picture, np.float32),
        np.zeros(picture, np.float32),
        np.zeros((height, width, 7), np.float32),
        np.zeros(plane, np.int32),
        np.full(plane, -1, np.int32),
        np.full(plane, -1, np.int32),
        np.zeros(plane, np.uint64),
        np.ones(plane, np.uint8),
        np.zeros((height, width, len(PASSES), 3) if passes else (0,), np.float32),
        np.zeros((height, width, len(PASSES), 3) if passes_half else (0,), np.float32),
        np.zeros((height, width, 7) if guides_half else (0,), np.float32),
        np.zeros((height, width, *entries) if adaptive else (0,), np.float32),
        np.zeros((0,) if adaptive else (*cells, *entries), np.float64),
        np.zeros((*cells, SNAPSHOTS), np.float64),
        np.zeros((*cells, 2, CLAMPS + 1, 3) if record else (0,), np.float64),
        np.zeros((*cells, 4, KIND_COUNTS, 3) if record else (0,), np.float64),
        np.zeros((*cells, 2 * (CLAMPS + 1) + 1) if record else (0,), np.float64),
    )


def film_memory_bytes(film: FilmArrays) -> int:
    return sum(array.nbytes for array in film)


def light_cells(film: FilmArrays) -> np.ndarray:
    """Radiance by bounce, float32[cell rows, cell columns, bounces + 1, 3]: means over the pixels
    of each cell."""
    height, width = film.samples.shape
    rows, columns = -(-height // CELL), -(-width // CELL)

    if film.light.size:
        per_pixel = film.light / np.maximum(film.samples, 1)[..., None, None]
        padded = np.zeros((rows * CELL, columns * CELL, *per_pixel.shape[2:]), np.float64)
        padded[:height, :width] = per_pixel
        sums = padded.reshape(rows, CELL, columns, CELL, *per_pixel.shape[2:]).sum(axis=(1, 3))
    else:
        sums = film.light_cells / max(1, int(film.samples.max()))

    return (sums / pixels_by_cell(height, width)[..., None, None]).astype(np.float32)


def samples_by_cell(film: FilmArrays) -> np.ndarray:
    """Samples taken in each cell, float64[cell rows, cell columns]; at least 1."""
    height, width = film.samples.shape
    rows, columns = -(-height // CELL), -(-width // CELL)
    padded = np.zeros((rows * CELL, columns * CELL))
    padded[:height, :width] = film.samples

    return np.maximum(padded.reshape(rows, CELL, columns, CELL).sum(axis=(1, 3)), 1)


def pixels_by_cell(height: int, width: int) -> np.ndarray:
    """How many pixels each cell holds, int64[cell rows, cell columns]: fewer at the right and lower
    edge."""
    rows, columns = -(-height // CELL), -(-width // CELL)
    return np.minimum(CELL, height - CELL * np.arange(rows))[:, None] * np.minimum(
        CELL, width - CELL * np.arange(columns)
    )


def grain_cells(film: FilmArrays, maximum: int) -> dict[int, np.ndarray]:
    """Grain in levels as a reduced picture, float32[cell rows, cell columns], by samples a pixel,
    at powers of two."""
    counts = pixels_by_cell(*film.samples.shape)
    return {
        2 << k: (LEVELS * np.sqrt(film.snapshots[..., k] / counts)).astype(np.float32)
        for k in range(SNAPSHOTS)
        if (2 << k) <= maximum
    }


def mean_light(film: FilmArrays) -> np.ndarray:
    """Mean radiance that each bounce brings, float64[bounces + 1, 3]; adds up to the mean of the
    beauty."""
    pixels = film.samples.size
    if film.light.size:
        per_pixel = film.light / np.maximum(film.samples, 1)[..., None, None]
        return per_pixel.sum(axis=(0, 1), dtype=np.float64) / pixels

    return film.light_cells.sum(axis=(0, 1)) / (pixels * max(1, int(film.samples.max())))


def halves_of(film: FilmArrays) -> tuple[np.ndarray, np.ndarray]:
    """The two independent halves as radiance; with a single sample both are that sample."""
    odd = film.samples // 2
    even = film.samples - odd
    half_a = film.half_a / np.maximum(even, 1)[..., None]
    half_b = np.where((odd > 0)[..., None], film.half_b / np.maximum(odd, 1)[..., None], half_a)

    return half_a.astype(np.float32), half_b.astype(np.float32)


def finish_film(film: FilmArrays, seconds_per_cycle: float, error: np.ndarray) -> Picture:
    """Turn sums into means."""
    count = np.maximum(film.samples, 1)[..., None].astype(np.float32)
    half_a, half_b = halves_of(film)
    albedo = film.guides[..., :3]
    normal = film.guides[..., 3:6]
    depth = film.guides[..., 6]
    lengths = np.linalg.norm(normal, axis=-1, keepdims=True)

    layers = {
        "half_a": half_a,
        "half_b": half_b,
        "albedo": albedo / count,
        "normal": normal / np.maximum(lengths, 1e-6),
        "depth": depth / count[..., 0],
        "samples": film.samples.astype(np.float32),
        "seconds": (film.cycles * seconds_per_cycle).astype(np.float32),
        "error": error.astype(np.float32),
        "material": film.material.astype(np.float32),
        "object": film.object.astype(np.float32),
    }
    odd = np.maximum(film.samples // 2, 1)[..., None].astype(np.float32)
    if film.guides_half.size:
        layers["guides_half"] = film.guides_half / odd
    if not film.passes.size:
        return Picture((film.half_a + film.half_b) / count, layers)

    # The beauty is the sum of its passes, so that they add up to the last bit.
    beauty = np.zeros_like(film.half_a)
    for k, name in enumerate(PASSES):
        layers[name] = film.passes[:, :, k] / count
        beauty += layers[name]
        if film.passes_half.size:
            layers[f"{name}_half"] = film.passes_half[:, :, k] / odd

    return Picture(beauty, layers)
