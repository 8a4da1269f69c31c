"""What of a scene settings can act on, so that those without any effect on it need not be tried."""

import math

from swift_sample.core.scene.model import BLEND, OPAQUE, Choices, Scene

BUILDING_BYTES = 430
TEXEL_BYTES = 4
"""Of memory at most for each triangle while a scene is built (docs/scenes.md has what was
measured), and for each texel."""

WITHOUT = {
    "haze": "the scene has no haze",
    "textures": "the scene has no textures",
    "cut-outs": "nothing in the scene is cut out",
    "clear": "nothing in the scene is clear like glass",
    "variants": "the scene has no variants",
    "displacement": "no texture in the scene moves a surface",
    "motion": "nothing moves while this frame is taken",
    "aperture": "the camera's lens has no aperture",
}
"""Features that settings may need, and what to say where the scene has none."""


def missing_features(scene: Scene) -> dict[str, str]:
    """Those of WITHOUT that a scene lacks, with what to say. It must have been opened with its
    shutter open."""
    materials = [scene.materials[number] for number in {mesh.material for mesh in scene.meshes}]
    there = {
        "haze": scene.haze is not None,
        "textures": any(m.textures for m in materials),
        "cut-outs": any(m.opacity_mode != OPAQUE for m in materials),
        "clear": any(m.transmission > 0 or m.diffuse_transmission > 0 for m in materials),
        "variants": bool(scene.variants),
        "displacement": any(m.displacement is not None for m in materials),
        "motion": scene.camera.closing is not None
        or any(len(mesh.motion) for mesh in scene.meshes),
        "aperture": scene.camera.aperture > 0 and scene.camera.half_height is None,
    }

    return {name: words for name, words in WITHOUT.items() if not there[name]}


def memory_to_build(scene: Scene, choices: Choices) -> int:
    """Bytes that building a scene takes at its most."""
    triangles = scene.triangle_count * 4**choices.subdivision
    return triangles * BUILDING_BYTES + 2 * TEXEL_BYTES * sum(
        math.prod(texture.size) for texture in scene.textures
    )


def only_glows(scene: Scene) -> bool:
    """Whether nothing but glowing objects lights a scene: it has no lamp, and its sky is black."""
    glowing = any(max(scene.materials[mesh.material].emission) > 0 for mesh in scene.meshes)
    return glowing and not scene.lights and not bool(scene.environment.pixels.max() > 0)


def about(scene: Scene) -> tuple[str, ...]:
    """What a scene holds, in words: what takes time or makes grain, as far as it is there."""
    materials = [
        scene.materials[number] for number in sorted({mesh.material for mesh in scene.meshes})
    ]
    glowing = sum(max(scene.materials[mesh.material].emission) > 0 for mesh in scene.meshes)
    sky = scene.environment.pixels

    counts = (
        (scene.triangle_count, "triangle"),
        (len(scene.meshes), "object"),
        (len(materials), "material"),
        (len(scene.textures), "texture"),
        (glowing, "glowing object"),
        (len(scene.lights), "lamp"),
    )
    told = [f"{count:,} {noun}{'' if count == 1 else 's'}" for count, noun in counts if count]

    there = (
        (sky.shape[:2] != (1, 1), "a picture as sky"),
        (sky.shape[:2] == (1, 1) and bool(sky.max() > 0), "an even sky"),
        (any(m.transmission > 0 for m in materials), "glass"),
        (any(m.opacity_mode == BLEND for m in materials), "see-through surfaces"),
        (any(m.opacity_mode not in (OPAQUE, BLEND) for m in materials), "cut-outs"),
        (any(m.subsurface is not None for m in materials), "light below surfaces"),
        (scene.haze is not None, "haze"),
        (scene.camera.aperture > 0, "a lens that blurs"),
        (scene.frames > 1, f"it moves: {scene.frames} frames"),
    )
    return (*told, *(words for is_there, words in there if is_there))
