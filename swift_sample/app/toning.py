"""How layers of a picture become pixels of the screen: passes, differences, blends, and maps of
heat."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage

from swift_sample.core.display.pyramid import Pyramid, levels_of, pixels_of
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.view import View

LIGHT = "light"
PLAIN = "plain"
DIRECTION = "direction"
DEPTH = "depth"
HEAT = "heat"
"""What a pass holds: light under the view, shares shown as they are, unit vectors, distances, or
values on a scale."""


@dataclass(frozen=True, kw_only=True)
class Pass:
    """Something of a picture that can be looked at. `factor` brings values into `unit`."""

    key: str
    label: str
    layer: str
    kind: str = LIGHT
    factor: float = 1.0
    unit: str = ""


BEAUTY = "beauty"
RAW = "raw"
LIGHT_PASSES = (
    Pass(key="direct.diffuse", label="diffuse, lit directly", layer="direct.diffuse"),
    Pass(key="indirect.diffuse", label="diffuse, bounced light", layer="indirect.diffuse"),
    Pass(key="direct.glossy", label="glossy, lit directly", layer="direct.glossy"),
    Pass(key="indirect.glossy", label="glossy, bounced light", layer="indirect.glossy"),
    Pass(
        key="direct.transmission", label="through surfaces, directly", layer="direct.transmission"
    ),
    Pass(
        key="indirect.transmission",
        label="through surfaces, bounced",
        layer="indirect.transmission",
    ),
    Pass(key="direct.volume", label="haze, lit directly", layer="direct.volume"),
    Pass(key="indirect.volume", label="haze, bounced light", layer="indirect.volume"),
    Pass(key="emission", label="glow and sky", layer="emission"),
)
PASSES = (
    Pass(key=BEAUTY, label="picture", layer="beauty"),
    Pass(key=RAW, label="before denoising", layer="raw"),
    *LIGHT_PASSES,
    Pass(key="albedo", label="colour of surfaces", layer="albedo", kind=PLAIN),
    Pass(key="normal", label="direction of surfaces", layer="normal", kind=DIRECTION),
    Pass(key="depth", label="distance", layer="depth", kind=DEPTH, factor=1.0, unit="m"),
    Pass(
        key="samples",
        label="samples",
        layer="samples",
        kind=HEAT,
        factor=1.0,
        unit="samples a pixel",
    ),
    Pass(key="time", label="time", layer="seconds", kind=HEAT, factor=1000.0, unit="ms a pixel"),
    Pass(
        key="grain",
        label="grain",
        layer="error",
        kind=HEAT,
        factor=LEVELS,
        unit="levels, as estimated while rendering",
    ),
)
"""In the order in which they are offered."""
BY_KEY: Mapping[str, Pass] = {one.key: one for one in PASSES}
GAINS = (1, 2, 4, 8, 16, 32)
"""What differences may be multiplied by."""
THUMBNAIL_WIDTH = 208
DIMMED = 0.22
"""How bright what is not lit up still is."""
HEAT_SHARE = 0.8
"""How much of a map of heat shows over the picture."""


@dataclass(frozen=True, eq=False, kw_only=True)
class Layers:
    """What was read of a picture's file, by layer, or the problem with it. `most` is what the
    brightest colour of a map stands for, by layer, in the layer's own unit."""

    path: Path
    pyramids: Mapping[str, Pyramid] = field(default_factory=dict)
    most: Mapping[str, float] = field(default_factory=dict)
    problem: str = ""
    reduced: Mapping[str, np.ndarray] = field(default_factory=dict)
    """records at a lower resolution, such as the light of each bounce: float32[h, w, 3] each"""
    all_there: bool = True
    """whether every layer of the file was kept"""

    @property
    def size(self) -> tuple[int, int]:
        return self.pyramids["beauty"].size

    def of(self, layer: str) -> Pyramid | None:
        """A layer; what was not denoised is its own raw picture."""
        found = self.pyramids.get(layer)
        return self.pyramids.get("beauty") if found is None and layer == "raw" else found


NAMES = ("material", "object")
"""Layers that say what is seen, by number."""


@dataclass(frozen=True)
class Lit:
    """What of a picture is lit up, the rest being dimmed: the pixels that hold one of these numbers
    in a layer of NAMES, or as much as a reduced record says."""

    layer: str
    numbers: frozenset[int] = frozenset()


@dataclass(frozen=True, eq=False)
class Mask:
    """How much of the denoised picture is taken, float32[h, w] from 0 to 1; `version` rises with
    every stroke."""

    values: np.ndarray
    version: int = 0


@dataclass(frozen=True, kw_only=True)
class Source:
    """One picture as it is shown: a pass of its layers under a view, less another one's, or blended
    from raw to denoised."""

    layers: Layers
    view: View
    shown: str = BEAUTY
    other: Layers | None = None
    """what is subtracted; None for nothing"""
    gain: int = 1
    strength: float | None = None
    """share of the denoised picture beside the raw one; None where nothing is blended"""
    mask: Mask | None = None
    lit: Lit | None = None

    @property
    def size(self) -> tuple[int, int]:
        return self.layers.size

    @property
    def problem(self) -> str:
        """Why there is nothing to show, in words; "" where there is."""
        if self.layers.problem or (self.other is not None and self.other.problem):
            return self.layers.problem or (self.other.problem if self.other is not None else "")

        if self.other is not None and self.other.size != self.layers.size:
            width, height = self.other.size
            return (
                f"The other picture is {width}x{height}; only pictures of one size can be "
                "subtracted."
            )

        if any(
            layers is not None and layers.of(BY_KEY[self.shown].layer) is None
            for layers in (self.layers, self.other)
        ):
            return (
                f"This picture was rendered without a record of that ({BY_KEY[self.shown].label})."
            )

        return ""

    @property
    def most(self) -> float:
        """What the brightest colour of a map stands for, in the pass's unit."""
        one = BY_KEY[self.shown]
        return self.layers.most.get(one.layer, 0.0) * one.factor

    def level_for(self, zoom: float) -> int:
        """Which level of the pyramid a zoom needs."""
        pyramid = self.layers.of("beauty")
        return pyramid.level_for(zoom) if pyramid is not None else 0

    def pixels(self, level: int, x: int, y: int, width: int, height: int) -> np.ndarray:
        """uint8[height, width, 3] of a region in pixels of a level; smaller where it ends."""
        pixels = self._pixels(level, x, y, width, height)
        if self.lit is None:
            return pixels

        share = self._share_lit(level, x, y, pixels.shape[:2])
        return (
            pixels
            if share is None
            else (pixels * (DIMMED + (1 - DIMMED) * share[..., None])).astype(np.uint8)
        )

    def _share_lit(self, level: int, x: int, y: int, shape: tuple[int, ...]) -> np.ndarray | None:
        """How much of each pixel is lit up, from 0 to 1; None where that was not kept."""
        assert self.lit is not None
        pyramid = self.layers.of(self.lit.layer)
        reduced = self.layers.reduced.get(self.lit.layer)

        if pyramid is not None:
            numbers = pyramid.levels[level][y : y + shape[0], x : x + shape[1]]
            return np.isin(numbers, list(self.lit.numbers))

        if reduced is None:
            return None

        (width, height), scale = self.size, 2**level
        rows = np.minimum(
            (np.arange(y, y + shape[0]) * scale * reduced.shape[0]) // height, reduced.shape[0] - 1
        )
        columns = np.minimum(
            (np.arange(x, x + shape[1]) * scale * reduced.shape[1]) // width, reduced.shape[1] - 1
        )
        light = reduced.mean(axis=2)
        share: np.ndarray = np.clip(light / max(float(np.percentile(light, 98)), 1e-9), 0, 1)[rows][
            :, columns
        ]

        return share

    def _pixels(self, level: int, x: int, y: int, width: int, height: int) -> np.ndarray:
        place = (slice(y, y + height), slice(x, x + width))
        one = BY_KEY[self.shown]

        if self.other is not None:
            mine = self._light(self.layers, level, place)
            others = self._light(self.other, level, place)
            return difference(levels_of(mine, self.view), levels_of(others, self.view), self.gain)

        if one.kind == LIGHT:
            return pixels_of(self._light(self.layers, level, place), self.view)

        pyramid = self.layers.of(one.layer)
        assert pyramid is not None
        values = pyramid.levels[level][place]

        if one.kind == PLAIN:
            return pixels_of(values, View())
        if one.kind == DIRECTION:
            return (np.clip(values.astype(np.float32) * 0.5 + 0.5, 0, 1) * LEVELS).astype(np.uint8)

        if one.kind == DEPTH:
            near = 1 / (
                1 + np.maximum(values, 0) / max(self.layers.most.get(one.layer, 1.0) / 4, 1e-6)
            )
            return np.repeat((np.clip(near, 0, 1) * LEVELS).astype(np.uint8)[..., None], 3, axis=2)

        picture = pixels_of(self._light(self.layers, level, place, BEAUTY), self.view)
        return heated(picture, values, self.layers.most.get(one.layer, 0.0))

    def light(self, x: int, y: int, width: int, height: int) -> np.ndarray:
        """float32[height, width, 3] of a region in linear light, as it is kept: half floats."""
        return self._light(self.layers, 0, (slice(y, y + height), slice(x, x + width))).astype(
            np.float32
        )

    def _light(
        self, layers: Layers, level: int, place: tuple[slice, slice], shown: str = ""
    ) -> np.ndarray:
        one = BY_KEY[shown or self.shown]
        pyramid = layers.of(one.layer if one.kind == LIGHT else BEAUTY)
        assert pyramid is not None
        light: np.ndarray = pyramid.levels[level][place]

        if self.strength is None:
            return light

        raw = layers.of(RAW)
        assert raw is not None
        before = raw.levels[level][place].astype(np.float32)
        share: np.ndarray = np.array(self.strength, np.float32)

        if self.mask is not None:
            step = 2**level
            share = (
                share
                * self.mask.values[::step, ::step][place][
                    : before.shape[0], : before.shape[1], None
                ]
            )

        return (before + share * (light.astype(np.float32) - before)).astype(np.float16)


@cache
def heat_colours() -> np.ndarray:
    """uint8[256, 3]: a perceptually even map (Kovesi 2015, "Good Colour Maps: How to Design
    Them")."""
    import pyqtgraph as pg

    return np.asarray(pg.colormap.get("CET-L8").getLookupTable(nPts=256))[:, :3]


def difference(levels: np.ndarray, other: np.ndarray, gain: int) -> np.ndarray:
    """What one picture has more than another, in display levels times a gain, around mid-grey;
    uint8[h, w, 3]."""
    return np.clip(
        (levels - other) * np.float32(gain) + np.float32(LEVELS / 2 + 0.5), 0, LEVELS
    ).astype(np.uint8)


def heated(pixels: np.ndarray, values: np.ndarray, most: float) -> np.ndarray:
    """Display pixels uint8[h, w, 3] under a heat map of values [h, w] from 0 to `most`."""
    grey = pixels.mean(axis=2, keepdims=True)
    places = (np.clip(values / max(most, 1e-30), 0, 1) * 255).astype(np.uint8)
    return (HEAT_SHARE * heat_colours()[places] + (1 - HEAT_SHARE) * grey).astype(np.uint8)


def to_image(pixels: np.ndarray) -> QImage:
    """uint8[h, w, 3] as an image that owns its pixels."""
    height, width, _ = pixels.shape
    data = np.ascontiguousarray(pixels).tobytes()
    return QImage(data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def thumbnail(source: Source) -> QImage:
    """A picture as a small image, THUMBNAIL_WIDTH wide."""
    width, height = source.size
    level = source.level_for(THUMBNAIL_WIDTH / width) if width > THUMBNAIL_WIDTH else 0

    return to_image(source.pixels(level, 0, 0, width, height)).scaledToWidth(
        THUMBNAIL_WIDTH, Qt.TransformationMode.SmoothTransformation
    )
