"""Scenes: the model, reading glTF, and the demo scene built by code."""

from swift_sample.core.scene.model import Camera, Choices, Environment, Material, Mesh, Scene, Texture
from swift_sample.core.scene.open import DEMO_SCENES, open_scene, parse_environment, scene_fingerprint

__all__ = ["DEMO_SCENES", "Camera", "Choices", "Environment", "Material", "Mesh", "Scene", "Texture", "open_scene",
           "parse_environment", "scene_fingerprint"]
