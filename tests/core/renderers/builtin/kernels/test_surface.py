import math

import numpy as np
import pytest

from swift_sample.core.renderers.builtin.kernels.surface import fresnel
from tests.core.renderers.builtin.kernels.rig import SurfaceRig

f = np.float32


def test_fresnel_at_normal_grazing_and_beyond_the_critical_angle() -> None:
    assert fresnel(f(1), f(1.5)) == pytest.approx(0.04, abs=1e-6)
    assert fresnel(f(0), f(1.5)) == pytest.approx(1.0, abs=1e-6)
    assert fresnel(f(math.cos(math.radians(60))), f(1.5)) == pytest.approx(
        0.0892, abs=1e-4
    )  # Fresnel's equations
    assert fresnel(f(math.cos(math.radians(45))), f(1 / 1.5)) == 1.0
    # Brewster's angle: only the perpendicular part is reflected, ((n^2 - 1) / (n^2 + 1))^2 / 2.
    assert fresnel(f(math.cos(math.atan(1.5))), f(1.5)) == pytest.approx(
        (1.25 / 3.25) ** 2 / 2, abs=1e-6
    )


LAYERS = {
    "plastic": {"roughness": 0.55},
    "metal": {"metallic": 1.0, "roughness": 0.3},
    "glass": {"transmission": 1.0, "roughness": 0.45},
    "glass from inside": {"transmission": 1.0, "roughness": 0.45, "eta": 1 / 1.5},
    "thin": {"transmission": 0.6, "thin": True, "roughness": 0.45},
    "coated": {"coat": 0.7, "coat_roughness": 0.4, "roughness": 0.6},
    "cloth": {"sheen_colour": (0.9, 0.5, 0.3), "sheen_roughness": 0.5, "roughness": 0.9},
    "leaf": {"diffuse_transmission": 0.6, "diffuse_transmission_colour": (0.4, 0.8, 0.2)},
}


@pytest.mark.parametrize("name", LAYERS)
def test_sampling_weights_agree_with_evaluation_and_densities_add_up(name: str) -> None:
    surface = SurfaceRig(
        base_colour=(0.8, 0.5, 0.2), view=(0.5, 0.1, math.sqrt(0.74)), **LAYERS[name]
    )
    rng = np.random.default_rng(2)
    kept = 0

    for choice, u, v in rng.random((2000, 3)):
        into, weight, density, smooth = surface.sample(choice, u, v)
        assert not smooth

        if max(weight) > 0:
            kept += 1
            value, again = surface.evaluate(into)
            assert again == pytest.approx(density, rel=1e-3)
            assert weight * density == pytest.approx(value.sum(axis=0), rel=1e-3, abs=1e-6)

    # Over the sphere the density integrates to the share of samples that go on; four standard
    # errors of that share.
    z, turn = np.meshgrid((np.arange(120) + 0.5) / 60 - 1, (np.arange(150) + 0.5) / 150 * 2 * np.pi)
    flat = np.sqrt(1 - z * z)
    sphere = np.stack([flat * np.cos(turn), flat * np.sin(turn), z], -1).reshape(-1, 3)
    integral = np.mean([surface.evaluate(d)[1] for d in sphere]) * 4 * math.pi
    assert integral == pytest.approx(kept / 2000, abs=0.03)


@pytest.mark.parametrize("name", ["plastic", "metal", "leaf"])
def test_no_light_is_made(name: str) -> None:
    surface = SurfaceRig(
        base_colour=(1, 1, 1),
        view=(0.9, 0.0, math.sqrt(0.19)),
        **{**LAYERS[name], "diffuse_transmission_colour": (1, 1, 1)},
    )
    rng = np.random.default_rng(4)
    weights = [surface.sample(*row)[1].max() for row in rng.random((4000, 3))]
    assert np.mean(weights) == pytest.approx(
        1, abs=float(4 * np.std(weights) / math.sqrt(4000) + 0.01)
    )


def test_caustic_lobes_can_be_switched_off() -> None:
    glass = SurfaceRig(transmission=1.0, roughness=0.1, reflects=False)
    kinds = {
        tuple(np.sign(glass.sample(*row)[0])) for row in np.random.default_rng(5).random((200, 3))
    }
    assert all(sign[2] < 0 for sign in kinds)
