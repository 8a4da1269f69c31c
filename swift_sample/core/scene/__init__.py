"""Scenes: the model, reading glTF, and the demo scene built by code."""

from swift_sample.core.scene.environment import environment_fingerprint, parse_environment
from swift_sample.core.scene.facts import missing_features
from swift_sample.core.scene.gltf import NO_LIGHT_NOTE
from swift_sample.core.scene.model import Camera, Choices, Environment, Material, Mesh, Scene, Texture
from swift_sample.core.scene.open import DEMO_SCENES, open_scene, scene_files, scene_fingerprint

__all__ = [
    "DEMO_SCENES",
    "NO_LIGHT_NOTE",
    "Camera",
    "Choices",
    "Environment",
    "Material",
    "Mesh",
    "Scene",
    "Texture",
    "environment_fingerprint",
    "missing_features",
    "open_scene",
    "parse_environment",
    "scene_files",
    "scene_fingerprint",
]
