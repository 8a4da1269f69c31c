"""Textures and the sky of the demo scene, made from seeded noise."""

import hashlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy import fft

from swift_sample.core.picture.colour import srgb_encoded
from swift_sample.core.scene.model import Environment, PictureSource, Texture

BURLAP_THREADS = 24


def _noise(
    rng: np.random.Generator, shape: tuple[int, int], sigma: tuple[float, float]
) -> np.ndarray:
    """Smooth noise that repeats, mean 0 and deviation 1: white noise under a Gaussian, in the
    frequency domain."""
    rows, columns = fft.fftfreq(shape[0])[:, None], fft.rfftfreq(shape[1])[None, :]
    weight = np.exp(-2 * np.pi**2 * ((sigma[0] * rows) ** 2 + (sigma[1] * columns) ** 2))
    smooth = fft.irfft2(fft.rfft2(rng.normal(size=shape)) * weight, shape)

    return (smooth - smooth.mean()) / smooth.std()


def _texture(
    name: str,
    size: tuple[int, int],
    make: Callable[[], np.ndarray],
    *given: object,
    srgb: bool = True,
) -> Texture:
    """A texture that `make` paints when it is needed; the same for what is `given`, as long as this
    file stays the same."""
    code = hashlib.sha256(Path(__file__).read_bytes()).hexdigest()
    return Texture(name, PictureSource(f"{name} {size} {given} {code}", size, make), srgb)


def encoded(pixels: np.ndarray) -> np.ndarray:
    """uint8[h, w, 4] from linear colours, float[h, w, 3] in 0 to 1 (IEC 61966-2-1)."""
    return with_opacity(np.round(srgb_encoded(np.clip(pixels, 0, 1)) * 255))


def with_opacity(pixels: np.ndarray, opacity: np.ndarray | float = 255) -> np.ndarray:
    """uint8[h, w, 4] from codes of red, green, blue, and of opacity."""
    full = np.empty((*pixels.shape[:2], 4), np.uint8)
    full[..., :3] = pixels
    full[..., 3] = opacity

    return full


def _mixed(
    dark: tuple[float, float, float], light: tuple[float, float, float], share: np.ndarray
) -> np.ndarray:
    share = np.clip(share, 0, 1)[..., None]
    return (np.asarray(dark) * (1 - share) + np.asarray(light) * share).astype(np.float32)


def wood_texture(
    seed: int, size: int, dark: tuple[float, float, float], light: tuple[float, float, float]
) -> Texture:
    """Boards with grain along u."""
    return _texture(
        "wood",
        (size, size),
        lambda: _wood(np.random.default_rng(seed), size, dark, light),
        seed,
        dark,
        light,
    )


def _wood(
    rng: np.random.Generator,
    size: int,
    dark: tuple[float, float, float],
    light: tuple[float, float, float],
) -> np.ndarray:
    scale = size / 512
    warp = _noise(rng, (size, size), (30 * scale, 120 * scale))
    rows = np.linspace(0, 1, size, endpoint=False)[:, None]
    rings = np.sin(2 * np.pi * (9 * rows + 0.55 * warp))
    fibre = _noise(rng, (size, size), (0.7, 45 * scale))
    pores = _noise(rng, (size, size), (0.5, 7 * scale))

    return encoded(_mixed(dark, light, 0.5 + 0.18 * rings + 0.16 * fibre + 0.07 * pores))


def holes_texture(rings: list[list[float]], reach: float, size: int) -> Texture:
    """White, clear where a disc of radius `reach` is pierced; `rings` as for
    `shapes.pierced_disc`."""
    return _texture("pierced lid", (size, size), lambda: _holes(rings, reach, size), rings, reach)


def _holes(rings: list[list[float]], reach: float, size: int) -> np.ndarray:
    place = ((np.arange(size) + 0.5) / size * 2 - 1) * reach
    opacity = np.full((size, size), 255, np.uint8)

    for inner, outer, count, radius in rings:
        middle = (inner + outer) / 2 if count > 1 else 0.0
        for k in range(int(count)):
            x, y = middle * np.cos(2 * np.pi * k / count), middle * np.sin(2 * np.pi * k / count)
            columns, rows = (
                np.flatnonzero(np.abs(place - x) < radius),
                np.flatnonzero(np.abs(place - y) < radius),
            )
            inside = (place[columns] - x) ** 2 + (place[rows, None] - y) ** 2 < radius**2
            opacity[np.ix_(rows, columns)] = np.where(inside, 0, opacity[np.ix_(rows, columns)])

    return with_opacity(np.full((size, size, 3), 255, np.uint8), opacity)


def smoke_noise(rng: np.random.Generator, shape: tuple[int, int, int]) -> np.ndarray:
    """Smooth noise in space, mean 0 and deviation 1, finer and coarser together."""
    total = np.zeros(shape)
    frequencies = np.sqrt(
        sum(f**2 for f in np.meshgrid(*(fft.fftfreq(n) for n in shape), indexing="ij"))
    )

    for share, width in ((1.0, 0.10), (0.6, 0.045)):
        weight = np.exp(-0.5 * (frequencies * shape[2] * width * 2 * np.pi / 2) ** 2)
        smooth = fft.ifftn(fft.fftn(rng.normal(size=shape)) * weight).real
        total += share * (smooth - smooth.mean()) / smooth.std()

    return total / total.std()


def burlap_textures(seed: int, size: int) -> tuple[Texture, Texture]:
    """Coarse cloth, 24 threads each way over and under one another: its colour, and how high it
    stands."""
    return (
        _texture("burlap", (size, size), lambda: _burlap(np.random.default_rng(seed), size), seed),
        _texture(
            "burlap height",
            (size, size),
            lambda: _burlap_height(np.random.default_rng(seed), size),
            seed,
            srgb=False,
        ),
    )


def _weave(
    rng: np.random.Generator, size: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """How bright the threads are, which one lies above, and the place in threads along each
    side."""
    threads = BURLAP_THREADS
    place = (np.arange(size) + 0.5) / size * threads
    u, v = np.meshgrid(place, place)
    drift = 0.12 * _noise(rng, (size, size), (size / 30, size / 30))
    across = np.sin(np.pi * (u + drift)) ** 2
    along = np.sin(np.pi * (v + drift)) ** 2
    over = (np.floor(u) + np.floor(v)) % 2
    bright = np.where(
        over > 0, 0.85 * across + 0.15 * along * across, 0.85 * along + 0.15 * across * along
    )

    return bright, over, u, v


def _burlap_height(rng: np.random.Generator, size: int) -> np.ndarray:
    bright = _weave(rng, size)[0]
    return with_opacity(np.repeat(np.clip(bright * 255, 0, 255)[..., None], 3, axis=2))


def _burlap(rng: np.random.Generator, size: int) -> np.ndarray:
    threads = BURLAP_THREADS
    bright, over, u, v = _weave(rng, size)
    tone = rng.normal(0, 0.11, threads)[np.floor(u).astype(int) % threads] * over
    tone = tone + rng.normal(0, 0.11, threads)[np.floor(v).astype(int) % threads] * (1 - over)
    fibres = 0.05 * _noise(rng, (size, size), (0.7, 0.7))

    return encoded(
        _mixed((0.10, 0.066, 0.036), (0.62, 0.42, 0.21), 0.12 + 0.75 * bright + tone + fibres)
    )


def label_texture(seed: int, size: int) -> Texture:
    """A paper label with a piece of comb on it."""
    return _texture(
        "label", (2 * size, size), lambda: _label(np.random.default_rng(seed), size), seed
    )


def _label(rng: np.random.Generator, size: int) -> np.ndarray:
    x, y = np.meshgrid(np.linspace(-2.2, 2.2, size * 2), np.linspace(-1.1, 1.1, size))
    paper = 0.78 + 0.015 * _noise(rng, (size, size * 2), (1.2, 1.2))
    pixels = np.stack([paper, paper * 0.93, paper * 0.78], -1)

    for cx, cy in (
        (0, 0),
        (0.52, 0),
        (-0.52, 0),
        (0.26, 0.45),
        (-0.26, 0.45),
        (0.26, -0.45),
        (-0.26, -0.45),
    ):
        dx, dy = np.abs(x - cx), np.abs(y - cy)
        reach = np.maximum(dx, dx * 0.5 + dy * 0.8660254)
        pixels[reach < 0.235] = (
            (0.72, 0.36, 0.05) if (cx, cy) != (0.26, -0.45) else (0.42, 0.17, 0.03)
        )

    for edge in (0.88, 0.94):
        pixels[np.abs(np.abs(y) - edge) < 0.012] = (0.20, 0.11, 0.05)

    for line, half in ((0.0, 0.42), (0.16, 0.34), (-0.16, 0.38)):
        for side in (-1, 1):
            pixels[(np.abs(y - line) < 0.028) & (np.abs(x - side * 1.45) < half)] = (
                0.28,
                0.17,
                0.09,
            )

    return encoded(pixels)


VALLEY = 0.075
"""How far, in radians, the horizon lies under eye level: the stall stands on a hillside."""


def dusk_sky(rng: np.random.Generator, height: int) -> Environment:
    """A clear sky after sunset towards -Z, with hills across the valley."""
    width = 2 * height
    turn = ((np.arange(width) + 0.5) / width - 0.5) * 2 * np.pi
    tilt = np.pi / 2 - (np.arange(height) + 0.5) / height * np.pi + VALLEY
    turn, tilt = np.meshgrid(turn, tilt)
    towards = 0.5 + 0.5 * np.cos(turn + 0.22)
    up = np.clip(tilt, 0, None)
    zenith = np.array([0.045, 0.10, 0.27])
    glow = np.array([2.9, 0.95, 0.17])
    rose = np.array([0.62, 0.21, 0.20])

    pixels = (
        zenith * (0.75 + 0.45 * towards[..., None])
        + glow * (np.exp(-up / 0.10) * towards**6)[..., None]
        + rose * (np.exp(-up / 0.17) * (0.30 + 0.70 * towards**2))[..., None]
    )
    streaks = np.clip(_noise(rng, (height, width), (height / 200, height / 12)) - 0.2, 0, None)
    streaks *= np.exp(-(((tilt - 0.13) / 0.07) ** 2))
    pixels += streaks[..., None] * np.array([0.85, 0.34, 0.20]) * towards[..., None] ** 3 * 0.5

    for reach, rise, colour in (
        (9, 0.018, (0.60, 0.30, 0.24)),
        (15, -0.004, (0.24, 0.13, 0.14)),
        (26, -0.026, (0.075, 0.052, 0.056)),
    ):
        line: np.ndarray = rise + 0.225 / reach * _noise(rng, (1, width), (0, height / reach))[0]
        edge = np.clip((line[None, :] - tilt) * height / np.pi + 0.5, 0, 1)[..., None]
        pixels = pixels * (1 - edge) + np.asarray(colour) * (0.4 + 0.6 * towards[..., None]) * edge

    ground = np.clip(-(tilt - VALLEY) / 0.12, 0, 1)[..., None]
    pixels = pixels * (1 - ground) + np.array([0.075, 0.06, 0.05]) * ground
    return Environment(pixels.astype(np.float32))
