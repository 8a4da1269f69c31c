"""Tile orders by name: in which order threads take up the tiles. None changes a pixel."""

from collections.abc import Callable

import numpy as np

TileOrder = Callable[[np.ndarray, np.ndarray, int, int], np.ndarray]
"""(columns and rows of tiles in reading order, how many columns, how many rows) to a key that tiles
are sorted by."""

SCATTER_SEED = 5


def _nearby(column: np.ndarray, row: np.ndarray, columns: int, rows: int) -> np.ndarray:
    """Bits of column and row in turn: neighbours come soon after one another (Morton 1966)."""
    key = np.zeros(len(column), np.int64)
    for bit in range(max(columns, rows).bit_length()):
        key |= (column >> bit & 1) << (2 * bit) | (row >> bit & 1) << (2 * bit + 1)

    return key


def _middle(column: np.ndarray, row: np.ndarray, columns: int, rows: int) -> np.ndarray:
    return np.hypot(column - (columns - 1) / 2, row - (rows - 1) / 2)


def _scattered(column: np.ndarray, row: np.ndarray, columns: int, rows: int) -> np.ndarray:
    return np.random.default_rng(SCATTER_SEED).permutation(len(column))


TILE_ORDERS: dict[str, TileOrder] = {
    "rows": lambda column, row, columns, rows: row * columns + column,
    "columns": lambda column, row, columns, rows: column * rows + row,
    "middle": _middle,
    "nearby": _nearby,
    "scattered": _scattered,
}


def cut_tiles(width: int, height: int, size: int, order: str = "rows") -> np.ndarray:
    """All tiles in their order, int32[n, 4]: x0, y0, x1, y1."""
    columns, rows = -(-width // size), -(-height // size)
    row, column = (axis.ravel() for axis in np.indices((rows, columns)))
    tiles = np.stack(
        [
            column * size,
            row * size,
            np.minimum((column + 1) * size, width),
            np.minimum((row + 1) * size, height),
        ],
        -1,
    )
    sequence = np.argsort(TILE_ORDERS[order](column, row, columns, rows), kind="stable")

    return np.ascontiguousarray(tiles[sequence], np.int32)
