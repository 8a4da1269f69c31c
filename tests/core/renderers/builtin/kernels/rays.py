"""Single rays against a tree, for tests."""

import struct

import numpy as np

from swift_sample.core.kernels.compiling import from_python
from swift_sample.core.renderers.builtin.kernels.traverse import (
    EVERYTHING,
    STACK_BYTES,
    any_hit,
    closest_hit,
)
from swift_sample.core.renderers.builtin.lowlevel.schema import address_of
from swift_sample.core.renderers.builtin.tables.surfaces import tree_records
from swift_sample.core.renderers.builtin.tables.tree import Tree


class Rays:
    """A tree with the records and the working memory that traversal needs."""

    def __init__(self, tree: Tree, single: np.ndarray | None = None) -> None:
        none = np.zeros(tree.triangles.max() + 1, bool)
        self._tree = tree
        self._record = tree_records([tree], none if single is None else single, none)
        self._working = np.zeros(STACK_BYTES, np.uint8)

    def closest(
        self, origin: np.ndarray, direction: np.ndarray, time: float = 0.0
    ) -> tuple[float, int]:
        """(distance, slot), slot -1 for nothing."""
        packed = from_python(closest_hit)(
            0,
            0,
            self._record.address,
            address_of(self._working),
            *map(float, origin),
            *map(float, direction),
            1e30,
            time,
            EVERYTHING,
        )
        slot, distance = struct.unpack("<if", packed.to_bytes(8, "little"))
        return distance, slot

    def any(self, origin: np.ndarray, direction: np.ndarray, limit: float) -> bool:
        return bool(
            from_python(any_hit)(
                0,
                0,
                self._record.address,
                address_of(self._working),
                *map(float, origin),
                *map(float, direction),
                float(limit),
                0.0,
            )
        )
