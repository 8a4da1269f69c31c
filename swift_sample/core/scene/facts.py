"""What of a scene settings can act on, so that those without any effect on it need not be tried."""

from swift_sample.core.scene.model import OPAQUE, Scene

WITHOUT = {
    "haze": "the scene has no haze",
    "textures": "the scene has no textures",
    "cut-outs": "nothing in the scene is cut out",
    "clear": "nothing in the scene lets light through",
    "variants": "the scene has no variants",
    "displacement": "no texture in the scene moves a surface",
    "motion": "nothing moves while this frame is taken",
    "aperture": "the camera's lens has no aperture",
}
"""Features that settings may need, and what to say where the scene has none."""


def missing_features(scene: Scene) -> dict[str, str]:
    """Those of WITHOUT that a scene lacks, with what to say. It must have been opened with its shutter open."""
    materials = [scene.materials[number] for number in {mesh.material for mesh in scene.meshes}]
    there = {
        "haze": scene.haze is not None,
        "textures": any(m.textures for m in materials),
        "cut-outs": any(m.opacity_mode != OPAQUE for m in materials),
        "clear": any(m.transmission > 0 or m.diffuse_transmission > 0 for m in materials),
        "variants": bool(scene.variants),
        "displacement": any(m.displacement is not None for m in materials),
        "motion": scene.camera.closing is not None or any(len(mesh.motion) for mesh in scene.meshes),
        "aperture": scene.camera.aperture > 0 and scene.camera.half_height is None,
    }
    return {name: words for name, words in WITHOUT.items() if not there[name]}
