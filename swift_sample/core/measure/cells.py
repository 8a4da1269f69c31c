"""The cells in which a picture's places are judged, by its measures and by the renderer that stops
pixels early."""

CELL_SHARE = 0.125
"""Side of a cell over the picture's height."""
LEAST_CELL = 12
"""Pixels; of a small picture, cells are no smaller."""


def cell_side(height: int) -> float:
    """Side in pixels of a cell of a picture of this height."""
    return max(LEAST_CELL, CELL_SHARE * height)
