"""One point of a surface, set up by hand, for tests."""

from typing import Any

import numpy as np

from swift_sample.core.kernels.compiling import from_python
from swift_sample.core.renderers.builtin.kernels.surface import (
    evaluate_surface,
    prepare_surface,
    sample_surface,
)
from swift_sample.core.renderers.builtin.lowlevel.records import PATH
from swift_sample.core.renderers.builtin.lowlevel.schema import Records
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.scene.model import Camera, Environment, Material, Scene
from swift_sample.core.scene.shapes import ball


class SurfaceRig:
    """A material seen from `view`, a unit vector with z along the normal."""

    def __init__(
        self,
        view: tuple[float, float, float] = (0, 0, 1),
        eta: float = 1.5,
        reflects: bool = True,
        refracts: bool = True,
        **material: Any,
    ) -> None:
        m = Material(name="m", **material)
        scene = Scene(
            name="rig",
            meshes=[ball("ball", 0, 1.0, 8)],
            materials=[m],
            camera=Camera(),
            environment=Environment(),
        )
        self._compiled = build_scene(scene, Stopwatch()).compiled
        self._path = Records(PATH)
        self._path.bind("working", np.zeros(8, np.uint8))
        p = self._path.records[0]["surface"]
        p["out"] = view
        p["base"] = m.base_colour
        p["specular_tint"] = m.specular_colour
        p["metallic"] = m.metallic
        p["alpha"] = m.roughness**2
        p["eta"] = eta
        p["transmission"] = m.transmission
        p["through"] = m.diffuse_transmission
        p["through_colour"] = m.diffuse_transmission_colour
        p["specular"] = m.specular
        p["coat"] = m.coat
        p["coat_alpha"] = m.coat_roughness**2
        p["coat_normal"] = (0, 0, 1)
        p["sheen_colour"] = m.sheen_colour
        p["sheen_alpha"] = max(m.sheen_roughness**2, 0.07**2)
        p["smooth"] = m.roughness <= 0.03
        p["coat_smooth"] = m.coat_roughness <= 0.03
        p["thin"] = m.thin
        p["reflects"] = reflects
        p["refracts"] = refracts
        p["plain"] = m.coat <= 0 and max(m.sheen_colour) <= 0 and m.diffuse_transmission <= 0
        from_python(prepare_surface)(self._compiled.address, self._path.address)

    def evaluate(self, into: np.ndarray) -> tuple[np.ndarray, float]:
        """(scattering times cosine, [kind, colour]; density)."""
        from_python(evaluate_surface)(self._path.address, *map(float, into))
        return self._path.records[0]["scatter"]["value"][:3].copy(), float(
            self._path.records[0]["scatter"]["density"]
        )

    def sample(
        self, choice: float, u: float, v: float
    ) -> tuple[np.ndarray, np.ndarray, float, bool]:
        """(direction, weight, density, whether perfectly smooth)."""
        from_python(sample_surface)(self._path.address, choice, u, v)
        p = self._path.records[0]["scatter"]
        return p["into"].copy(), p["weight"].copy(), float(p["density"]), bool(p["delta"])
