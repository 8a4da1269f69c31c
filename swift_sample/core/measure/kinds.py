"""Which errors of a picture are measured, by name and unit, and what a measured figure is; figures.py computes them."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """A measured value with its 95 % interval."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class Kind:
    """One kind of image error as people read it."""

    key: str
    label: str
    unit: str
    higher_is_better: bool = False
    version: int = 1
    """Of the formula: raise it when figures change, and stored ones are measured again instead of being shown."""


GRAIN = Kind("grain", "grain", "levels")
LIGHT_SHIFT = Kind("light_shift", "light shift", "levels", version=2)
DETAIL_KEPT = Kind("detail_kept", "detail kept", "%", higher_is_better=True)
STRAY_PIXELS = Kind("stray_pixels", "stray pixels", "per million")
RMS = Kind("rms", "overall difference", "levels")
PSNR = Kind("psnr", "peak signal to noise", "dB", higher_is_better=True)
SSIM = Kind("ssim", "structural similarity", "", higher_is_better=True)
PERCEPTUAL = Kind("perceptual", "visible difference", "CIELAB units")
BRIGHTNESS = Kind("brightness", "brightness", "levels", version=2)
"""Signed: how much brighter the picture is than the reference on average. Told beside light shift, never a limit."""

ALL = (GRAIN, LIGHT_SHIFT, DETAIL_KEPT, STRAY_PIXELS, RMS, PSNR, SSIM, PERCEPTUAL, BRIGHTNESS)
KINDS = {kind.key: kind for kind in ALL}
