"""An independent path tracer in plain NumPy: matt balls on a matt plane under a sky, without any
kernels."""

import numpy as np


def sky(direction: np.ndarray) -> np.ndarray:
    """Radiance[n] from directions[n, 3]: brighter above and towards +X."""
    return 0.2 + 0.6 * np.maximum(direction[:, 1], 0) + 0.3 * np.maximum(direction[:, 0], 0)


def trace(
    balls: list[tuple[np.ndarray, float, float]],
    floor_albedo: float,
    origins: np.ndarray,
    directions: np.ndarray,
    bounces: int,
    rng: np.random.Generator,
) -> np.ndarray:
    """Radiance[n] along rays. `balls` are (centre, radius, albedo); the floor is y = 0.

    As `bounces.total`: bounces + 1 scatterings, since light after the last is found by the
    scattered ray.
    """
    count = len(origins)
    throughput = np.ones(count)
    found = np.zeros(count)
    alive = np.ones(count, bool)

    for depth in range(bounces + 2):
        distance, normal, albedo = _hit(balls, floor_albedo, origins, directions)
        missed = alive & ~np.isfinite(distance)
        found[missed] += throughput[missed] * sky(directions[missed])
        alive &= np.isfinite(distance)

        if depth == bounces + 1:
            break

        throughput = throughput * albedo
        onwards = np.where(alive, distance, 0)[:, None] * directions + 1e-6 * normal
        origins = np.where(alive[:, None], origins + onwards, origins)
        random = rng.normal(size=(count, 3))
        outward = normal + random / np.linalg.norm(random, axis=1, keepdims=True)
        directions = outward / np.linalg.norm(outward, axis=1, keepdims=True)

    return found


def _hit(
    balls: list[tuple[np.ndarray, float, float]],
    floor_albedo: float,
    origins: np.ndarray,
    directions: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    with np.errstate(divide="ignore", invalid="ignore"):
        distance = np.where(directions[:, 1] < 0, -origins[:, 1] / directions[:, 1], np.inf)

    normal = np.tile([0.0, 1, 0], (len(origins), 1))
    albedo = np.full(len(origins), floor_albedo)

    for centre, radius, reflects in balls:
        offset = origins - centre
        b = (offset * directions).sum(axis=1)
        inside = b * b - (offset * offset).sum(axis=1) + radius**2
        t = np.where(inside > 0, -b - np.sqrt(np.maximum(inside, 0)), np.inf)
        closer = (t > 1e-6) & (t < distance)
        distance = np.where(closer, t, distance)
        albedo = np.where(closer, reflects, albedo)
        with np.errstate(invalid="ignore"):
            here = (origins + np.where(closer, t, 0)[:, None] * directions - centre) / radius

        normal = np.where(closer[:, None], here, normal)

    return distance, normal, albedo
