"""Renders whose result is known in closed form; as a program it prints the table (`make proof`).

Every case is a scene, what its picture must show, and a tolerance: four standard errors of the
render itself (a false alarm in about 16,000), plus a stated share for what is not random, such as
balls made of triangles.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from swift_sample.core.scene.model import (
    BLEND,
    DIRECTIONAL,
    POINT,
    SPOT,
    Camera,
    Environment,
    Haze,
    Light,
    Material,
    Mesh,
    Pose,
    Scene,
    Subsurface,
)
from swift_sample.core.scene.shapes import ball, box
from tests.core.renderers.builtin.kernels.scenes import floor, quad, sky, take

ABOVE = Camera(position=(0.0, 0.5, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02)
"""Looks straight down at the origin from half a metre through a very narrow field."""

BLACK = Material(name="black", base_colour=(0, 0, 0), ior=1.0)


@dataclass(frozen=True, kw_only=True)
class Case:
    """`share` is what the picture's middle may be off by without being random, as a share of the
    expected value."""

    name: str
    scene: Callable[[], Scene]
    expected: float
    share: float = 0.002
    settings: dict[str, object] = field(default_factory=dict)
    size: int = 16
    margin: int = 0
    """pixels left out at each side"""

    def measure(self) -> "Outcome":
        settings = {"samples__max": 256, "bounces__total": 32, **self.settings}
        picture, _ = take(self.scene(), (self.size, self.size), **settings)
        middle = slice(self.margin, self.size - self.margin)
        half_a, half_b = (half[middle, middle] for half in picture.halves)
        error = float((half_a - half_b).mean(axis=2).std() / 2 / math.sqrt(half_a[..., 0].size))
        value = float(picture.beauty[middle, middle].mean())

        return Outcome(self, value, 4 * error + self.share * abs(self.expected) + 1e-5)


@dataclass(frozen=True)
class Outcome:
    case: Case
    measured: float
    tolerance: float

    @property
    def holds(self) -> bool:
        return abs(self.measured - self.case.expected) <= self.tolerance


def grey(albedo: float = 0.5) -> Material:
    return Material(name="grey", base_colour=(albedo,) * 3, ior=1.0)


def glow(radiance: float) -> Material:
    return Material(name="glow", base_colour=(0, 0, 0), ior=1.0, emission=(radiance,) * 3)


def _furnace(material: Material) -> Callable[[], Scene]:
    return lambda: Scene(
        name="ball",
        meshes=[ball("ball", 0, 1.0, 128)],
        materials=[material],
        camera=Camera(position=(0, 0, 4), target=(0, 0, 0)),
        environment=sky(0.5),
    )


WHITE = (1.0, 1.0, 1.0)
FURNACES = {
    "matt": (Material(name="m", base_colour=WHITE, ior=1.0), ()),
    "plastic": (Material(name="m", base_colour=WHITE), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "metal": (Material(name="m", base_colour=WHITE, metallic=1), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "glass": (Material(name="m", base_colour=WHITE, transmission=1), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "thin glass": (
        Material(name="m", base_colour=WHITE, transmission=1, thin=True),
        (0.0, 0.3, 1.0),
    ),
    "half clear": (Material(name="m", base_colour=WHITE, transmission=0.5, thin=True), (0.0, 0.4)),
    "coated metal": (
        Material(name="m", base_colour=WHITE, metallic=1, coat=1.0, coat_roughness=0.3),
        (0.4,),
    ),
    "coated matt": (Material(name="m", base_colour=WHITE, ior=1.0, coat=0.6), (0.5,)),
    "sheen": (
        Material(name="m", base_colour=WHITE, sheen_colour=WHITE, sheen_roughness=0.5),
        (0.6,),
    ),
    "leaf": (Material(name="m", base_colour=WHITE, diffuse_transmission=0.5, thin=True), (0.5,)),
    "wax": (
        Material(name="m", base_colour=WHITE, subsurface=Subsurface((0.3, 0.5, 0.8), WHITE)),
        (0.5,),
    ),
}


def furnaces() -> Iterator[Case]:
    from dataclasses import replace

    for name, (material, roughnesses) in FURNACES.items():
        for roughness in roughnesses or (0.5,):
            label = f"furnace, {name}" + (f", roughness {roughness:g}" if roughnesses else "")
            bounces = {"bounces__total": 64, "bounces__roulette_start": 32}
            yield Case(
                name=label,
                scene=_furnace(replace(material, roughness=roughness)),
                expected=0.5,
                share=0.01,
                settings=bounces,
                size=24,
                margin=6,
            )


def _lit_floor(
    *extra: Mesh,
    lights: tuple[Light, ...] = (),
    materials: tuple[Material, ...] = (),
    environment: Environment | None = None,
) -> Scene:
    return Scene(
        name="floor",
        meshes=[floor(), *extra],
        materials=[grey(), *materials],
        camera=ABOVE,
        environment=environment or sky(0.0),
        lights=list(lights),
    )


def _square_above(half: float, height: float, radiance: float) -> Scene:
    light = quad(
        "light",
        1,
        [
            (-half, height, -half),
            (half, height, -half),
            (half, height, half),
            (-half, height, half),
        ],
    )
    return _lit_floor(light, materials=(glow(radiance),))


def _ball_above(radius: float, distance: float, radiance: float) -> Scene:
    light = ball("light", 1, radius, 128)
    light.positions[:, 1] += distance
    return _lit_floor(light, materials=(glow(radiance),))


def irradiance() -> Iterator[Case]:
    direct = {"bounces__total": 0}
    yield Case(
        name="even sky on a floor",
        scene=lambda: _lit_floor(environment=sky(0.8)),
        expected=0.5 * 0.8,
    )
    # Howell's catalogue of view factors, B-3: a square parallel to a point, from four corners.
    x = 0.5
    corner = x / math.sqrt(1 + x * x) * math.atan(x / math.sqrt(1 + x * x)) / math.pi
    square = 0.5 * 3.0 * 4 * corner
    ball_share = (0.25 / 1.5) ** 2
    yield Case(
        name="square light above a floor",
        scene=lambda: _square_above(0.5, 1.0, 3.0),
        expected=square,
        settings=direct,
    )
    yield Case(
        name="ball light above a floor",
        scene=lambda: _ball_above(0.25, 1.5, 10.0),
        expected=0.5 * 10.0 * ball_share,
        share=0.005,
        settings=direct,
    )
    point = Light(kind=POINT, colour=(2.0,) * 3, position=(0, 1.5, 0))
    yield Case(
        name="point light above a floor",
        scene=lambda: _lit_floor(lights=(point,)),
        expected=0.5 / math.pi * 2 / 1.5**2,
    )
    slanted = Light(kind=POINT, colour=(2.0,) * 3, position=(1.0, 1.0, 0))
    yield Case(
        name="point light aside",
        scene=lambda: _lit_floor(lights=(slanted,)),
        expected=0.5 / math.pi * 2 / 2 * math.sqrt(0.5),
    )
    spot = Light(
        kind=SPOT,
        colour=(2.0,) * 3,
        position=(0.5, 1, 0),
        direction=(0, -1, 0),
        inner_cone=0.2,
        outer_cone=0.8,
    )
    angle = math.cos(math.atan(0.5))
    share = ((angle - math.cos(0.8)) / (math.cos(0.2) - math.cos(0.8))) ** 2
    yield Case(
        name="spot between its cones",
        scene=lambda: _lit_floor(lights=(spot,)),
        expected=0.5 / math.pi * 2 / 1.25 * angle * share,
    )
    sun = Light(kind=DIRECTIONAL, colour=(3.0,) * 3, direction=(-1, -1, 0))
    yield Case(
        name="directional light",
        scene=lambda: _lit_floor(lights=(sun,)),
        expected=0.5 / math.pi * 3 * math.sqrt(0.5),
    )

    yield Case(
        name="form factor of parallel squares",
        scene=_facing_squares,
        expected=0.8 * 0.19982490,
        share=0.003,
        settings={**direct, "samples__pixel_filter": "box"},
        size=32,
    )


def _facing_squares() -> Scene:
    """A white unit square sees a bright one a metre away; seen from below, through the middle of
    the bright one's back."""
    target = quad("target", 0, [(-0.5, 0, 0.5), (0.5, 0, 0.5), (0.5, 0, -0.5), (-0.5, 0, -0.5)])
    light = quad("light", 1, [(-0.5, 1, -0.5), (0.5, 1, -0.5), (0.5, 1, 0.5), (-0.5, 1, 0.5)])
    camera = Camera(position=(0, 0.9, 0), target=(0, 0, 0), up=(0, 0, -1), half_height=0.5)
    one_sided = Material(
        name="glow", base_colour=(0, 0, 0), ior=1.0, emission=WHITE, double_sided=False
    )

    return Scene(
        name="squares",
        meshes=[target, light],
        materials=[grey(0.8), one_sided],
        camera=camera,
        environment=sky(0.0),
    )


def fresnel() -> Iterator[Case]:
    for degrees in (0, 45, 56.31, 75, 85):
        cosine = math.cos(math.radians(degrees))
        behind = math.sqrt(1 - (1 - cosine**2) / 2.25)
        parallel = ((1.5 * cosine - behind) / (1.5 * cosine + behind)) ** 2
        across = ((cosine - 1.5 * behind) / (cosine + 1.5 * behind)) ** 2
        name = f"Fresnel reflection at {degrees:g} degrees"
        yield Case(
            name=name,
            scene=lambda d=degrees: _polished(d),
            expected=(parallel + across) / 2,
            share=0.005,
        )


def _polished(degrees: float) -> Scene:
    angle = math.radians(degrees)
    camera = Camera(
        position=(math.sin(angle), math.cos(angle), 0),
        target=(0, 0, 0),
        up=(0, 0, -1),
        vertical_field=0.002,
    )
    return Scene(
        name="polished",
        meshes=[floor()],
        materials=[Material(name="m", base_colour=(0, 0, 0), roughness=0.0)],
        camera=camera,
        environment=sky(1.0),
    )


def media() -> Iterator[Case]:
    slab = lambda: Scene(  # noqa: E731
        name="slab",
        meshes=[box("slab", 0, (4, 0.5, 4), 1e-4)],
        materials=[
            Material(
                name="liquid",
                base_colour=WHITE,
                roughness=0.0,
                ior=1.0,
                transmission=1.0,
                absorption=(1.2,) * 3,
            )
        ],
        camera=Camera(position=(0, 3, 0.001), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.02),
        environment=sky(1.0),
    )
    yield Case(name="Beer and Lambert through half a metre", scene=slab, expected=math.exp(-0.6))
    scattering = 0.7
    absorption = 0.3
    depth = 1.5
    sun = 4.0
    total = scattering + absorption
    single = sun * scattering / (4 * math.pi) * (1 - math.exp(-2 * total * depth)) / (2 * total)

    for name, density, settings in (
        ("even haze", np.ones((1, 1, 1), np.float32), {}),
        ("haze in a grid", np.ones((2, 3, 4), np.float32), {}),
        (
            "haze in steps",
            np.ones((2, 3, 4), np.float32),
            {"volume__scattering": "stepped", "volume__step": 0.05},
        ),
    ):
        haze = Haze(
            low=(-9, 0, -9),
            high=(9, depth, 9),
            scattering=(scattering,) * 3,
            absorption=(absorption,) * 3,
            anisotropy=0.0,
            density=density,
        )
        yield Case(
            name=f"single scattering, {name}",
            scene=lambda h=haze: _hazy(h, sun),
            expected=single,
            share=0.004,
            settings={"bounces__total": 0, "samples__max": 1024, **settings},
        )

        clear = Haze(
            low=(-9, 0, -9),
            high=(9, depth, 9),
            scattering=(1.0,) * 3,
            absorption=(0.0,) * 3,
            anisotropy=0.6,
            density=density,
        )
        yield Case(
            name=f"furnace, {name}",
            scene=lambda h=clear: _hazy(h, 0.0, 0.5),
            expected=0.5,
            share=0.004,
            settings={"bounces__total": 64, **settings},
        )
        dark = Haze(
            low=(-9, 0, -9),
            high=(9, depth, 9),
            scattering=(0.0,) * 3,
            absorption=(0.8,) * 3,
            anisotropy=0.0,
            density=density,
        )
        yield Case(
            name=f"absorption, {name}",
            scene=lambda h=dark: _hazy(h, 0.0, 0.5),
            expected=0.5 * math.exp(-0.8 * depth),
            share=0.004,
            settings=settings,
        )


def _hazy(haze: Haze, sun: float, environment: float = 0.0) -> Scene:
    far = quad("far", 0, [(50, -9, 50), (50.1, -9, 50), (50.1, -9, 50.1), (50, -9, 50.1)])
    lights = [Light(kind=DIRECTIONAL, colour=(sun,) * 3, direction=(0, -1, 0))] if sun else []

    return Scene(
        name="haze",
        meshes=[far],
        materials=[BLACK],
        camera=Camera(position=(0, 3, 0.0), target=(0, 0, 0), up=(0, 0, -1), vertical_field=0.01),
        environment=sky(environment),
        lights=lights,
        haze=haze,
    )


def interreflection() -> Iterator[Case]:
    # Inside a closed room whose walls glow with 1 and reflect the share r, k bounces show (1 - r^(k
    # + 2)) / (1 - r).
    for bounces in (0, 1, 3, 64):
        yield Case(
            name=f"closed glowing room, {bounces} bounces",
            scene=_glowing_room,
            expected=(1 - 0.6 ** (bounces + 2)) / 0.4,
            share=0.002,
            settings={"bounces__total": bounces, "bounces__roulette_start": 12},
        )


def _glowing_room() -> Scene:
    room = box("room", 0, (2, 2, 2), 1e-4)
    room.corners = room.corners[:, ::-1].copy()
    room.normals = -room.normals
    wall = Material(name="wall", base_colour=(0.6,) * 3, ior=1.0, emission=WHITE)

    return Scene(
        name="room",
        meshes=[room],
        materials=[wall],
        camera=Camera(position=(0.3, 0.1, 0), target=(0, 0, -1)),
        environment=sky(0),
    )


def cutouts() -> Iterator[Case]:
    veil = Material(name="veil", base_colour=(0, 0, 0), ior=1.0, opacity=0.4, opacity_mode=BLEND)

    def sheet(y: float) -> Mesh:
        return quad("veil", 1, [(-9, y, 9), (9, y, 9), (9, y, -9), (-9, y, -9)])

    yield Case(
        name="sky through two veils",
        scene=lambda: Scene(
            name="veils",
            meshes=[sheet(0.1), sheet(0.2)],
            materials=[grey(), veil],
            camera=ABOVE,
            environment=sky(1.0),
        ),
        expected=0.36,
    )
    sun = Light(kind=DIRECTIONAL, colour=(math.pi,) * 3, direction=(0, -1, 0))

    yield Case(
        name="sun through two veils",
        scene=lambda: Scene(
            name="veils",
            meshes=[floor(), sheet(0.6), sheet(0.7)],
            materials=[grey(), veil],
            camera=ABOVE,
            environment=sky(0.0),
            lights=[sun],
        ),
        expected=0.5 * 0.36,
    )


def camera() -> Iterator[Case]:
    # A bright band 0.2 wide crosses a field of 1.0 evenly by 0.6; or the camera moves past it the
    # other way.
    yield Case(
        name="moving band",
        scene=_moving_band,
        expected=0.2,
        share=0.004,
        settings={"camera__motion_blur": True},
    )
    yield Case(
        name="moving camera",
        scene=lambda: _moving_band(True),
        expected=0.2,
        share=0.004,
        settings={"camera__motion_blur": True},
    )
    yield Case(
        name="band out of focus", scene=lambda: _moving_band(lens=0.02), expected=0.2, share=0.004
    )


def _moving_band(by_camera: bool = False, lens: float = 0.0) -> Scene:
    band = quad("band", 0, [(-0.4, 0, 9), (-0.2, 0, 9), (-0.2, 0, -9), (-0.4, 0, -9)])
    eye = Camera(
        position=(0, 1, 0),
        target=(0, 0, 0),
        up=(0, 0, -1),
        vertical_field=2 * math.atan(0.5),
        aperture=lens,
        focus_distance=0.5,
    )

    if by_camera:
        eye.closing = Pose((-0.6, 1, 0), (-0.6, 0, 0), (0, 0, -1))
    elif not lens:
        band.motion = np.tile(np.array([[0.6, 0, 0]], np.float32), (4, 1))

    return Scene(
        name="band", meshes=[band], materials=[glow(1.0)], camera=eye, environment=sky(0.0)
    )


def all_cases() -> list[Case]:
    parts = (furnaces, irradiance, fresnel, media, interreflection, cutouts, camera)
    return [case for part in parts for case in part()]


if __name__ == "__main__":
    print("| case | measured | expected | tolerance |\n|---|---|---|---|")
    for case in all_cases():
        found = case.measure()
        mark = "" if found.holds else " **missed**"
        print(
            f"| {case.name} | {found.measured:.5f}{mark} | {case.expected:.5f} | "
            f"{found.tolerance:.5f} |"
        )
