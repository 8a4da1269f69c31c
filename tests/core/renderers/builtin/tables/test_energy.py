"""The energy tables against plain quadrature over the hemisphere, which shares no code with their
making."""

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.lowlevel.schema import address_of
from swift_sample.core.renderers.builtin.tables.energy import (
    COSINES,
    ETAS,
    LARGEST_R,
    ROUGHNESSES,
    dielectric_at,
    kept_at,
    load_tables,
)

TABLES = load_tables()


def hemisphere() -> tuple[np.ndarray, float]:
    """Directions over the upper half, even in the cosine and around, and the solid angle of
    each."""
    z, turn = np.meshgrid((np.arange(400) + 0.5) / 400, (np.arange(400) + 0.5) / 400 * 2 * np.pi)
    flat = np.sqrt(1 - z * z)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], -1).reshape(
        -1, 3
    ), 2 * np.pi / z.size


def reflected(alpha: float, cosine: float, eta: float | None) -> float:
    """Directional albedo of GGX with height-correlated masking; `eta` None reflects everything."""
    into, solid = hemisphere()
    out = np.array([np.sqrt(1 - cosine**2), 0, cosine])
    half = into + out
    half /= np.linalg.norm(half, axis=1, keepdims=True)
    d = alpha**2 / (np.pi * (half[:, 2] ** 2 * (alpha**2 - 1) + 1) ** 2)

    def smith(z: np.ndarray | float) -> np.ndarray:
        return np.sqrt(alpha**2 + (1 - alpha**2) * np.asarray(z) ** 2)

    g = 2 * into[:, 2] * cosine / (cosine * smith(into[:, 2]) + into[:, 2] * smith(cosine))
    f = np.ones(len(into))

    if eta is not None:
        c = half @ out
        behind = np.sqrt(1 - (1 - c**2) / eta**2)
        f = 0.5 * (
            ((eta * c - behind) / (eta * c + behind)) ** 2
            + ((c - eta * behind) / (c + eta * behind)) ** 2
        )

    return float((d * g * f / (4 * cosine)).sum() * solid)


@pytest.mark.parametrize("roughness", [0.3, 0.6, 1.0])
@pytest.mark.parametrize("cosine", [0.15, 0.5, 0.95])
def test_tables_hold_the_albedo(roughness: float, cosine: float) -> None:
    address = address_of(TABLES)
    f = np.float32
    assert kept_at(address, 0, f(roughness), f(cosine)) == pytest.approx(
        reflected(roughness**2, cosine, None), abs=0.01
    )
    found, passed = dielectric_at(address, f(roughness), f(cosine), f(1.5))
    assert found == pytest.approx(reflected(roughness**2, cosine, 1.5), abs=0.006)
    assert 0 < passed <= 1 - found + 1e-3


def test_tables_are_complete_and_within_bounds() -> None:
    plane = ROUGHNESSES * COSINES
    assert TABLES.size == (2 + 2 * ETAS) * plane
    assert np.isfinite(TABLES).all()
    assert TABLES[:plane].min() > 0.3
    assert TABLES[:plane].max() <= 1.0001
    # A smooth boundary reflects r squared at normal incidence.
    r = LARGEST_R / 2
    smooth, _ = dielectric_at(
        address_of(TABLES), np.float32(0), np.float32(1), np.float32((1 + r) / (1 - r))
    )
    assert smooth == pytest.approx(r**2, abs=1e-3)
