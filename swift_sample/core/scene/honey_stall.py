"""The demo scene, "the honey stall": a market stall at dusk, built by code with a seed.

What in it teaches what: honey in glass needs many bounces; the corner behind ribbed glass goes dark
with few; cloth, wood and paper labels lose their texture when denoised too much; flames and brass
make stray pixels.
"""

import numpy as np

from swift_sample.core.scene import honey_textures as textures
from swift_sample.core.scene.honey_parts import SEED, SIZES, Builder, jar, jar_materials
from swift_sample.core.scene.kept import kept
from swift_sample.core.scene.model import (
    MASK,
    Camera,
    Choices,
    Displacement,
    Environment,
    Haze,
    Material,
    Mesh,
    Pose,
    Scene,
    Subsurface,
    TextureUse,
    check_variant,
    repeated,
)
from swift_sample.core.scene.shapes import (
    ball,
    box,
    flat_disc,
    joined,
    lathe,
    pierced_disc,
    placed,
    ring,
    sheet,
)

CUT_OUT_LID = "cut-out lid"
DRILLED_LID = "drilled lid"
VARIANTS = (CUT_OUT_LID, DRILLED_LID)
"""Holes in the tin lid by a texture's opacity, the default, or by real edges."""

TIN = (0.80, 0.71, 0.58)

FRAMES = 48
"""Length of the camera's way: two seconds."""


def honey_stall(size: str = "standard", choices: Choices | None = None) -> Scene:
    """The demo scene in one of SIZES. Raises SceneError for an unknown variant."""
    choices = choices or Choices()
    check_variant("honey stall", choices.variant, VARIANTS)
    variant = choices.variant or CUT_OUT_LID
    meshes, materials, sky, haze = kept(
        f"honey stall {size} {variant}", lambda: _modelled(size, variant)
    )

    return Scene(
        name="honey stall",
        meshes=meshes,
        materials=materials,
        camera=_camera(choices),
        environment=sky,
        haze=haze,
        variants=VARIANTS,
        frames=FRAMES,
    )


def _modelled(
    size: str, variant: str
) -> tuple[list[Mesh], list[Material], Environment, Haze | None]:
    b = Builder(SIZES[size])
    _stall(b)
    _jars(b)
    _candles(b)
    _smoker(b)
    _lantern(b)
    _cloth(b)
    _plate(b)
    _glass_corner(b)
    _tin(b, variant)
    _nuts(b)
    sky = textures.dusk_sky(np.random.default_rng([SEED, 1]), b.detail.sky)

    return b.meshes, b.materials, sky, _smoke(b.detail.smoke)


def _camera(choices: Choices) -> Camera:
    """A slow approach that starts and ends at rest."""

    def pose(frame: float) -> Pose:
        t = min(max(frame / (FRAMES - 1), 0.0), 1.0)
        way = t * t * (3 - 2 * t)
        return Pose(
            (-0.045 + 0.13 * way, 0.235 - 0.02 * way, 1.26 - 0.10 * way),
            (0.0 + 0.02 * way, 0.112, -0.06),
        )

    opening = pose(choices.frame)
    focus = float(np.linalg.norm(np.subtract(opening.position, (-0.05, 0.07, -0.02))))
    moves = choices.shutter > 0 and choices.frame > 0

    return Camera(
        position=opening.position,
        target=opening.target,
        vertical_field=0.385,
        aperture=0.0035,
        focus_distance=focus,
        closing=pose(choices.frame + choices.shutter) if moves else None,
    )


def _tin(b: Builder, variant: str) -> None:
    """A night light in a tin dish; the tin's pierced lid leans before it."""
    tin = b.material(Material(name="tin", base_colour=TIN, metallic=1.0, roughness=0.46))
    flame = b.material(
        Material(
            name="night light", base_colour=(0, 0, 0), emission=(7.0, 3.4, 1.1), double_sided=False
        )
    )
    at = np.array([0.083, 0.0012, 0.052])
    r = 0.034
    n = b.detail.segments
    dish = [
        (0.0, 0.0005),
        (0.019, 0.0005),
        (0.020, 0.0015),
        (0.020, 0.011),
        (0.0192, 0.011),
        (0.0192, 0.0015),
        (0.0, 0.0015),
    ]
    b.add(placed(lathe("tin", tin, dish, n), at))
    drop = [
        (0.0, 0.008),
        (0.0052, 0.012),
        (0.0072, 0.020),
        (0.0046, 0.032),
        (0.0016, 0.041),
        (0.0, 0.046),
    ]
    b.add(placed(lathe("night light", flame, drop, 16, 3), at))
    lean = 1.27
    holes = _lid_holes(r)
    middle = at + [0.004, r * np.sin(lean) + 0.0012, 0.033]
    rim = [(r - 0.0006, -0.006), (r + 0.0004, -0.006), (r + 0.0004, -0.0004), (r, 0.0)]
    b.add(placed(lathe("tin lid rim", tin, rim, n), middle, 0.12, lean))

    if variant == DRILLED_LID:
        lid = pierced_disc("tin lid", tin, holes, r, max(12, n // 2))
    else:
        holed = Material(
            name="pierced tin",
            base_colour=TIN,
            metallic=1.0,
            roughness=0.46,
            opacity_mode=MASK,
            textures={"base": TextureUse(textures.holes_texture(holes, r, 2 * b.detail.texture))},
        )
        lid = flat_disc("tin lid", b.material(holed), r, n)

    b.add(placed(lid, middle, 0.12, lean))


def _lid_holes(reach: float) -> list[list[float]]:
    """Radii of the rings of holes' cells and, for each ring, how many cells: [inner, outer, count,
    hole radius]."""
    step = reach / 5.4
    rings = [[0.0, 0.7 * step, 1, 0.30 * step]]
    rings += [[(k - 0.3) * step, (k + 0.7) * step, 6 * k, 0.30 * step] for k in range(1, 5)]

    return [*rings, [4.7 * step, reach, 0, 0.0]]


def _nuts(b: Builder) -> None:
    """Hazelnuts, one shape many times: around the plate, and by the thousand in a crate where the
    scene is heavy."""
    shell = b.material(Material(name="hazelnut", base_colour=(0.30, 0.135, 0.05), roughness=0.42))
    n = max(8, b.detail.segments // 3)
    r = 0.0085
    profile = [
        (0.0, 0.0),
        (0.75 * r, 0.12 * r),
        (r, 0.75 * r),
        (0.82 * r, 1.4 * r),
        (0.3 * r, 1.85 * r),
        (0.0, 1.98 * r),
    ]
    shape = lathe("hazelnut", shell, profile, n, max(2, n // 8))
    rng = np.random.default_rng([SEED, 2])
    near = min(b.detail.nuts, 26)
    copies = []

    for k in range(b.detail.nuts):
        if k < near:
            angle = rng.uniform(0, 2 * np.pi)
            reach = 0.012 + 0.055 * np.sqrt(rng.uniform())
            at = (0.185 + 1.25 * reach * np.cos(angle), 0.008, 0.165 + 0.55 * reach * np.sin(angle))
        else:
            at = (rng.uniform(-0.62, -0.50), 0.006 + rng.uniform(0, 0.09), rng.uniform(-0.20, 0.10))

        copies.append(placed(shape, at, rng.uniform(0, 6.3), rng.uniform(0.9, 2.2)))

    b.add(joined("hazelnut", copies))


def _smoke(size: int) -> Haze:
    """Cool smoke that leaves the smoker's spout, drifts behind the jars and sinks."""
    low, high = np.array([-0.42, 0.075, -0.30]), np.array([0.20, 0.30, -0.06])
    shape = (size * 24 // 62, size * 22 // 62, size)
    z, y, x = (
        low[axis] + (np.arange(count) + 0.5) / count * (high - low)[axis]
        for axis, count in ((2, shape[0]), (1, shape[1]), (0, shape[2]))
    )

    z, y, x = np.meshgrid(z, y, x, indexing="ij")
    way = np.clip((x - (-0.405)) / 0.58, 0, 1)
    middle_y = 0.237 + 0.06 * way - 0.18 * way**1.6 + 0.008 * np.sin(15 * way + 0.4)
    middle_z = -0.115 - 0.16 * np.minimum(way / 0.45, 1) ** 1.5 + 0.02 * np.sin(11 * way)
    width = 0.008 + 0.034 * way**0.8
    curl = textures.smoke_noise(np.random.default_rng([SEED, 3]), shape)
    density = (
        np.exp(-(((y - middle_y) / width) ** 2 + ((z - middle_z) / (1.3 * width)) ** 2))
        * (1 - way) ** 0.6
    )
    density *= np.clip((x + 0.418) / 0.015, 0, 1) * np.clip(0.8 + 0.6 * curl, 0.05, 1.8)

    return Haze(
        low=tuple(low),
        high=tuple(high),
        scattering=(24.0, 24.0, 24.5),
        absorption=(0.0, 0.0, 0.0),
        anisotropy=0.2,
        density=density.astype(np.float32),
    )


def _stall(b: Builder) -> None:
    boards = textures.wood_texture(11, b.detail.texture, (0.105, 0.052, 0.024), (0.36, 0.205, 0.10))
    grey = textures.wood_texture(12, b.detail.texture, (0.07, 0.048, 0.034), (0.24, 0.165, 0.11))
    counter = b.material(
        Material(name="oiled wood", roughness=0.36, textures={"base": repeated(boards, 1.3, 1.3)})
    )
    frame = b.material(
        Material(name="weathered wood", roughness=0.6, textures={"base": repeated(grey, 1.2, 1.2)})
    )
    depths = (0.145, 0.16, 0.15, 0.155)
    z = -0.29

    for depth in depths:
        thickness = 0.030 + 0.0015 * b.rng.uniform(-1, 1)
        b.add(
            placed(
                box("counter board", counter, (2.6, thickness, depth - 0.004), 0.003),
                (b.rng.uniform(-0.3, 0.3), -0.015, z + depth / 2),
            )
        )

        z += depth

    b.add(placed(box("counter front", frame, (2.4, 0.34, 0.02)), (0, -0.205, 0.295)))
    b.add(placed(box("post", frame, (0.055, 1.6, 0.055)), (-0.655, 0.2, -0.32)))
    b.add(placed(box("beam", frame, (2.4, 0.05, 0.06)), (0, 0.455, -0.33)))


def _jars(b: Builder) -> None:
    honey = jar_materials(b)
    acacia = honey("acacia honey", (0.8, 4.5, 24.0))
    blossom = honey("blossom honey", (2.0, 13.0, 70.0))
    forest = honey("forest honey", (9.0, 42.0, 160.0))
    jar(b, blossom, (-0.228, 0.0, -0.045), 0.048, 0.128, 0.80, 0.25)
    jar(b, acacia, (-0.108, 0.0, -0.085), 0.048, 0.128, 0.80, -0.15)
    jar(b, forest, (0.012, 0.0, 0.005), 0.048, 0.128, 0.78, -0.30)
    jar(b, blossom, (-0.005, 0.0, -0.175), 0.048, 0.128, 0.80, 0.6)
    jar(b, acacia, (-0.055, 0.1305, -0.130), 0.042, 0.105, 0.80, 0.12)
    jar(b, forest, (-0.322, 0.0, -0.015), 0.038, 0.095, 0.80, 0.5)


def _candle(
    b: Builder, wax: int, wick: int, flame: int, at: tuple[float, float, float], r: float, h: float
) -> None:
    body = [
        (0.0, 0.0),
        (0.97 * r, 0.0),
        (r, 0.002),
        (r, 0.5 * h),
        (r, h - 0.006),
        (0.93 * r, h - 0.0005),
        (0.80 * r, h - 0.003),
        (0.4 * r, h - 0.006),
        (0.0, h - 0.007),
    ]
    b.add(
        placed(lathe("candle", wax, body, b.detail.segments, max(3, b.detail.segments // 24)), at)
    )
    b.add(
        placed(
            lathe("wick", wick, [(0.0009, h - 0.01), (0.0009, h + 0.006), (0.0, h + 0.0065)], 8), at
        )
    )
    drop = [
        (0.0, 0.0),
        (0.0045, 0.003),
        (0.0062, 0.009),
        (0.0047, 0.019),
        (0.0019, 0.028),
        (0.0, 0.034),
    ]
    b.add(placed(lathe("flame", flame, drop, 16, 3), (at[0], at[1] + h + 0.002, at[2])))


def _candles(b: Builder) -> None:
    wax = b.material(
        Material(
            name="beeswax",
            base_colour=(0.83, 0.54, 0.16),
            roughness=0.42,
            ior=1.44,
            subsurface=Subsurface((0.0014, 0.0009, 0.0005), (0.997, 0.968, 0.66)),
        )
    )
    wick = b.material(Material(name="wick", base_colour=(0.03, 0.025, 0.02), roughness=0.9))
    flame = b.material(
        Material(name="flame", base_colour=(0, 0, 0), emission=(4.4, 2.3, 0.75), double_sided=False)
    )
    _candle(b, wax, wick, flame, (0.158, 0.0, -0.008), 0.023, 0.070)
    _candle(b, wax, wick, flame, (0.225, 0.0, -0.075), 0.025, 0.125)
    _candle(b, wax, wick, flame, (0.140, 0.0, -0.130), 0.022, 0.160)


def _smoker(b: Builder) -> None:
    brass = b.material(
        Material(name="brass", base_colour=(0.86, 0.60, 0.26), metallic=1.0, roughness=0.20)
    )
    leather = b.material(Material(name="leather", base_colour=(0.13, 0.045, 0.022), roughness=0.55))
    at = np.array([-0.435, 0.0, -0.125])
    r = 0.056
    h = 0.135
    n = b.detail.segments

    can = [
        (0.0, 0.0),
        (r, 0.0),
        (r + 0.003, 0.001),
        (r + 0.003, 0.006),
        (r, 0.007),
        (r, 0.045),
        (r + 0.0025, 0.047),
        (r + 0.0025, 0.051),
        (r, 0.053),
        (r, h - 0.012),
        (r + 0.004, h - 0.010),
        (r + 0.004, h),
        (r, h + 0.001),
    ]
    cone = [(r, h + 0.001), (0.72 * r, h + 0.026), (0.40 * r, h + 0.050), (0.33 * r, h + 0.058)]
    b.add(
        placed(lathe("smoker can", brass, can, n), at),
        placed(lathe("smoker cone", brass, cone, n, 6), at),
    )

    spout = lathe(
        "smoker spout",
        brass,
        [
            (0.0185, 0.0),
            (0.0165, 0.03),
            (0.0135, 0.052),
            (0.0118, 0.052),
            (0.0145, 0.028),
            (0.016, 0.0),
        ],
        n,
        4,
    )
    b.add(placed(spout, at + [0.004, h + 0.050, 0.006], tilt=0.35, lean=-0.55))
    b.add(
        placed(
            box("bellows board", brass, (0.006, 0.125, 0.088), 0.002), at + [-0.068, 0.068, 0.004]
        )
    )

    def fold(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        angle = -2 * np.pi * u
        pleat = 1 - 0.10 * np.abs(np.sin(3 * np.pi * v))
        c = np.cos(angle)
        s = np.sin(angle)
        square = 1 / np.maximum(np.abs(c), np.abs(s)) ** 0.7

        return -0.005 - 0.048 * v, 0.054 * pleat * square * c, 0.037 * pleat * square * s

    bellows = sheet("bellows", leather, n, max(24, n // 2), fold, closed_u=True)
    b.add(placed(bellows, at + [-0.066, 0.068, 0.004]))
    b.add(
        placed(
            box("bellows board", leather, (0.006, 0.122, 0.086), 0.002), at + [-0.122, 0.068, 0.004]
        )
    )


def _lantern(b: Builder) -> None:
    iron = b.material(
        Material(name="iron", base_colour=(0.10, 0.095, 0.09), metallic=1.0, roughness=0.42)
    )
    glow = b.material(
        Material(
            name="lantern glow",
            base_colour=(0.9, 0.8, 0.6),
            emission=(13.0, 6.9, 2.5),
            double_sided=False,
        )
    )
    at = np.array([0.335, 0.305, -0.10])
    n = b.detail.segments

    b.add(
        placed(
            lathe(
                "lantern globe",
                glow,
                [
                    (0.0, -0.042),
                    (0.022, -0.040),
                    (0.035, -0.022),
                    (0.036, 0.004),
                    (0.028, 0.026),
                    (0.018, 0.038),
                    (0.0, 0.040),
                ],
                n // 2,
                4,
            ),
            at,
        )
    )
    b.add(
        placed(
            lathe(
                "lantern base",
                iron,
                [(0.0, -0.060), (0.034, -0.060), (0.036, -0.056), (0.034, -0.045), (0.0, -0.043)],
                n,
            ),
            at,
        )
    )

    b.add(
        placed(
            lathe(
                "lantern cap",
                iron,
                [
                    (0.0, 0.041),
                    (0.046, 0.041),
                    (0.047, 0.044),
                    (0.030, 0.056),
                    (0.012, 0.066),
                    (0.010, 0.075),
                    (0.0, 0.077),
                ],
                n,
            ),
            at,
        )
    )
    for k in range(4):
        angle = np.pi / 4 + k * np.pi / 2
        bar = lathe("lantern bar", iron, [(0.0016, -0.047), (0.0016, 0.043)], 10)
        b.add(placed(bar, at + [0.040 * np.cos(angle), 0.0, 0.040 * np.sin(angle)]))

    for height in (-0.012, 0.018):
        b.add(placed(ring("lantern hoop", iron, 0.040, 0.0013, n, 8), at + [0, height, 0]))

    # Another lantern hangs in front of the stall, out of the picture.
    bright = b.material(
        Material(
            name="front lantern",
            base_colour=(0, 0, 0),
            emission=(34.0, 18.5, 8.0),
            double_sided=False,
        )
    )
    b.add(placed(ball("front lantern", bright, 0.16, 32), (-0.66, 0.62, 0.92)))
    b.add(placed(lathe("lantern chain", iron, [(0.0018, 0.075), (0.0018, 0.16)], 10), at))


def _cloth(b: Builder) -> None:
    weave, height = textures.burlap_textures(15, b.detail.texture)
    burlap = b.material(
        Material(
            name="burlap",
            roughness=0.95,
            ior=1.3,
            sheen_colour=(0.10, 0.075, 0.05),
            sheen_roughness=0.6,
            textures={"base": repeated(weave, 9.0, 9.0)},
            displacement=Displacement(repeated(height, 9.0, 9.0), 0.0012),
        )
    )

    phases = b.rng.uniform(0, 2 * np.pi, 6)
    edge = 0.318
    radius = 0.014

    def drape(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        path = -0.12 + 0.66 * v
        lie = np.minimum(path, edge)
        bend = np.clip((path - edge) / radius, 0, np.pi / 2)
        hang = np.maximum(path - edge - radius * np.pi / 2, 0)
        x = (u - 0.5) * (0.56 + 0.02 * np.sin(5 * v + phases[0]))
        fold = sum(np.sin(2 * np.pi * k * u + phases[k] + 1.2 * v) / k for k in (2, 3, 5))
        ripple = 0.0016 * (1 + np.sin(7 * v + 9 * u + phases[1])) + 0.0011 * (
            1 + np.sin(23 * u - 11 * v + phases[4])
        )
        y = 0.0022 + ripple * (hang == 0) + radius * (np.cos(bend) - 1) - hang
        z = lie + radius * np.sin(bend) + 0.012 * fold * np.minimum(hang / 0.08, 1)

        return x, y, z

    cloth = sheet("burlap runner", burlap, b.detail.cloth, b.detail.cloth, drape)
    cloth.corners = cloth.corners[:, ::-1].copy()
    cloth.normals = -cloth.normals
    b.add(placed(cloth, (-0.14, 0.0, 0.0)))


def _plate(b: Builder) -> None:
    glaze = b.material(Material(name="stoneware", base_colour=(0.42, 0.45, 0.43), roughness=0.16))
    beech = b.material(Material(name="beech", base_colour=(0.52, 0.33, 0.17), roughness=0.45))
    n = b.detail.segments
    at = np.array([0.285, 0.001, 0.12])

    dish = [
        (0.0, 0.003),
        (0.034, 0.003),
        (0.058, 0.007),
        (0.070, 0.013),
        (0.0715, 0.0125),
        (0.059, 0.0045),
        (0.036, 0.0),
        (0.0, 0.0),
    ]
    b.add(placed(lathe("plate", glaze, dish[::-1], n, 4), at))
    head = [(0.0, 0.0)]

    for k in range(6):
        y = 0.004 + 0.0062 * k
        r = (0.0085, 0.0125, 0.0145, 0.0145, 0.0125, 0.0085)[k]
        head += [(r * 0.62, y - 0.0012), (r, y), (r, y + 0.0026), (r * 0.62, y + 0.0038)]

    shaft = [
        (0.0042, 0.044),
        (0.0036, 0.075),
        (0.0042, 0.135),
        (0.0058, 0.150),
        (0.0040, 0.157),
        (0.0, 0.158),
    ]
    dipper = lathe("honey dipper", beech, head + shaft, n // 2)
    b.add(placed(dipper, at + [-0.030, 0.019, 0.015], tilt=0.0, lean=-1.40, turn=0.55))


def _glass_corner(b: Builder) -> None:
    pane = b.material(
        Material(
            name="ribbed glass",
            base_colour=(1, 1, 1),
            roughness=0.13,
            ior=1.5,
            transmission=1.0,
            absorption=(3.0, 1.2, 2.0),
        )
    )
    planks = textures.wood_texture(13, b.detail.texture, (0.13, 0.075, 0.04), (0.42, 0.27, 0.15))
    wall = b.material(
        Material(name="cabinet wood", roughness=0.5, textures={"base": repeated(planks, 1.6, 1.6)})
    )
    clay = b.material(Material(name="glazed clay", base_colour=(0.30, 0.10, 0.045), roughness=0.3))
    cream = b.material(Material(name="enamel", base_colour=(0.72, 0.68, 0.58), roughness=0.2))
    left = 0.405
    right = 0.80
    back = -0.200
    front = 0.0
    top = 0.375
    middle = (left + right) / 2
    width = right - left
    depth = front - back

    b.add(
        placed(box("cabinet back", wall, (width, top, 0.014)), (middle, top / 2, back)),
        placed(
            box("cabinet side", wall, (0.016, top, depth + 0.03)),
            (left, top / 2, (front + back) / 2),
        ),
        placed(
            box("cabinet side", wall, (0.016, top, depth + 0.03)),
            (right, top / 2, (front + back) / 2),
        ),
        placed(
            box("cabinet top", wall, (width + 0.05, 0.018, depth + 0.06)),
            (middle, top + 0.009, (front + back) / 2),
        ),
        placed(
            box("cabinet shelf", wall, (width - 0.02, 0.010, depth - 0.03)),
            (middle, 0.185, (front + back) / 2 - 0.01),
        ),
    )
    ribs = b.detail.ribs
    thickness = 0.006
    half_w = width / 2 - 0.010
    half_h = top / 2 - 0.004

    def face(sign: float) -> Mesh:
        def surface(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
            x = (u - 0.5) * 2 * half_w * sign
            wave = 0.0022 * np.cos(2 * np.pi * ribs * u) if sign > 0 else 0.0 * u
            return x, (v - 0.5) * 2 * half_h, sign * thickness / 2 + wave

        return sheet("ribbed pane", pane, ribs * 12, 1, surface)

    corners = [(-half_w, -half_h), (half_w, -half_h), (half_w, half_h), (-half_w, half_h)]
    rim = []

    for k in range(4):
        (x0, y0), (x1, y1) = corners[k], corners[(k + 1) % 4]

        def side(
            u: np.ndarray,
            v: np.ndarray,
            x0: float = x0,
            y0: float = y0,
            x1: float = x1,
            y1: float = y1,
        ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
            depth_at = (0.5 - v) * (thickness + 0.0044 * (v < 0.5)) + 0 * u
            return x0 + (x1 - x0) * u, y0 + (y1 - y0) * u, depth_at

        edge = sheet("ribbed pane", pane, 1, 1, side)
        edge.corners = edge.corners[:, ::-1].copy()
        edge.normals = -edge.normals
        rim.append(edge)

    b.add(placed(joined("ribbed pane", [face(1.0), face(-1.0), *rim]), (middle, top / 2, front)))
    n = b.detail.segments
    jug = [
        (0.0, 0.0),
        (0.026, 0.0),
        (0.036, 0.02),
        (0.038, 0.045),
        (0.026, 0.075),
        (0.019, 0.090),
        (0.023, 0.102),
    ]

    b.add(
        placed(lathe("jug", clay, jug, n, 5), (0.505, 0.001, -0.10)),
        placed(
            lathe(
                "mug",
                cream,
                [(0.0, 0.0), (0.030, 0.0), (0.032, 0.004), (0.032, 0.070), (0.030, 0.072)],
                n,
            ),
            (0.610, 0.001, -0.09),
        ),
        placed(
            lathe(
                "bowl",
                cream,
                [(0.0, 0.0), (0.020, 0.0), (0.036, 0.015), (0.045, 0.036), (0.047, 0.045)],
                n,
                4,
            ),
            (0.555, 0.191, -0.105),
        ),
        placed(ball("apple", clay, 0.027, n // 2), (0.560, 0.235, -0.105)),
    )
