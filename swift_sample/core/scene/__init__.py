"""Scenes: the model, reading glTF, and the demo scene built by code."""

from swift_sample.core.scene.environment import environment_fingerprint, parse_environment
from swift_sample.core.scene.facts import about, memory_to_build, missing_features
from swift_sample.core.scene.features import features_of, with_changes
from swift_sample.core.scene.gltf_changes import write_changed
from swift_sample.core.scene.model import Camera, Choices, Environment, Material, Mesh, Scene, Texture
from swift_sample.core.scene.open import DEMO_SCENES, open_scene, scene_files, scene_fingerprint
from swift_sample.core.scene.staging import NO_CAMERA_NOTE, NO_LIGHT_NOTE, Staging, Viewpoint, staged, viewpoint_of

__all__ = [
    "DEMO_SCENES",
    "NO_CAMERA_NOTE",
    "NO_LIGHT_NOTE",
    "Camera",
    "Choices",
    "Environment",
    "Material",
    "Mesh",
    "Scene",
    "Staging",
    "Texture",
    "Viewpoint",
    "about",
    "environment_fingerprint",
    "features_of",
    "memory_to_build",
    "missing_features",
    "open_scene",
    "parse_environment",
    "scene_files",
    "scene_fingerprint",
    "staged",
    "viewpoint_of",
    "with_changes",
    "write_changed",
]
