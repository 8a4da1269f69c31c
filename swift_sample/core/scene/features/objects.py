"""Features of objects, lights, haze and the sky."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from swift_sample.core.scene.features.kinds import HALVINGS, HAZE, LIGHT, OBJECT, OFF, SKY, Kind
from swift_sample.core.scene.features.power import light_power, sky_mean, total_power
from swift_sample.core.scene.model import Environment, Light, Mesh, Scene

CAMERA_ONLY = "by the camera only"
NOT_DIVIDED = "no"
EVEN = "even"
LITTLE_POWER = 0.001
"""What sends out less of a scene's light than this is hardly missed."""


@dataclass(frozen=True)
class SeenBy(Kind):
    """Whether light on its way meets an object: what only the camera sees throws no shadow, is in
    no mirror, lights nothing. Glass, and what light wanders in, is left out: a path could enter it
    and never leave. So is what glows."""

    part: ClassVar[str] = OBJECT

    def owners(self, scene: Scene) -> Iterable[str]:
        never = {mesh.name for mesh in scene.meshes if not _may_be_hidden(scene, mesh)}
        return dict.fromkeys(
            mesh.name for mesh in scene.meshes if mesh.name not in never and not mesh.camera_only
        )

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        return replace(
            scene,
            meshes=[replace(m, camera_only=True) if m.name == owner else m for m in scene.meshes],
        )


def _may_be_hidden(scene: Scene, mesh: Mesh) -> bool:
    material = scene.materials[mesh.material]
    return (
        material.transmission == 0 and material.subsurface is None and max(material.emission) == 0
    )


@dataclass(frozen=True)
class Divided(Kind):
    """Whether an object is cut finer where the whole scene is."""

    part: ClassVar[str] = OBJECT

    def owners(self, scene: Scene) -> Iterable[str]:
        return dict.fromkeys(mesh.name for mesh in scene.meshes if mesh.divided)

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        return replace(
            scene,
            meshes=[replace(m, divided=False) if m.name == owner else m for m in scene.meshes],
        )


def named_lights(scene: Scene) -> dict[str, list[Light]]:
    """Lamps by name; those without one by their place in the scene."""
    found: dict[str, list[Light]] = {}
    for number, light in enumerate(scene.lights, 1):
        found.setdefault(light.name or f"light {number}", []).append(light)

    return found


@dataclass(frozen=True)
class Lamp(Kind):
    """A lamp, or its shadows."""

    part: ClassVar[str] = LIGHT

    def owners(self, scene: Scene) -> Iterable[str]:
        lit = named_lights(scene).items()
        return [
            name
            for name, lights in lit
            if any(max(x.colour) > 0 and (x.shadow or self.what == "lamp") for x in lights)
        ]

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        own = {id(light) for light in named_lights(scene)[owner]}
        change = {"colour": (0.0, 0.0, 0.0)} if self.what == "lamp" else {"shadow": False}
        named = [
            replace(light, name=name, **change) if id(light) in own else replace(light, name=name)
            for name, light in _in_order(scene)
        ]

        return replace(scene, lights=named)

    def remark(self, scene: Scene, owner: str) -> str:
        total = total_power(scene)
        share = (
            sum(light_power(scene, light) for light in named_lights(scene)[owner]) / total
            if total > 0
            else 1.0
        )
        return (
            f"it sends out {share:.2%} of all light"
            if self.what == "lamp" and share < LITTLE_POWER
            else ""
        )


def _in_order(scene: Scene) -> list[tuple[str, Light]]:
    """Lamps with their names as `named_lights` has them, which stay theirs when some are
    changed."""
    return [
        (light.name or f"light {number}", light) for number, light in enumerate(scene.lights, 1)
    ]


@dataclass(frozen=True)
class Mist(Kind):
    """Haze as a whole, or its detail."""

    part: ClassVar[str] = HAZE

    def owners(self, scene: Scene) -> Iterable[str]:
        if scene.haze is None or (self.what == "cloud" and scene.haze.density.size == 1):
            return ()
        return (HAZE,)

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        haze = scene.haze
        if haze is None or value == OFF:
            return replace(scene, haze=None)

        density = haze.density.astype(np.float64)
        if value == EVEN:
            density = density.mean(keepdims=True)

        for _ in range(HALVINGS.get(value, 0)):
            density = _halved(density)

        return replace(scene, haze=replace(haze, density=density.astype(np.float32)))


def _halved(density: np.ndarray) -> np.ndarray:
    """Half as many places along each axis that has two, each the mean of those it stands for."""
    for axis in range(density.ndim):
        count = density.shape[axis]
        if count > 1:
            starts = np.arange(0, count - count % 2, 2)
            sums = np.add.reduceat(density, starts, axis=axis)
            sizes = np.diff([*starts, count]).reshape(
                [-1 if k == axis else 1 for k in range(density.ndim)]
            )
            density = sums / sizes

    return density


@dataclass(frozen=True)
class PicturedSky(Kind):
    """A sky that is a picture."""

    part: ClassVar[str] = SKY

    def owners(self, scene: Scene) -> Iterable[str]:
        return (
            (SKY,)
            if scene.environment.pixels.size > 3 and scene.environment.pixels.max() > 0
            else ()
        )

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        return replace(
            scene, environment=Environment(sky_mean(scene).astype(np.float32).reshape(1, 1, 3))
        )


KINDS: tuple[Kind, ...] = (
    SeenBy(
        "seen",
        "seen",
        (CAMERA_ONLY,),
        "It throws shadows and is in reflections; or only the camera sees it.",
    ),
    Divided(
        "divided",
        "cut finer",
        (NOT_DIVIDED,),
        "Its triangles are cut into four as often as the scene's; or never.",
    ),
    Lamp(
        "shadow",
        "shadows",
        (OFF,),
        "What stands in its light throws a shadow; off lets its light through everything.",
    ),
    Lamp("lamp", "light", (OFF,), "It lights the scene."),
    Mist(
        "cloud",
        "detail",
        (*HALVINGS, EVEN),
        "It is thicker in some places; in fewer of them, or even all over.",
        ("volume",),
    ),
    Mist("haze", "scattering", (OFF,), "Light is scattered in the air.", ("volume",)),
    PicturedSky(
        "sky",
        "picture",
        (EVEN,),
        "A picture lights the scene from all around; or its mean colour does.",
    ),
)
