"""Features of a scene's materials that can be taken away, or replaced by something cheaper: what each material has, and what
a scene is without it. The scene's file is never changed.

A feature goes by the key `feature.MATERIAL.WHAT`; its values are AS_IS and cheaper ones.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from swift_sample.core.picture.colour import srgb_decoded, srgb_encoded
from swift_sample.core.scene.model import BLEND, MASK, OPAQUE, Light, Material, Mesh, Scene, Texture, TextureUse

AS_IS, OFF, LAMP, MEAN = "as is", "off", "lamp", "mean colour"
HALVINGS = {"half size": 1, "quarter size": 2}
"""Of the sides of textures."""
PREFIX = "feature."
NEVER_CUT = 0.999
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
    without: Callable[[Scene, Material, str], Material]
    help: str


def _without_slots(material: Material, *slots: str) -> dict[str, TextureUse]:
    return {slot: use for slot, use in material.textures.items() if slot not in slots}


def _mean(texture: Texture) -> np.ndarray:
    """The mean of a texture's linear values, float[4]."""
    pixels = texture.pixels.astype(np.float64) / 255
    colour = srgb_decoded(pixels[..., :3]) if texture.srgb else pixels[..., :3]
    return np.array([*colour.mean(axis=(0, 1)), pixels[..., 3].mean()])


def _matt(_: Scene, material: Material, value: str) -> Material:
    """Scattering below the surface becomes a matt surface of the colour that comes back from it: the albedo of a half space
    that scatters evenly, by the fit of Kulla and Conty (2017, "Revisiting Physically Based Shading at Imageworks")."""
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
        smaller = {slot: replace(use, texture=_smaller(use.texture, halvings)) for slot, use in material.textures.items()}
        return replace(material, textures=smaller)
    made = replace(material, textures=_without_slots(material, "base", "metal_rough"))
    base, rough = material.textures.get("base"), material.textures.get("metal_rough")
    if base is not None:
        mean = _mean(base.texture)
        red, green, blue = (float(m * c) for m, c in zip(mean[:3], material.base_colour, strict=True))
        made = replace(made, base_colour=(red, green, blue), opacity=material.opacity * float(mean[3]))
    if rough is not None:
        mean = _mean(rough.texture)
        made = replace(made, roughness=material.roughness * float(mean[1]), metallic=material.metallic * float(mean[2]))
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
    """A surface that its texture does not move: flat, or with bumps that look as the moved surface would from afar, its
    slopes by central differences of the heights."""
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
    bumps = replace(moved.use.texture, name=f"{moved.use.texture.name} as bumps", source=pixels, srgb=False)
    textures = {**material.textures, "normal": replace(moved.use, texture=bumps)}
    return replace(material, displacement=None, textures=textures, normal_scale=1.0)


def _metres_a_turn(scene: Scene, material: Material, use: TextureUse) -> float:
    """How many metres of the surface one whole picture covers, by the areas of the triangles that show it."""
    surface = shown = 0.0
    for mesh in scene.meshes:
        uvs = mesh.second_uvs if use.uv_set else mesh.uvs
        if scene.materials[mesh.material] is material and len(uvs):
            surface += float(_areas(mesh).sum())
            a, b, c = (uvs[mesh.corners[:, k]].astype(float) for k in range(3))
            ab, ac = b - a, c - a
            shown += float(np.abs(ab[:, 0] * ac[:, 1] - ab[:, 1] * ac[:, 0]).sum() / 2)
    shown *= abs(float(np.linalg.det(np.asarray(use.transform, float)[:, :2])))
    return float(np.sqrt(surface / shown)) if shown > 0 and surface > 0 else 1.0


def _areas(mesh: Mesh) -> np.ndarray:
    """Of every triangle, square metres."""
    a, b, c = (mesh.positions[mesh.corners[:, k]].astype(float) for k in range(3))
    areas: np.ndarray = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    return areas


def _with_lamps(scene: Scene, names: set[str]) -> Scene:
    """The scene with a lamp of the same power in the middle of each glowing object of these materials, in its place: a
    surface of area A and radiance L sends out pi L A, a lamp of intensity I 4 pi I."""
    kept, lamps = [], list(scene.lights)
    for mesh in scene.meshes:
        material = scene.materials[mesh.material]
        if material.name not in names or max(material.emission) == 0:
            kept.append(mesh)
            continue
        areas = _areas(mesh)
        area, glow = float(areas.sum()), np.asarray(material.emission, float)
        use = material.textures.get("emission")
        if use is not None:
            glow = glow * _mean(use.texture)[:3]
        middles = mesh.positions[mesh.corners].astype(float).mean(axis=1)
        place = (middles * areas[:, None]).sum(axis=0) / max(area, 1e-30)
        red, green, blue = (float(v) for v in glow * area / 4)
        x, y, z = (float(v) for v in place)
        lamps.append(Light("point", (red, green, blue), (x, y, z)))
    return replace(scene, meshes=kept, lights=lamps)


def _reflects(material: Material) -> bool:
    glossy = material.roughness < MATT_ROUGHNESS and (material.specular > 0 or material.metallic > 0)
    return glossy and material.transmission == 0 and not material.unlit and max(material.emission) == 0


KINDS = (
    Kind(
        "transmission",
        "light through it",
        (OFF,),
        lambda m: m.transmission > 0,
        lambda _, m, __: replace(m, transmission=0.0, textures=_without_slots(m, "transmission")),
        "Light passes through; off makes it opaque.",
    ),
    Kind(
        "frosting",
        "frosting",
        ("clear",),
        lambda m: m.transmission > 0 and m.roughness > FROSTED,
        lambda _, m, __: replace(m, roughness=CLEAR_ROUGHNESS, textures=_without_slots(m, "metal_rough")),
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
        lambda _, m, __: replace(m, coat=0.0, textures=_without_slots(m, "coat", "coat_roughness", "coat_normal")),
        "A clear layer on top.",
    ),
    Kind(
        "sheen",
        "sheen",
        (OFF,),
        lambda m: max(m.sheen_colour) > 0,
        lambda _, m, __: replace(
            m, sheen_colour=(0.0, 0.0, 0.0), textures=_without_slots(m, "sheen_colour", "sheen_roughness")
        ),
        "The bright rim of cloth.",
    ),
    Kind(
        "normal",
        "bumps",
        (OFF,),
        lambda m: "normal" in m.textures and m.normal_scale != 0,
        lambda _, m, __: replace(m, textures=_without_slots(m, "normal")),
        "Fine bumps by a normal map.",
    ),
    Kind(
        "displacement",
        "displacement",
        ("bump", OFF),
        lambda m: m.displacement is not None and m.displacement.scale != 0,
        _flatter,
        "The surface itself is moved by a texture; bumps only look so.",
    ),
    Kind(
        "reflection",
        "reflections",
        ("matt",),
        _reflects,
        lambda _, m, __: replace(m, specular=0.0, metallic=0.0, coat=0.0),
        "It mirrors its surroundings; matt does not.",
    ),
    Kind(
        "emission",
        "glow",
        (LAMP, OFF),
        lambda m: max(m.emission) > 0,
        lambda _, m, __: replace(m, emission=(0.0, 0.0, 0.0), textures=_without_slots(m, "emission")),
        "It glows, and lights what is around it; a lamp of the same power takes its place, and is not seen itself.",
    ),
    Kind(
        "textures",
        "textures",
        (*HALVINGS, MEAN),
        lambda m: bool({"base", "metal_rough"} & m.textures.keys()) and m.opacity_mode == OPAQUE,
        _fewer_texels,
        "Its colour comes from pictures; smaller ones, or their mean colour all over.",
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
    remark: str = ""
    """what about it can be said without rendering; "" for nothing"""


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
                key = f"{PREFIX}{slugs[name]}.{kind.what}"
                found.append(Feature(key, name, kind, count / total, _remark(kind, named)))
    return found


def _remark(kind: Kind, materials: list[Material]) -> str:
    """What is wrong with a feature on the face of it."""
    if kind.what in ("alpha", "cutout"):
        uses = [material.textures.get("base") for material in materials]
        least = [float(use.texture.pixels[..., 3].min()) / 255 if use is not None else 1.0 for use in uses]
        if all(m.opacity * alpha >= NEVER_CUT for m, alpha in zip(materials, least, strict=True)):
            return "nothing of it is see-through: opaque looks the same"
    if kind.what == "textures":
        sizes = {material.textures[slot].texture.size for material in materials for slot in material.textures}
        width, height = max(sizes, key=lambda size: size[0] * size[1])
        return f"its largest picture has {width}×{height} texels"
    return ""


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
    lamps = {name for name, chosen in by_material.items() if any(value == LAMP for _, value in chosen)}
    lit = _with_lamps(scene, lamps) if lamps else scene
    materials = []
    for material in scene.materials:
        made = material
        for kind, value in by_material.get(material.name, ()):
            if kind.has(made) and value != LAMP:
                made = kind.without(scene, made, value)
        materials.append(made)
    return replace(lit, materials=materials)
