"""Known errors injected into a made-up picture, and what every measure finds: `make proof` prints
the table.

Each kind alone, at a known size; a measure must find its own and leave the others where they were.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter

from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.figures import bands
from swift_sample.core.picture.view import View

SHAPE = (270, 480)
VIEW = View()
GRAIN = 2.0
"""Levels of grain under every case, so that each measure must see through it."""
SHOWN = ("grain", "light_shift", "detail_kept", "stray_pixels")


@dataclass(frozen=True)
class Injected:
    """One kind of error; `expected` by measure, where the others stay at those of no error."""

    name: str
    change: Callable[[np.ndarray], np.ndarray]
    grain: float = GRAIN
    stray: float = 0.0
    expected: tuple[tuple[str, float], ...] = ()


def scene() -> np.ndarray:
    """A made-up picture in levels with coarse and fine structure, float[h, w, 3], far from black
    and white."""
    rng = np.random.default_rng(8)
    coarse = gaussian_filter(rng.normal(size=(*SHAPE, 3)), (20, 20, 0))
    fine = gaussian_filter(rng.normal(size=(*SHAPE, 1)), (0.8, 0.8, 0))

    return 120 + 16 * np.clip(coarse / coarse.std(), -2, 2) + 5 * fine / fine.std()


def blurred(levels: np.ndarray) -> np.ndarray:
    return gaussian_filter(levels, (0.6, 0.6, 0))


def kept_by_blur() -> float:
    """The share of detail that the blur leaves, from its definition and the clean pictures
    alone."""
    clean = scene().astype(np.float32)
    shares = [
        float((m * r).sum() / (r * r).sum())
        for m, r in zip(bands(blurred(clean)), bands(clean), strict=True)
    ]
    return 100 * float(np.mean(shares))


def shifted(levels: np.ndarray) -> np.ndarray:
    """Up to a twentieth of the light taken from broad regions, wider than the smoothing of the
    measure."""
    y, x = np.mgrid[0 : SHAPE[0], 0 : SHAPE[1]]
    wave = 1 + np.sin(2 * np.pi * x / SHAPE[1]) * np.sin(2 * np.pi * y / SHAPE[0])
    return levels * (1 - 0.025 * wave[..., None])


SHIFT = float(np.sqrt(((shifted(scene()) - scene()) ** 2).mean()))
STRAY = 800.0

CASES = (
    Injected(
        "none",
        lambda levels: levels,
        expected=(
            ("grain", GRAIN),
            ("light_shift", 0.0),
            ("detail_kept", 100.0),
            ("stray_pixels", 0.0),
        ),
    ),
    Injected("grain of 4 levels", lambda levels: levels, grain=4.0, expected=(("grain", 4.0),)),
    Injected(f"light missing, {SHIFT:.2f} levels", shifted, expected=(("light_shift", SHIFT),)),
    Injected("smeared by 0.6 pixels", blurred, expected=(("detail_kept", kept_by_blur()),)),
    Injected(
        f"{STRAY:.0f} stray pixels a million",
        lambda levels: levels,
        stray=STRAY / 1e6,
        expected=(("stray_pixels", STRAY),),
    ),
)

TOLERANCES = {
    "grain": (0.03, 0.0),
    "light_shift": (0.03, 0.12),
    "detail_kept": (0.015, 0.0),
    "stray_pixels": (0.03, 25.0),
}
"""By measure: a share of what is expected, and levels, percent or pixels a million besides."""


def linear(levels: np.ndarray) -> np.ndarray:
    return VIEW.light(np.clip(levels, 0, 255))


def found(case: Injected, runs: int = 3) -> dict[str, float]:
    """What every measure says of three pictures with the error, against a reference with grain of
    its own."""
    rng = np.random.default_rng(9)
    truth = scene()
    pictures = []

    for _ in range(runs):
        levels = case.change(truth) + rng.normal(0, case.grain, (*SHAPE, 3))
        count = round(case.stray * truth.shape[0] * truth.shape[1])
        places = rng.choice(truth.shape[0] * truth.shape[1], count, replace=False)
        levels.reshape(-1, 3)[places] += 70
        pictures.append(linear(levels))

    halves = tuple(linear(truth + rng.normal(0, 0.5, (*SHAPE, 3))) for _ in range(2))
    pair = Comparison(pictures, (halves[0] + halves[1]) / 2, VIEW, None, (halves[0], halves[1]))
    return {key: figure.value for key, figure in measure(pair)[WHOLE].items() if figure is not None}


def expected_of(case: Injected) -> dict[str, float]:
    """What each shown measure should say: its own case's figure, else that of no error."""
    expected = {**dict(CASES[0].expected), **dict(case.expected)}
    if case.stray:
        # Where stray pixels fall differs from run to run: they are grain too, of a size that is
        # known.
        expected["grain"] = float(np.sqrt(GRAIN**2 + case.stray * (1 - case.stray) * 70**2))

    return expected


def main() -> None:
    """Print the table."""
    print(
        "| injected | "
        + " | ".join(key.replace("_", " ") for key in SHOWN)
        + " |\n|---|"
        + "---:|" * len(SHOWN)
    )
    for case in CASES:
        figures = found(case)
        expected = expected_of(case)
        print(
            f"| {case.name} | "
            + " | ".join(f"{figures[key]:.4g} ({expected[key]:.4g})" for key in SHOWN)
            + " |"
        )


if __name__ == "__main__":
    main()
