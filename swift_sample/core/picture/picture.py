"""A picture in memory."""

from dataclasses import dataclass, field

import numpy as np


@dataclass
class Picture:
    """A finished picture: linear Rec. 709 light, and layers that explain it.

    beauty: float32[h, w, 3]; `layers` maps the names of the conventions (half_a, half_b, albedo,
    normal, depth, samples, seconds, error, raw, material, object, and the light passes) to
    float32[h, w, 3] or float32[h, w]. `reduced` are records at a lower resolution, all of one size:
    `light.k` what bounce k brings, `grain.n` the grain in levels had the render stopped at n
    samples a pixel.
    """

    beauty: np.ndarray
    layers: dict[str, np.ndarray] = field(default_factory=dict)
    reduced: dict[str, np.ndarray] = field(default_factory=dict)
    notes: dict[str, str] = field(default_factory=dict)

    @property
    def width(self) -> int:
        return int(self.beauty.shape[1])

    @property
    def height(self) -> int:
        return int(self.beauty.shape[0])

    @property
    def halves(self) -> tuple[np.ndarray, np.ndarray] | None:
        """The independent halves of the samples, where they are kept."""
        if "half_a" in self.layers and "half_b" in self.layers:
            return self.layers["half_a"], self.layers["half_b"]
        return None
