"""How much light rough surfaces keep: tables of directional albedo, and the compensation that they
allow.

A microfacet model counts light that meets the surface once and loses what would leave after meeting
it again. Dividing by the share that the model keeps gives it back (Turquin 2019, "Practical
multiple scattering compensation for microfacet models"; Kulla and Conty 2017). The tables are
integrated by `make_tables` and kept in energy.npz.

Axes: roughness 0 to 1; cosine towards the viewer 0 to 1; and for dielectrics r = (eta - 1) / (eta +
1) over [-LARGEST_R, LARGEST_R], so that r squared is the reflectance at normal incidence.
"""

from pathlib import Path

import numpy as np

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import ONE, ZERO, f32
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at

ETAS, ROUGHNESSES, COSINES = 25, 32, 32
LARGEST_R = 0.5
LEAST_COSINE = 0.01

_PLANE = ROUGHNESSES * COSINES
KEPT = 0
SHEEN = _PLANE
REFLECTED = 2 * _PLANE
PASSED = (2 + ETAS) * _PLANE
"""First float of each table in the flat array: [roughness][cosine], the last two [eta] before
that."""


def load_tables() -> np.ndarray:
    """The tables, float32, flat: GGX kept, sheen, dielectric reflected, dielectric passed."""
    with np.load(Path(__file__).with_name("energy.npz")) as file:
        return np.ascontiguousarray(
            np.concatenate([file[n].ravel() for n in ("kept", "sheen", "reflected", "passed")]),
            np.float32,
        )


@kernel
def between(address, first, row, column):
    """Interpolate [ROUGHNESSES, COSINES] at continuous places."""
    i = min(int(row), ROUGHNESSES - 2)
    j = min(int(column), COSINES - 2)
    fi = row - f32(i)
    fj = column - f32(j)
    place = first + i * COSINES + j
    a = f32_at(address, place)
    b = f32_at(address, place + 1)
    c = f32_at(address, place + COSINES)
    d = f32_at(address, place + COSINES + 1)
    above = a + (b - a) * fj
    below = c + (d - c) * fj

    return above + (below - above) * fi


@kernel
def kept_at(address, table, roughness, cosine):
    """From a table [roughness][cosine]: KEPT or SHEEN."""
    return between(
        address,
        table,
        min(roughness, ONE) * f32(ROUGHNESSES - 1),
        min(cosine, ONE) * f32(COSINES - 1),
    )


@kernel
def dielectric_at(address, roughness, cosine, eta):
    """(reflected, passed) shares of a rough dielectric boundary, light meeting it once."""
    r = (eta - ONE) / (eta + ONE)
    place = min(max((r + f32(LARGEST_R)) * f32((ETAS - 1) / (2 * LARGEST_R)), ZERO), f32(ETAS - 1))
    i = min(int(place), ETAS - 2)
    share = place - f32(i)
    row = min(roughness, ONE) * f32(ROUGHNESSES - 1)
    column = min(cosine, ONE) * f32(COSINES - 1)
    first = i * _PLANE
    low = between(address, REFLECTED + first, row, column)
    high = between(address, REFLECTED + first + _PLANE, row, column)
    low_passed = between(address, PASSED + first, row, column)
    high_passed = between(address, PASSED + first + _PLANE, row, column)

    return low + (high - low) * share, low_passed + (high_passed - low_passed) * share


def make_tables(samples: int = 4096) -> dict[str, np.ndarray]:
    """Integrate the tables over visible normals, float32 arrays by name; takes about half a
    minute."""
    side = int(np.sqrt(samples))
    u, v = ((np.indices((side, side)) + 0.5) / side).reshape(2, -1)
    shape = (ROUGHNESSES, COSINES)
    kept = np.zeros(shape, np.float32)
    sheen = np.zeros(shape, np.float32)
    reflected, passed = (np.zeros((ETAS, *shape), np.float32) for _ in range(2))
    etas = _etas()

    for i in range(ROUGHNESSES):
        alpha = max((i / (ROUGHNESSES - 1)) ** 2, 1e-4)
        for j in range(COSINES):
            cosine = max(j / (COSINES - 1), LEAST_COSINE)
            out = np.array([np.sqrt(1 - cosine**2), 0, cosine])
            half = _visible_normals(alpha, out, u, v)
            kept[i, j] = _reflected_share(alpha, out, half, np.ones(len(half))).mean()
            sheen[i, j] = sheen_albedo(max(alpha, 0.07**2), cosine, u, v)

            for k, eta in enumerate(etas):
                f = _fresnel(half @ out, eta)
                reflected[k, i, j] = _reflected_share(alpha, out, half, f).mean()
                passed[k, i, j] = _passed_share(alpha, out, half, f, eta).mean()

    return {"kept": kept, "sheen": sheen, "reflected": reflected, "passed": passed}


def _etas() -> np.ndarray:
    r = np.linspace(-LARGEST_R, LARGEST_R, ETAS)
    return (1 + r) / (1 - r)


def _visible_normals(alpha: float, out: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Dupuy and Benyoub 2023, as in surface.py."""
    stretched = out * [alpha, alpha, 1]
    stretched /= np.linalg.norm(stretched)
    z = (1 - v) * (1 + stretched[2]) - stretched[2]
    sine = np.sqrt(np.maximum(0, 1 - z * z))
    turn = 2 * np.pi * u
    cap = np.stack([sine * np.cos(turn), sine * np.sin(turn), z], -1) + stretched
    half = cap * [alpha, alpha, 1]

    return half / np.linalg.norm(half, axis=-1, keepdims=True)


def _lambda(alpha: float, z: np.ndarray | float) -> np.ndarray:
    c = np.maximum(np.asarray(z) ** 2, 1e-12)
    return 0.5 * (np.sqrt(1 + alpha**2 * (1 - c) / c) - 1)


def _masked(alpha: float, out: np.ndarray, into_z: np.ndarray) -> np.ndarray:
    """G2 / G1, height-correlated."""
    lo = _lambda(alpha, out[2])
    return (1 + lo) / (1 + lo + _lambda(alpha, into_z))


def _reflected_share(alpha: float, out: np.ndarray, half: np.ndarray, f: np.ndarray) -> np.ndarray:
    into_z = 2 * (half @ out) * half[:, 2] - out[2]
    return np.where(into_z > 0, f * _masked(alpha, out, into_z), 0)


def _passed_share(
    alpha: float, out: np.ndarray, half: np.ndarray, f: np.ndarray, eta: float
) -> np.ndarray:
    cosine = half @ out
    inside = 1 - (1 - cosine**2) / eta**2
    into_z = -out[2] / eta + half[:, 2] * (cosine / eta - np.sqrt(np.maximum(inside, 0)))
    return np.where((inside > 0) & (into_z < 0), (1 - f) * _masked(alpha, out, into_z), 0)


def _fresnel(cosine: np.ndarray, eta: float) -> np.ndarray:
    cosine = np.clip(np.abs(cosine), 0, 1)
    inside = 1 - (1 - cosine**2) / eta**2
    behind = np.sqrt(np.maximum(inside, 0))
    parallel = (eta * cosine - behind) / np.maximum(eta * cosine + behind, 1e-12)
    perpendicular = (cosine - eta * behind) / np.maximum(cosine + eta * behind, 1e-12)

    return np.where(inside <= 0, 1.0, 0.5 * (parallel**2 + perpendicular**2))


def sheen_albedo(alpha: float, cosine: float, u: np.ndarray, v: np.ndarray) -> float:
    """Of white sheen: Estevez and Kulla's distribution with Ashikhmin's visibility, over an even
    hemisphere."""
    turn = 2 * np.pi * u
    z = np.maximum(v, 1e-4)
    out = np.array([np.sqrt(1 - cosine**2), 0, cosine])
    flat = np.sqrt(1 - z * z)
    into = np.stack([flat * np.cos(turn), flat * np.sin(turn), z], -1)
    half = into + out
    half /= np.linalg.norm(half, axis=-1, keepdims=True)
    sine = np.sqrt(np.maximum(0, 1 - half[:, 2] ** 2))
    d = (2 + 1 / alpha) * sine ** (1 / alpha) / (2 * np.pi)

    return float((d * z / (4 * (z + cosine - z * cosine))).mean() * 2 * np.pi)


if __name__ == "__main__":
    np.savez_compressed(Path(__file__).with_name("energy.npz"), **make_tables())  # type: ignore[arg-type]
