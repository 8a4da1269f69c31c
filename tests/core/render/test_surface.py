import math

import numpy as np
import pytest

from swift_sample.core.render.surface import Shading, evaluate, fresnel, sample
from swift_sample.core.scene import Material
from tests.core.render.scenes import ball_under_sky, take

f = np.float32


def test_fresnel_at_normal_grazing_and_beyond_the_critical_angle() -> None:
    assert fresnel(f(1), f(1.5)) == pytest.approx(0.04, abs=1e-6)
    assert fresnel(f(0), f(1.5)) == pytest.approx(1.0, abs=1e-6)
    assert fresnel(f(math.cos(math.radians(60))), f(1.5)) == pytest.approx(0.0892, abs=1e-4)  # Fresnel's equations
    assert fresnel(f(math.cos(math.radians(45))), f(1 / 1.5)) == 1.0
    # Brewster's angle: only the perpendicular part is reflected, ((n^2 - 1) / (n^2 + 1))^2 / 2.
    assert fresnel(f(math.cos(math.atan(1.5))), f(1.5)) == pytest.approx((1.25 / 3.25) ** 2 / 2, abs=1e-6)


SURFACES = {
    "diffuse": Material("m", (1, 1, 1), ior=1.0),
    "plastic": Material("m", (1, 1, 1), roughness=0.3),
    "polished": Material("m", (1, 1, 1), roughness=0.0),
    "metal": Material("m", (1, 1, 1), metallic=1, roughness=0.2),
    "mirror": Material("m", (1, 1, 1), metallic=1, roughness=0.0),
    "glass": Material("m", (1, 1, 1), roughness=0, transmission=1),
    "thin glass": Material("m", (1, 1, 1), roughness=0, transmission=1, thin=True),
    "half clear": Material("m", (1, 1, 1), roughness=0, transmission=0.5, thin=True),
}


@pytest.mark.parametrize("name", SURFACES)
def test_white_furnace(name: str) -> None:
    # A white ball under an even sky is as bright as the sky; 1 % covers the grain of 256 samples over 144 pixels.
    picture, _ = take(ball_under_sky(SURFACES[name]), samples__max=256, bounces__total=32)
    assert picture.beauty[6:18, 6:18].mean() == pytest.approx(0.5, rel=0.01)


@pytest.mark.parametrize("shading", [
    Shading((f(0.8), f(0.5), f(0.2)), f(0), f(0.3), f(0), f(1.5), False, False),
    Shading((f(0.8), f(0.5), f(0.2)), f(1), f(0.1), f(0), f(1.5), False, False),
    Shading((f(0.9), f(0.9), f(0.9)), f(0), f(0.2), f(1), f(1.5), False, False),
    Shading((f(0.9), f(0.9), f(0.9)), f(0), f(0.2), f(1), f(1 / 1.5), False, False),
    Shading((f(0.9), f(0.9), f(0.9)), f(0), f(0.2), f(0.6), f(1.5), False, True),
])
def test_sampling_weights_agree_with_evaluation_and_densities_add_up(shading: Shading) -> None:
    out = (f(0.5), f(0.1), f(math.sqrt(0.74)))
    rng = np.random.default_rng(2)
    kept = 0
    for choice, u, v in rng.random((2000, 3)).astype(np.float32):
        into, weight, density, _, smooth = sample(shading, out, choice, u, v)
        assert not smooth
        if max(weight) > 0:
            kept += 1
            value, again = evaluate(shading, out, into)
            assert again == pytest.approx(density, rel=1e-3)
            assert np.array(weight) * density == pytest.approx(np.array(value), rel=1e-3, abs=1e-6)
    # Over the sphere the density integrates to the share of samples that go on; four standard errors of that share.
    z, turn = np.meshgrid((np.arange(200) + 0.5) / 100 - 1, (np.arange(250) + 0.5) / 250 * 2 * np.pi)
    flat = np.sqrt(1 - z * z)
    sphere = np.stack([flat * np.cos(turn), flat * np.sin(turn), z], -1).reshape(-1, 3).astype(np.float32)
    integral = np.mean([evaluate(shading, out, tuple(d))[1] for d in sphere]) * 4 * math.pi
    assert integral == pytest.approx(kept / 2000, abs=0.03)
