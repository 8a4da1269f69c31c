"""A logarithmic axis of a plot whose quantity can be chosen by clicking it."""

import math
from collections.abc import Callable

import pyqtgraph as pg
from PyQt6.QtCore import Qt

HALF_STEPS_BELOW = 3.0
"""Ranges of fewer doublings than this have ticks half way as well."""


class LogAxis(pg.AxisItem):
    """Ticks at powers of two of the values, which are given as their logarithm to base two. A click
    calls `clicked`."""

    def __init__(self, side: str, unit: str, clicked: Callable[[], None]) -> None:
        super().__init__(side)
        self.unit = unit
        self._clicked = clicked
        self.enableAutoSIPrefix(False)  # values are logarithms, which have no thousandths
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        step = max(1, math.ceil((high - low) / max(2.0, size / 64)))
        whole = [float(v) for v in range(math.ceil(low), math.floor(high) + 1) if v % step == 0]

        if high - low < HALF_STEPS_BELOW:
            between = [v + math.log2(1.5) for v in range(math.floor(low), math.ceil(high) + 1)]
            whole = sorted([*whole, *(v for v in between if low <= v <= high)])

        return [(step, whole)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        unit = f" {self.unit}" if self.unit in ("s", "MiB", "%") else ""
        return [(f"{round(2.0**v, 6):g}" if v >= -3 else f"{2.0**v:.2g}") + unit for v in values]

    def mouseClickEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if event.button() == Qt.MouseButton.LeftButton:
            event.accept()
            self._clicked()
