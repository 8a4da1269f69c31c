"""Scenes: the model, reading glTF, and the demo scene built by code."""
