"""Features of materials: what can be taken away from a surface, or replaced by something
cheaper."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from swift_sample.core.picture.colour import srgb_decoded, srgb_encoded
from swift_sample.core.scene.features.kinds import (
    GEOMETRY,
    HALVINGS,
    LAMP,
    MATERIAL,
    MATT,
    MEAN,
    OFF,
    Kind,
)
from swift_sample.core.scene.features.power import (
    areas_of,
    is_glowing,
    material_power,
    mean_of,
    sent_from,
    total_power,
)
from swift_sample.core.scene.model import (
    BLEND,
    MASK,
    OPAQUE,
    POINT,
    Light,
    Material,
    Scene,
    Texture,
    TextureUse,
)

NEVER_CUT = 0.999
FROSTED = 0.05
CLEAR_ROUGHNESS = 0.0
MATT_ROUGHNESS = 0.7
"""Reflections rougher than this are hardly seen as such."""
LITTLE_POWER = 0.001
"""What sends out less of a scene's light than this is hardly missed."""


@dataclass(frozen=True, kw_only=True)
class MaterialKind(Kind):
    """A feature of the materials that have one name: `has` says whether a material has it,
    `without` gives it with a value in its place."""

    has: Callable[[Material], bool] = lambda material: False
    without: Callable[[Scene, Material, str], Material] = lambda scene, material, value: material
    noticed: Callable[[Scene, Sequence[Material]], str] = lambda scene, materials: ""
    part: ClassVar[str] = MATERIAL

    def owners(self, scene: Scene) -> Iterable[str]:
        used = (
            scene.materials[number]
            for number in dict.fromkeys(mesh.material for mesh in scene.meshes)
        )
        return dict.fromkeys(material.name for material in used if self.has(material))

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        made = [
            self.without(scene, m, value) if m.name == owner and self.has(m) else m
            for m in scene.materials
        ]
        return replace(scene, materials=made)

    def remark(self, scene: Scene, owner: str) -> str:
        return self.noticed(
            scene, [material for material in scene.materials if material.name == owner]
        )


def _without_slots(material: Material, *slots: str) -> dict[str, TextureUse]:
    return {slot: use for slot, use in material.textures.items() if slot not in slots}


def _matt(_: Scene, material: Material, value: str) -> Material:
    """Scattering below the surface becomes a matt surface of the colour that comes back from it:
    the albedo of a half space that scatters evenly, by the fit of Kulla and Conty (2017,
    "Revisiting Physically Based Shading at Imageworks")."""
    below = material.subsurface
    assert below is not None
    single = np.clip(np.asarray(below.albedo, float), 0.0, 1.0)
    near = np.sqrt(np.maximum(0.0, 1 - single))
    back = np.clip((1 - near) * (1 - 0.139 * near) / (1 + 1.17 * near), 0.0, 1.0)
    red, green, blue = (float(v) for v in back * np.asarray(material.base_colour, float))

    return replace(material, subsurface=None, transmission=0.0, base_colour=(red, green, blue))


def _alpha(_: Scene, material: Material, value: str) -> Material:
    if value == "mask":
        return replace(material, opacity_mode=MASK, opacity_cutoff=0.5)
    return replace(material, opacity_mode=OPAQUE, opacity=1.0)


def _fewer_texels(_: Scene, material: Material, value: str) -> Material:
    """Colour and roughness from smaller pictures, or of their means alone."""
    if value != MEAN:
        halvings = HALVINGS[value]
        smaller = {
            slot: replace(use, texture=_smaller(use.texture, halvings))
            for slot, use in material.textures.items()
        }
        return replace(material, textures=smaller)

    made = replace(material, textures=_without_slots(material, "base", "metal_rough"))
    base = material.textures.get("base")
    rough = material.textures.get("metal_rough")

    if base is not None:
        mean = mean_of(base.texture)
        red, green, blue = (
            float(m * c) for m, c in zip(mean[:3], material.base_colour, strict=True)
        )
        made = replace(
            made, base_colour=(red, green, blue), opacity=material.opacity * float(mean[3])
        )

    if rough is not None:
        mean = mean_of(rough.texture)
        made = replace(
            made,
            roughness=material.roughness * float(mean[1]),
            metallic=material.metallic * float(mean[2]),
        )

    return made


def _smaller(texture: Texture, halvings: int) -> Texture:
    """A texture with its sides halved so often, each texel the mean of linear values."""
    pixels = texture.pixels.astype(np.float32) / 255
    if texture.srgb:
        pixels[..., :3] = srgb_decoded(pixels[..., :3])

    for _ in range(halvings):
        height, width = pixels.shape[:2]
        if min(height, width) < 2:
            break
        even = pixels[: height // 2 * 2, : width // 2 * 2]
        pixels = (even[0::2, 0::2] + even[1::2, 0::2] + even[0::2, 1::2] + even[1::2, 1::2]) / 4

    if texture.srgb:
        pixels = np.concatenate([srgb_encoded(pixels[..., :3]), pixels[..., 3:]], axis=2)

    return replace(texture, source=np.clip(pixels * 255 + 0.5, 0, 255).astype(np.uint8))


def _flatter(scene: Scene, material: Material, value: str) -> Material:
    """A surface that its texture does not move: flat, or with bumps that look as the moved surface
    would from afar, its slopes by central differences of the heights."""
    moved = material.displacement
    assert moved is not None
    if value != "bump":
        return replace(material, displacement=None)

    height = moved.use.texture.pixels[..., 0].astype(np.float64) / 255 * moved.scale
    metres = _metres_a_turn(scene, material, moved.use)
    rows, columns = height.shape
    across = (np.roll(height, -1, axis=1) - np.roll(height, 1, axis=1)) * columns / (2 * metres)
    up = (np.roll(height, -1, axis=0) - np.roll(height, 1, axis=0)) * rows / (2 * metres)
    normals = np.stack([-across, -up, np.ones_like(height)], axis=2)
    normals /= np.linalg.norm(normals, axis=2, keepdims=True)
    pixels = np.full((rows, columns, 4), 255, np.uint8)
    pixels[..., :3] = np.clip((normals * 0.5 + 0.5) * 255 + 0.5, 0, 255).astype(np.uint8)
    bumps = replace(
        moved.use.texture, name=f"{moved.use.texture.name} as bumps", source=pixels, srgb=False
    )
    textures = {**material.textures, "normal": replace(moved.use, texture=bumps)}

    return replace(material, displacement=None, textures=textures, normal_scale=1.0)


def _metres_a_turn(scene: Scene, material: Material, use: TextureUse) -> float:
    """How many metres of the surface one whole picture covers, by the areas of the triangles that
    show it."""
    surface = shown = 0.0
    for mesh in scene.meshes:
        uvs = mesh.second_uvs if use.uv_set else mesh.uvs
        if scene.materials[mesh.material] is material and len(uvs):
            surface += float(areas_of(mesh).sum())
            a, b, c = (uvs[mesh.corners[:, k]].astype(float) for k in range(3))
            ab = b - a
            ac = c - a
            shown += float(np.abs(ab[:, 0] * ac[:, 1] - ab[:, 1] * ac[:, 0]).sum() / 2)

    shown *= abs(float(np.linalg.det(np.asarray(use.transform, float)[:, :2])))
    return float(np.sqrt(surface / shown)) if shown > 0 and surface > 0 else 1.0


def _with_lamps(scene: Scene, name: str) -> Scene:
    """The scene with a lamp of the same power in the middle of each glowing object of this
    material, in its place: a surface of area A and radiance L sends out pi L A, a lamp of intensity
    I 4 pi I."""
    kept = []
    lamps = list(scene.lights)

    for mesh in scene.meshes:
        if scene.materials[mesh.material].name != name or not is_glowing(scene, mesh):
            kept.append(mesh)
            continue

        areas = areas_of(mesh)
        middles = mesh.positions[mesh.corners].astype(float).mean(axis=1)
        place = (middles * areas[:, None]).sum(axis=0) / max(float(areas.sum()), 1e-30)
        red, green, blue = (float(v) for v in sent_from(scene, mesh) / 4)
        x, y, z = (float(v) for v in place)
        lamps.append(
            Light(kind=POINT, colour=(red, green, blue), position=(x, y, z), name=mesh.name)
        )

    return replace(scene, meshes=kept, lights=lamps)


@dataclass(frozen=True, kw_only=True)
class CutOut(MaterialKind):
    """A mask; in its place its outline as geometry, or nothing is cut out."""

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        if value != GEOMETRY:
            return super().applied(scene, owner, value)

        from swift_sample.core.scene.features.cutouts import (
            as_geometry,
        )  # the geometry library comes with it

        return as_geometry(scene, lambda material: material.name == owner and self.has(material))


@dataclass(frozen=True, kw_only=True)
class Glow(MaterialKind):
    """Light that a surface sends out; in its place a lamp, or nothing."""

    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        return _with_lamps(scene, owner) if value == LAMP else super().applied(scene, owner, value)

    def remark(self, scene: Scene, owner: str) -> str:
        total = total_power(scene)
        share = material_power(scene, {owner}) / total if total > 0 else 1.0
        return f"it sends out {share:.2%} of all light" if share < LITTLE_POWER else ""


def _never_cuts(_: Scene, materials: Sequence[Material]) -> str:
    uses = [material.textures.get("base") for material in materials]
    least = [
        float(use.texture.pixels[..., 3].min()) / 255 if use is not None else 1.0 for use in uses
    ]
    if all(m.opacity * alpha >= NEVER_CUT for m, alpha in zip(materials, least, strict=True)):
        return "nothing of it is see-through: opaque looks the same"

    return ""


def _largest(_: Scene, materials: Sequence[Material]) -> str:
    sizes = {
        material.textures[slot].texture.size for material in materials for slot in material.textures
    }
    width, height = max(sizes, key=lambda size: size[0] * size[1])
    return f"its largest picture has {width}×{height} texels"


def _reflects(material: Material) -> bool:
    glossy = material.roughness < MATT_ROUGHNESS and (
        material.specular > 0 or material.metallic > 0
    )
    return (
        glossy and material.transmission == 0 and not material.unlit and max(material.emission) == 0
    )


KINDS: tuple[MaterialKind, ...] = (
    MaterialKind(
        what="transmission",
        label="light through it",
        values=(OFF,),
        help="Light passes through; off makes it opaque.",
        rays=("transmission",),
        has=lambda m: m.transmission > 0,
        without=lambda _, m, __: replace(
            m, transmission=0.0, textures=_without_slots(m, "transmission")
        ),
    ),
    MaterialKind(
        what="frosting",
        label="frosting",
        values=("clear",),
        help="What is seen through it is blurred; clear is not.",
        rays=("transmission",),
        has=lambda m: m.transmission > 0 and m.roughness > FROSTED,
        without=lambda _, m, __: replace(
            m, roughness=CLEAR_ROUGHNESS, textures=_without_slots(m, "metal_rough")
        ),
    ),
    MaterialKind(
        what="alpha",
        label="see-through parts",
        values=("mask", "opaque"),
        help="Parts are half see-through; mask makes each pixel all or nothing, opaque none.",
        rays=("cutout",),
        has=lambda m: m.opacity_mode == BLEND,
        without=_alpha,
        noticed=_never_cuts,
    ),
    CutOut(
        what="cutout",
        label="cut-outs",
        values=(GEOMETRY, "opaque"),
        help=(
            "Parts are cut out by a picture; geometry cuts the surface itself along its outline, "
            "opaque leaves them there."
        ),
        rays=(),
        has=lambda m: m.opacity_mode == MASK,
        without=_alpha,
        noticed=_never_cuts,
    ),
    MaterialKind(
        what="subsurface",
        label="light below the surface",
        values=(MATT,),
        help="Light wanders below the surface; matt has the same mean colour without.",
        rays=(),
        has=lambda m: m.subsurface is not None,
        without=_matt,
    ),
    MaterialKind(
        what="coat",
        label="coat",
        values=(OFF,),
        help="A clear layer on top.",
        rays=("glossy",),
        has=lambda m: m.coat > 0,
        without=lambda _, m, __: replace(
            m, coat=0.0, textures=_without_slots(m, "coat", "coat_roughness", "coat_normal")
        ),
    ),
    MaterialKind(
        what="sheen",
        label="sheen",
        values=(OFF,),
        help="The bright rim of cloth.",
        rays=("glossy",),
        has=lambda m: max(m.sheen_colour) > 0,
        without=lambda _, m, __: replace(
            m,
            sheen_colour=(0.0, 0.0, 0.0),
            textures=_without_slots(m, "sheen_colour", "sheen_roughness"),
        ),
    ),
    MaterialKind(
        what="normal",
        label="bumps",
        values=(OFF,),
        help="Fine bumps by a normal map.",
        rays=(),
        has=lambda m: "normal" in m.textures and m.normal_scale != 0,
        without=lambda _, m, __: replace(m, textures=_without_slots(m, "normal")),
    ),
    MaterialKind(
        what="displacement",
        label="displacement",
        values=("bump", OFF),
        help="The surface itself is moved by a texture; bumps only look so.",
        rays=(),
        has=lambda m: m.displacement is not None and m.displacement.scale != 0,
        without=_flatter,
    ),
    MaterialKind(
        what="reflection",
        label="reflections",
        values=(MATT,),
        help="It mirrors its surroundings; matt does not.",
        rays=("glossy",),
        has=_reflects,
        without=lambda _, m, __: replace(m, specular=0.0, metallic=0.0, coat=0.0),
    ),
    Glow(
        what="emission",
        label="glow",
        values=(LAMP, OFF),
        help=(
            "It glows, and lights what is around it; a lamp of the same power takes its place, and "
            "is not seen itself."
        ),
        rays=(),
        has=lambda m: max(m.emission) > 0,
        without=lambda _, m, __: replace(
            m, emission=(0.0, 0.0, 0.0), textures=_without_slots(m, "emission")
        ),
    ),
    MaterialKind(
        what="textures",
        label="textures",
        values=(*HALVINGS, MEAN),
        help="Its colour comes from pictures; smaller ones, or their mean colour all over.",
        rays=(),
        has=lambda m: (
            bool({"base", "metal_rough"} & m.textures.keys()) and m.opacity_mode == OPAQUE
        ),
        without=_fewer_texels,
        noticed=_largest,
    ),
)
