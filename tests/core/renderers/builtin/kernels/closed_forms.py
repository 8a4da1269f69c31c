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

ABOVE = Camera((0.0, 0.5, 0.001), (0, 0, 0), (0, 0, -1), 0.02)
"""Looks straight down at the origin from half a metre through a very narrow field."""

BLACK = Material("black", (0, 0, 0), ior=1.0)


@dataclass(frozen=True)
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
    return Material("grey", (albedo,) * 3, ior=1.0)


def glow(radiance: float) -> Material:
    return Material("glow", (0, 0, 0), ior=1.0, emission=(radiance,) * 3)


def _furnace(material: Material) -> Callable[[], Scene]:
    return lambda: Scene(
        "ball", [ball("ball", 0, 1.0, 128)], [material], Camera((0, 0, 4), (0, 0, 0)), sky(0.5)
    )


WHITE = (1.0, 1.0, 1.0)
FURNACES = {
    "matt": (Material("m", WHITE, ior=1.0), ()),
    "plastic": (Material("m", WHITE), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "metal": (Material("m", WHITE, metallic=1), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "glass": (Material("m", WHITE, transmission=1), (0.0, 0.1, 0.3, 0.6, 1.0)),
    "thin glass": (Material("m", WHITE, transmission=1, thin=True), (0.0, 0.3, 1.0)),
    "half clear": (Material("m", WHITE, transmission=0.5, thin=True), (0.0, 0.4)),
    "coated metal": (Material("m", WHITE, metallic=1, coat=1.0, coat_roughness=0.3), (0.4,)),
    "coated matt": (Material("m", WHITE, ior=1.0, coat=0.6), (0.5,)),
    "sheen": (Material("m", WHITE, sheen_colour=WHITE, sheen_roughness=0.5), (0.6,)),
    "leaf": (Material("m", WHITE, diffuse_transmission=0.5, thin=True), (0.5,)),
    "wax": (Material("m", WHITE, subsurface=Subsurface((0.3, 0.5, 0.8), WHITE)), (0.5,)),
}


def furnaces() -> Iterator[Case]:
    from dataclasses import replace

    for name, (material, roughnesses) in FURNACES.items():
        for roughness in roughnesses or (0.5,):
            label = f"furnace, {name}" + (f", roughness {roughness:g}" if roughnesses else "")
            bounces = {"bounces__total": 64, "bounces__roulette_start": 32}
            yield Case(
                label, _furnace(replace(material, roughness=roughness)), 0.5, 0.01, bounces, 24, 6
            )


def _lit_floor(
    *extra: Mesh,
    lights: tuple[Light, ...] = (),
    materials: tuple[Material, ...] = (),
    environment: Environment | None = None,
) -> Scene:
    return Scene(
        "floor",
        [floor(), *extra],
        [grey(), *materials],
        ABOVE,
        environment or sky(0.0),
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
    yield Case("even sky on a floor", lambda: _lit_floor(environment=sky(0.8)), 0.5 * 0.8)
    # Howell's catalogue of view factors, B-3: a square parallel to a point, from four corners.
    x = 0.5
    corner = x / math.sqrt(1 + x * x) * math.atan(x / math.sqrt(1 + x * x)) / math.pi
    square = 0.5 * 3.0 * 4 * corner
    ball_share = (0.25 / 1.5) ** 2
    yield Case(
        "square light above a floor", lambda: _square_above(0.5, 1.0, 3.0), square, settings=direct
    )
    yield Case(
        "ball light above a floor",
        lambda: _ball_above(0.25, 1.5, 10.0),
        0.5 * 10.0 * ball_share,
        0.005,
        direct,
    )
    point = Light(POINT, (2.0,) * 3, (0, 1.5, 0))
    yield Case(
        "point light above a floor", lambda: _lit_floor(lights=(point,)), 0.5 / math.pi * 2 / 1.5**2
    )
    slanted = Light(POINT, (2.0,) * 3, (1.0, 1.0, 0))
    yield Case(
        "point light aside",
        lambda: _lit_floor(lights=(slanted,)),
        0.5 / math.pi * 2 / 2 * math.sqrt(0.5),
    )
    spot = Light(SPOT, (2.0,) * 3, (0.5, 1, 0), (0, -1, 0), inner_cone=0.2, outer_cone=0.8)
    angle = math.cos(math.atan(0.5))
    share = ((angle - math.cos(0.8)) / (math.cos(0.2) - math.cos(0.8))) ** 2
    yield Case(
        "spot between its cones",
        lambda: _lit_floor(lights=(spot,)),
        0.5 / math.pi * 2 / 1.25 * angle * share,
    )
    sun = Light(DIRECTIONAL, (3.0,) * 3, direction=(-1, -1, 0))
    yield Case(
        "directional light", lambda: _lit_floor(lights=(sun,)), 0.5 / math.pi * 3 * math.sqrt(0.5)
    )

    yield Case(
        "form factor of parallel squares",
        _facing_squares,
        0.8 * 0.19982490,
        0.003,
        {**direct, "samples__pixel_filter": "box"},
        32,
    )


def _facing_squares() -> Scene:
    """A white unit square sees a bright one a metre away; seen from below, through the middle of
    the bright one's back."""
    target = quad("target", 0, [(-0.5, 0, 0.5), (0.5, 0, 0.5), (0.5, 0, -0.5), (-0.5, 0, -0.5)])
    light = quad("light", 1, [(-0.5, 1, -0.5), (0.5, 1, -0.5), (0.5, 1, 0.5), (-0.5, 1, 0.5)])
    camera = Camera((0, 0.9, 0), (0, 0, 0), (0, 0, -1), half_height=0.5)
    one_sided = Material("glow", (0, 0, 0), ior=1.0, emission=WHITE, double_sided=False)

    return Scene("squares", [target, light], [grey(0.8), one_sided], camera, sky(0.0))


def fresnel() -> Iterator[Case]:
    for degrees in (0, 45, 56.31, 75, 85):
        cosine = math.cos(math.radians(degrees))
        behind = math.sqrt(1 - (1 - cosine**2) / 2.25)
        parallel = ((1.5 * cosine - behind) / (1.5 * cosine + behind)) ** 2
        across = ((cosine - 1.5 * behind) / (cosine + 1.5 * behind)) ** 2
        name = f"Fresnel reflection at {degrees:g} degrees"
        yield Case(name, lambda d=degrees: _polished(d), (parallel + across) / 2, 0.005)


def _polished(degrees: float) -> Scene:
    angle = math.radians(degrees)
    camera = Camera((math.sin(angle), math.cos(angle), 0), (0, 0, 0), (0, 0, -1), 0.002)
    return Scene("polished", [floor()], [Material("m", (0, 0, 0), roughness=0.0)], camera, sky(1.0))


def media() -> Iterator[Case]:
    slab = lambda: Scene(  # noqa: E731
        "slab",
        [box("slab", 0, (4, 0.5, 4), 1e-4)],
        [
            Material(
                "liquid", WHITE, roughness=0.0, ior=1.0, transmission=1.0, absorption=(1.2,) * 3
            )
        ],
        Camera((0, 3, 0.001), (0, 0, 0), (0, 0, -1), 0.02),
        sky(1.0),
    )
    yield Case("Beer and Lambert through half a metre", slab, math.exp(-0.6))
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
        haze = Haze((-9, 0, -9), (9, depth, 9), (scattering,) * 3, (absorption,) * 3, 0.0, density)
        yield Case(
            f"single scattering, {name}",
            lambda h=haze: _hazy(h, sun),
            single,
            0.004,
            {"bounces__total": 0, "samples__max": 1024, **settings},
        )

        clear = Haze((-9, 0, -9), (9, depth, 9), (1.0,) * 3, (0.0,) * 3, 0.6, density)
        yield Case(
            f"furnace, {name}",
            lambda h=clear: _hazy(h, 0.0, 0.5),
            0.5,
            0.004,
            {"bounces__total": 64, **settings},
        )
        dark = Haze((-9, 0, -9), (9, depth, 9), (0.0,) * 3, (0.8,) * 3, 0.0, density)
        yield Case(
            f"absorption, {name}",
            lambda h=dark: _hazy(h, 0.0, 0.5),
            0.5 * math.exp(-0.8 * depth),
            0.004,
            settings,
        )


def _hazy(haze: Haze, sun: float, environment: float = 0.0) -> Scene:
    far = quad("far", 0, [(50, -9, 50), (50.1, -9, 50), (50.1, -9, 50.1), (50, -9, 50.1)])
    lights = [Light(DIRECTIONAL, (sun,) * 3, direction=(0, -1, 0))] if sun else []

    return Scene(
        "haze",
        [far],
        [BLACK],
        Camera((0, 3, 0.0), (0, 0, 0), (0, 0, -1), 0.01),
        sky(environment),
        lights=lights,
        haze=haze,
    )


def interreflection() -> Iterator[Case]:
    # Inside a closed room whose walls glow with 1 and reflect the share r, k bounces show (1 - r^(k
    # + 2)) / (1 - r).
    for bounces in (0, 1, 3, 64):
        yield Case(
            f"closed glowing room, {bounces} bounces",
            _glowing_room,
            (1 - 0.6 ** (bounces + 2)) / 0.4,
            0.002,
            {"bounces__total": bounces, "bounces__roulette_start": 12},
        )


def _glowing_room() -> Scene:
    room = box("room", 0, (2, 2, 2), 1e-4)
    room.corners = room.corners[:, ::-1].copy()
    room.normals = -room.normals
    wall = Material("wall", (0.6,) * 3, ior=1.0, emission=WHITE)

    return Scene("room", [room], [wall], Camera((0.3, 0.1, 0), (0, 0, -1)), sky(0))


def cutouts() -> Iterator[Case]:
    veil = Material("veil", (0, 0, 0), ior=1.0, opacity=0.4, opacity_mode=BLEND)

    def sheet(y: float) -> Mesh:
        return quad("veil", 1, [(-9, y, 9), (9, y, 9), (9, y, -9), (-9, y, -9)])

    yield Case(
        "sky through two veils",
        lambda: Scene("veils", [sheet(0.1), sheet(0.2)], [grey(), veil], ABOVE, sky(1.0)),
        0.36,
    )
    sun = Light(DIRECTIONAL, (math.pi,) * 3, direction=(0, -1, 0))

    yield Case(
        "sun through two veils",
        lambda: Scene(
            "veils",
            [floor(), sheet(0.6), sheet(0.7)],
            [grey(), veil],
            ABOVE,
            sky(0.0),
            lights=[sun],
        ),
        0.5 * 0.36,
    )


def camera() -> Iterator[Case]:
    # A bright band 0.2 wide crosses a field of 1.0 evenly by 0.6; or the camera moves past it the
    # other way.
    yield Case("moving band", _moving_band, 0.2, 0.004, {"camera__motion_blur": True})
    yield Case(
        "moving camera", lambda: _moving_band(True), 0.2, 0.004, {"camera__motion_blur": True}
    )
    yield Case("band out of focus", lambda: _moving_band(lens=0.02), 0.2, 0.004)


def _moving_band(by_camera: bool = False, lens: float = 0.0) -> Scene:
    band = quad("band", 0, [(-0.4, 0, 9), (-0.2, 0, 9), (-0.2, 0, -9), (-0.4, 0, -9)])
    eye = Camera(
        (0, 1, 0), (0, 0, 0), (0, 0, -1), 2 * math.atan(0.5), aperture=lens, focus_distance=0.5
    )

    if by_camera:
        eye.closing = Pose((-0.6, 1, 0), (-0.6, 0, 0), (0, 0, -1))
    elif not lens:
        band.motion = np.tile(np.array([[0.6, 0, 0]], np.float32), (4, 1))

    return Scene("band", [band], [glow(1.0)], eye, sky(0.0))


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
