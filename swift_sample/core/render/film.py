"""The film: what a render accumulates per pixel, and the finished picture with its layers."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np


class FilmArrays(NamedTuple):
    """Running sums that kernels add to, h rows and w columns. Each pixel is written by one thread at a time."""

    half_a: np.ndarray
    """float32[h, w, 3]: radiance of the even-numbered samples"""
    half_b: np.ndarray
    """float32[h, w, 3]: radiance of the odd-numbered samples"""
    albedo: np.ndarray
    """float32[h, w, 3]"""
    normal: np.ndarray
    """float32[h, w, 3], world space"""
    depth: np.ndarray
    """float32[h, w]: distance to the first hit in metres; 0 where there is none"""
    samples: np.ndarray
    """int32[h, w]: samples taken"""
    cycles: np.ndarray
    """uint64[h, w]: processor cycles spent"""
    active: np.ndarray
    """uint8[h, w]: 1 where more samples are wanted"""
    light: np.ndarray
    """float32[h, w, bounces + 1, 3]: radiance by bounce; empty where every pixel takes the same number of samples"""


def new_film(width: int, height: int, bounces: int, adaptive: bool) -> FilmArrays:
    """An empty film."""
    picture = (height, width, 3)
    return FilmArrays(
        np.zeros(picture, np.float32), np.zeros(picture, np.float32), np.zeros(picture, np.float32),
        np.zeros(picture, np.float32), np.zeros((height, width), np.float32), np.zeros((height, width), np.int32),
        np.zeros((height, width), np.uint64), np.ones((height, width), np.uint8),
        np.zeros((height, width, bounces + 1, 3) if adaptive else (0, 0, bounces + 1, 3), np.float32),
    )


def film_memory_bytes(film: FilmArrays) -> int:
    return sum(array.nbytes for array in film)


def halves_of(film: FilmArrays) -> tuple[np.ndarray, np.ndarray]:
    """The two independent halves as radiance; with a single sample both are that sample."""
    odd = film.samples // 2
    even = film.samples - odd
    half_a = film.half_a / np.maximum(even, 1)[..., None]
    half_b = np.where((odd > 0)[..., None], film.half_b / np.maximum(odd, 1)[..., None], half_a)
    return half_a.astype(np.float32), half_b.astype(np.float32)


@dataclass
class Picture:
    """A finished picture: linear Rec. 709 light, and layers that explain it.

    beauty: float32[h, w, 3]; `layers` maps the names of the conventions (half_a, half_b, albedo, normal, depth,
    samples, seconds, error, raw) to float32[h, w, 3] or float32[h, w].
    """

    beauty: np.ndarray
    layers: dict[str, np.ndarray] = field(default_factory=dict)
    notes: dict[str, str] = field(default_factory=dict)

    @property
    def width(self) -> int:
        return int(self.beauty.shape[1])

    @property
    def height(self) -> int:
        return int(self.beauty.shape[0])

    @property
    def halves(self) -> tuple[np.ndarray, np.ndarray] | None:
        """The independent halves of the samples, where they are kept."""
        if "half_a" in self.layers and "half_b" in self.layers:
            return self.layers["half_a"], self.layers["half_b"]
        return None


def finish_film(film: FilmArrays, seconds_per_cycle: float, error: np.ndarray) -> Picture:
    """Turn sums into means."""
    count = np.maximum(film.samples, 1)[..., None].astype(np.float32)
    half_a, half_b = halves_of(film)
    lengths = np.linalg.norm(film.normal, axis=-1, keepdims=True)
    beauty = (film.half_a + film.half_b) / count
    return Picture(beauty, {
        "half_a": half_a, "half_b": half_b,
        "albedo": film.albedo / count,
        "normal": film.normal / np.maximum(lengths, 1e-6),
        "depth": film.depth / count[..., 0],
        "samples": film.samples.astype(np.float32),
        "seconds": (film.cycles * seconds_per_cycle).astype(np.float32),
        "error": error.astype(np.float32),
    })
