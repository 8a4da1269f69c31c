"""Features of a scene's materials that can be taken away, or replaced by something cheaper: what each material has, and what
a scene is without it. The scene's file is never changed.

A feature goes by the key `feature.MATERIAL.WHAT`; its values are AS_IS and cheaper ones.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from swift_sample.core.picture.colour import srgb_decoded
from swift_sample.core.scene.model import BLEND, MASK, OPAQUE, Material, Scene, Texture, TextureUse

AS_IS, OFF = "as is", "off"
PREFIX = "feature."
FROSTED, CLEAR_ROUGHNESS = 0.05, 0.0
MATT_ROUGHNESS = 0.7
"""Reflections rougher than this are hardly seen as such."""


@dataclass(frozen=True)
class Kind:
    """One kind of feature: what it is called, the cheaper values, whether a material has it, and a material with a value in
    its place."""

    what: str
    label: str
    values: tuple[str, ...]
    has: Callable[[Material], bool]
    without: Callable[[Material, str], Material]
    help: str


def _without_slots(material: Material, *slots: str) -> dict[str, TextureUse]:
    return {slot: use for slot, use in material.textures.items() if slot not in slots}


def _mean(texture: Texture) -> np.ndarray:
    """The mean of a texture's linear values, float[4]."""
    pixels = texture.pixels.astype(np.float64) / 255
    colour = srgb_decoded(pixels[..., :3]) if texture.srgb else pixels[..., :3]
    return np.array([*colour.mean(axis=(0, 1)), pixels[..., 3].mean()])


def _matt(material: Material, value: str) -> Material:
    """Scattering below the surface becomes a matt surface of the colour that comes back from it: the albedo of a half space
    that scatters evenly, by the fit of Kulla and Conty (2017, "Revisiting Physically Based Shading at Imageworks")."""
    below = material.subsurface
    assert below is not None
    single = np.clip(np.asarray(below.albedo, float), 0.0, 1.0)
    near = np.sqrt(np.maximum(0.0, 1 - single))
    back = np.clip((1 - near) * (1 - 0.139 * near) / (1 + 1.17 * near), 0.0, 1.0)
    red, green, blue = (float(v) for v in back * np.asarray(material.base_colour, float))
    return replace(material, subsurface=None, transmission=0.0, base_colour=(red, green, blue))


def _alpha(material: Material, value: str) -> Material:
    if value == "mask":
        return replace(material, opacity_mode=MASK, opacity_cutoff=0.5)
    return replace(material, opacity_mode=OPAQUE, opacity=1.0)


def _plain_textures(material: Material, value: str) -> Material:
    """Every texture of a material becomes its mean colour."""
    kept = _without_slots(material, "base", "metal_rough")
    made = replace(material, textures=kept)
    base, rough = material.textures.get("base"), material.textures.get("metal_rough")
    if base is not None:
        mean = _mean(base.texture)
        red, green, blue = (float(m * c) for m, c in zip(mean[:3], material.base_colour, strict=True))
        made = replace(made, base_colour=(red, green, blue), opacity=material.opacity * float(mean[3]))
    if rough is not None:
        mean = _mean(rough.texture)
        made = replace(made, roughness=material.roughness * float(mean[1]), metallic=material.metallic * float(mean[2]))
    return made


def _reflects(material: Material) -> bool:
    glossy = material.roughness < MATT_ROUGHNESS and (material.specular > 0 or material.metallic > 0)
    return glossy and material.transmission == 0 and not material.unlit and max(material.emission) == 0


KINDS = (
    Kind(
        "transmission",
        "light through it",
        (OFF,),
        lambda m: m.transmission > 0,
        lambda m, _: replace(m, transmission=0.0, textures=_without_slots(m, "transmission")),
        "Light passes through; off makes it opaque.",
    ),
    Kind(
        "frosting",
        "frosting",
        ("clear",),
        lambda m: m.transmission > 0 and m.roughness > FROSTED,
        lambda m, _: replace(m, roughness=CLEAR_ROUGHNESS, textures=_without_slots(m, "metal_rough")),
        "What is seen through it is blurred; clear is not.",
    ),
    Kind(
        "alpha",
        "see-through parts",
        ("mask", "opaque"),
        lambda m: m.opacity_mode == BLEND,
        _alpha,
        "Parts are half see-through; mask makes each pixel all or nothing, opaque none.",
    ),
    Kind(
        "cutout",
        "cut-outs",
        ("opaque",),
        lambda m: m.opacity_mode == MASK,
        _alpha,
        "Parts are cut out; opaque leaves them there.",
    ),
    Kind(
        "subsurface",
        "light below the surface",
        ("matt",),
        lambda m: m.subsurface is not None,
        _matt,
        "Light wanders below the surface; matt has the same mean colour without.",
    ),
    Kind(
        "coat",
        "coat",
        (OFF,),
        lambda m: m.coat > 0,
        lambda m, _: replace(m, coat=0.0, textures=_without_slots(m, "coat", "coat_roughness", "coat_normal")),
        "A clear layer on top.",
    ),
    Kind(
        "sheen",
        "sheen",
        (OFF,),
        lambda m: max(m.sheen_colour) > 0,
        lambda m, _: replace(m, sheen_colour=(0.0, 0.0, 0.0), textures=_without_slots(m, "sheen_colour", "sheen_roughness")),
        "The bright rim of cloth.",
    ),
    Kind(
        "normal",
        "bumps",
        (OFF,),
        lambda m: "normal" in m.textures and m.normal_scale != 0,
        lambda m, _: replace(m, textures=_without_slots(m, "normal")),
        "Fine bumps by a normal map.",
    ),
    Kind(
        "displacement",
        "displacement",
        (OFF,),
        lambda m: m.displacement is not None and m.displacement.scale != 0,
        lambda m, _: replace(m, displacement=None),
        "The surface itself is moved by a texture.",
    ),
    Kind(
        "reflection",
        "reflections",
        ("matt",),
        _reflects,
        lambda m, _: replace(m, specular=0.0, metallic=0.0, coat=0.0),
        "It mirrors its surroundings; matt does not.",
    ),
    Kind(
        "emission",
        "glow",
        (OFF,),
        lambda m: max(m.emission) > 0,
        lambda m, _: replace(m, emission=(0.0, 0.0, 0.0), textures=_without_slots(m, "emission")),
        "It glows, and lights what is around it.",
    ),
    Kind(
        "textures",
        "textures",
        ("mean colour",),
        lambda m: bool({"base", "metal_rough"} & m.textures.keys()) and m.opacity_mode == OPAQUE,
        _plain_textures,
        "Its colour comes from pictures; mean colour is one colour all over.",
    ),
)
BY_WHAT: Mapping[str, Kind] = {kind.what: kind for kind in KINDS}


@dataclass(frozen=True)
class Feature:
    """A feature of the materials that have one name; `share` is how much of the scene's triangles they cover."""

    key: str
    material: str
    kind: Kind
    share: float


def features_of(scene: Scene) -> list[Feature]:
    """Every feature of every material that is used, in the order of the materials, those of one name together."""
    triangles: dict[str, int] = {}
    for mesh in scene.meshes:
        name = scene.materials[mesh.material].name
        triangles[name] = triangles.get(name, 0) + len(mesh.corners)
    total, slugs, found = max(1, sum(triangles.values())), _slugs(triangles), []
    for name, count in triangles.items():
        named = [material for material in scene.materials if material.name == name]
        for kind in KINDS:
            if any(kind.has(material) for material in named):
                found.append(Feature(f"{PREFIX}{slugs[name]}.{kind.what}", name, kind, count / total))
    return found


def _slugs(names: Iterable[str]) -> dict[str, str]:
    """Names as they can stand in a key, each another one."""
    made: dict[str, str] = {}
    for name in names:
        slug = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_") or "unnamed"
        taken, wanted, number = set(made.values()), slug, 2
        while slug in taken:
            slug, number = f"{wanted}_{number}", number + 1
        made[name] = slug
    return made


def with_changes(scene: Scene, changes: Mapping[str, str]) -> Scene:
    """The scene with cheaper values in the place of features, by their keys; what it does not have is left as it is."""
    wanted = {key: value for key, value in changes.items() if value != AS_IS}
    if not wanted:
        return scene
    by_material: dict[str, list[tuple[Kind, str]]] = {}
    for feature in features_of(scene):
        value = wanted.get(feature.key)
        if value is not None and value in feature.kind.values:
            by_material.setdefault(feature.material, []).append((feature.kind, value))
    materials = []
    for material in scene.materials:
        for kind, value in by_material.get(material.name, ()):
            if kind.has(material):
                material = kind.without(material, value)
        materials.append(material)
    return replace(scene, materials=materials)
