"""Pictures by which a change of pixels is noticed: `python -m
tests.core.renderers.builtin.stored_pixels` stores them.

Store them again only together with a raised `PIXELS`
(swift_sample/core/renderers/builtin/version.py): results of users are kept under that number.
"""

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.builtin.version import PIXELS
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings import Value

FILE = Path(__file__).with_name("pixels.npz")
SIZE = (32, 18)
FEW = {"samples.max": 4}

CASES: Mapping[str, tuple[str, Mapping[str, Value]]] = {
    "stall": ("honey-stall-small", FEW),
    "jar": ("honey-jar", FEW),
    "room": ("honey-room", FEW),
    "few bounces": ("honey-stall-small", FEW | {"bounces.total": 2}),
    "caps by kind": (
        "honey-jar",
        FEW | {"bounces.diffuse": 1, "bounces.glossy": 1, "bounces.transmission": 3},
    ),
    "clamps": ("honey-stall-small", FEW | {"light.clamp_direct": 2.0, "light.clamp_indirect": 0.5}),
    "roulette": ("honey-jar", FEW | {"bounces.roulette_start": 1}),
    "caustics": ("honey-jar", FEW | {"light.caustics": "none", "light.roughness_floor": 0.3}),
    "direct light": ("honey-stall-small", FEW | {"light.indirect": False}),
    "blue noise": (
        "honey-stall-small",
        FEW | {"samples.pattern": "blue noise", "samples.pixel_filter": "bell"},
    ),
    "random": ("honey-room", FEW | {"samples.pattern": "random", "samples.pixel_filter": "tent"}),
    "threshold": (
        "honey-stall-small",
        {
            "samples.max": 24,
            "samples.min": 4,
            "samples.noise_threshold": 0.05,
            "tiles.mode": "progressive",
        },
    ),
    "wavelet": ("honey-stall-small", FEW | {"denoise.method": "wavelet"}),
    "patches": ("honey-stall-small", FEW | {"denoise.method": "patches", "denoise.per_pass": True}),
    "regression": (
        "honey-stall-small",
        FEW | {"denoise.method": "regression", "denoise.strength": 0.7},
    ),
    "stepped haze": (
        "honey-stall-small",
        FEW | {"volume.scattering": "stepped", "volume.step": 0.2},
    ),
    "small textures": (
        "honey-stall-small",
        FEW | {"textures.max_size": 64, "camera.depth_of_field": False},
    ),
    "finer": ("honey-jar", FEW | {"geometry.subdivision": 1, "output.scale": 0.5}),
}


def rendered(name: str, seed: int = 1) -> np.ndarray:
    """Display levels of a case, float32[h, w, 3]."""
    scene, settings = CASES[name]
    picture, _ = run_render(
        RenderSpec(scene=scene, size=SIZE, settings=dict(settings), seed=seed), SceneCache(), None
    )
    return View().levels(picture.beauty)


def main() -> None:
    """Render all cases and store them under the version that they are of."""
    pictures = {name: rendered(name).astype(np.float32) for name in CASES}
    np.savez_compressed(FILE, version=PIXELS, **pictures)
    print(f"{FILE}: {len(pictures)} pictures of version {PIXELS}")


if __name__ == "__main__":
    main()
