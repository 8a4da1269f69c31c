"""The denoisers, each one class in one file, found through the registry."""

from swift_sample.core.renderers.builtin.denoise.registry import DENOISERS, denoise_picture

__all__ = ["DENOISERS", "denoise_picture"]
