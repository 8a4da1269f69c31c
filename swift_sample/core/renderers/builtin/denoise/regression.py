"""First-order regression on the guides: light is fitted as a plane over surface colour, direction
and distance.

Bitterli et al. 2016, "Nonlinearly Weighted First-order Regression for Denoising Monte Carlo
Renderings": around every second pixel each way, a weighted least-squares fit of one half's light,
weights from the other half (here from its non-local means), and each fit predicts all pixels of its
window. Without guides it fits places in the picture.
"""

import math

import numpy as np

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import f32
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.denoise.guides import Guides
from swift_sample.core.renderers.builtin.denoise.nonlocal_means import denoise_halves, half_variance
from swift_sample.core.renderers.builtin.denoise.rows import in_bands

RADIUS = 6
"""Of the window of each fit, in pixels."""
STRIDE = 2
STRICTNESS = 1.1
"""How many standard deviations of a half the smoothed light may differ by."""
RIDGE = 2e-3
"""Added to the diagonal, as a share of all weights; keeps fits over flat guides from swinging."""
TERMS = 8
"""Most terms of a fit: one constant and seven guides."""
FLOOR = 0.02
"""Standard deviation of light, as a share of its brightness, below which differences do not
count."""


def denoise_regression(picture: Picture, guides: Guides | None, threads: int) -> np.ndarray:
    """The smoothed beauty, float32[h, w, 3]; needs the layers half_a and half_b. Does not depend on
    `threads`."""
    layers = picture.layers
    height, width = picture.beauty.shape[:2]
    features = guides.values if guides is not None else _places(height, width)
    pilot_a, pilot_b = denoise_halves(picture, guides, threads)
    variance = half_variance(layers["half_a"], layers["half_b"])
    result = np.zeros_like(picture.beauty)

    for half, pilot in ((layers["half_a"], pilot_b), (layers["half_b"], pilot_a)):
        result += _fit(
            np.ascontiguousarray(half, np.float32),
            np.ascontiguousarray(pilot, np.float32),
            variance,
            np.ascontiguousarray(features, np.float32),
            threads,
        )

    return np.maximum(result * np.float32(0.5), 0)


def _places(height: int, width: int) -> np.ndarray:
    rows, columns = np.mgrid[0:height, 0:width] / RADIUS
    return np.dstack([rows, columns]).astype(np.float32)


def _fit(
    values: np.ndarray, pilot: np.ndarray, variance: np.ndarray, features: np.ndarray, threads: int
) -> np.ndarray:
    height, width = values.shape[:2]
    # Bands overlap by the reach of their fits, so each has sums of its own.
    partial: dict[int, tuple[int, np.ndarray, np.ndarray]] = {}

    def fit_band(top: int, bottom: int) -> None:
        first = max(0, top - RADIUS)
        last = min(height, bottom + RADIUS)
        sums = np.zeros((last - first, width, 3), np.float32)
        weights = np.zeros((last - first, width), np.float32)

        _fit_rows(
            values,
            pilot,
            variance,
            features,
            top,
            bottom,
            first,
            sums,
            weights,
            np.zeros((TERMS, TERMS + 3)),
            np.zeros((2 * RADIUS + 1, 2 * RADIUS + 1), np.float32),
            np.zeros(TERMS),
        )
        partial[top] = (first, sums, weights)

    in_bands(fit_band, height, threads)
    sums = np.zeros((height, width, 3), np.float32)
    weights = np.zeros((height, width), np.float32)

    for _, (first, part, part_weights) in sorted(partial.items()):
        sums[first : first + len(part)] += part
        weights[first : first + len(part)] += part_weights

    return sums / np.maximum(weights, np.float32(1e-20))[..., None]


@kernel
def _likeness(pilot, variance, y, x, v, u):
    """How much two pixels' smoothed light agrees, 0 to 1."""
    total = f32(0)
    for c in range(3):
        difference = pilot[y, x, c] - pilot[v, u, c]
        level = f32(FLOOR) * (pilot[y, x, c] + pilot[v, u, c])

        total += (
            difference
            * difference
            / (
                f32(STRICTNESS**2) * (variance[y, x, c] + variance[v, u, c])
                + level * level
                + f32(1e-8)
            )
        )

    return math.exp(-min(total * f32(1 / 3), f32(60)))


@kernel
def _solve(system, terms):
    """Solve the symmetric positive system[terms, terms | 3] in place; the answers stand in the last
    three columns.

    Cholesky's factorisation (Golub and Van Loan, Matrix Computations, algorithm 4.2.1).
    """
    for k in range(terms):
        for j in range(k):
            system[k, k] -= system[k, j] * system[k, j]

        system[k, k] = math.sqrt(max(system[k, k], 1e-12))
        for i in range(k + 1, terms):
            for j in range(k):
                system[i, k] -= system[i, j] * system[k, j]
            system[i, k] /= system[k, k]

    for c in range(TERMS, TERMS + 3):
        for i in range(terms):
            for j in range(i):
                system[i, c] -= system[i, j] * system[j, c]
            system[i, c] /= system[i, i]

        for i in range(terms - 1, -1, -1):
            for j in range(i + 1, terms):
                system[i, c] -= system[j, i] * system[j, c]
            system[i, c] /= system[i, i]


@kernel
def _fit_rows(
    values, pilot, variance, features, top, bottom, first, sums, weights, system, window, terms_at
):
    """All fits whose middle lies in rows [top, bottom); predictions are added to `sums`, whose row
    0 is row `first`."""
    height, width, guides = features.shape
    terms = guides + 1

    for y in range(top + (top & 1), bottom, STRIDE):
        for x in range(0, width, STRIDE):
            y0 = max(0, y - RADIUS)
            y1 = min(height, y + RADIUS + 1)
            x0 = max(0, x - RADIUS)
            x1 = min(width, x + RADIUS + 1)

            for i in range(terms):
                for j in range(TERMS + 3):
                    system[i, j] = 0.0

            total = 0.0
            for v in range(y0, y1):
                for u in range(x0, x1):
                    weight = _likeness(pilot, variance, y, x, v, u)
                    window[v - y0, u - x0] = weight
                    total += weight
                    terms_at[0] = 1.0
                    for k in range(guides):
                        terms_at[k + 1] = features[v, u, k] - features[y, x, k]

                    for i in range(terms):
                        part = weight * terms_at[i]
                        for j in range(i + 1):
                            system[i, j] += part * terms_at[j]

                        for c in range(3):
                            system[i, TERMS + c] += part * values[v, u, c]

            for i in range(1, terms):
                system[i, i] += RIDGE * total

            _solve(system, terms)
            for v in range(y0, y1):
                for u in range(x0, x1):
                    weight = window[v - y0, u - x0]
                    weights[v - first, u] += weight

                    for c in range(3):
                        predicted = system[0, TERMS + c]
                        for k in range(guides):
                            predicted += system[k + 1, TERMS + c] * (
                                features[v, u, k] - features[y, x, k]
                            )
                        sums[v - first, u, c] += f32(weight * predicted)
