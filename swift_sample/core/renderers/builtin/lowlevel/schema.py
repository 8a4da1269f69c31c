"""Records that kernels share: declared once, and filled so that what they lead to is what was
declared.

A field declared with `array` holds the address of an array. Kernels read there without any check of
their own, so `bind` is the only way to put an address into a record: it compares element type and
shape with the declaration, and keeps the array alive as long as the record.
"""

import weakref
from dataclasses import dataclass
from typing import Any

import numpy as np

from swift_sample.core.kernels.cache import CHECKED


@dataclass(frozen=True)
class Field:
    """One field of a record. `sizes` are those of the array that it leads to, names and numbers;
    None for plain ones."""

    name: str
    element: Any
    shape: tuple[int, ...] = ()
    sizes: tuple[str, ...] | None = None
    optional: bool = False


def field(name: str, element: Any, *shape: int) -> Field:
    """A number, a few of them, or a record within the record."""
    return Field(name, element, shape)


def array(name: str, element: Any, sizes: str, optional: bool = False) -> Field:
    """The address of a contiguous array, for example `array("half_a", "f4", "height width 3")`. All
    arrays of a record agree on what a name stands for. An optional one may be left out; its address
    is then 0."""
    return Field(name, element, (), tuple(sizes.split()), optional)


class Schema:
    """The fields of one kind of record; `dtype` is its layout in memory."""

    def __init__(self, name: str, *fields: Field) -> None:
        self.name = name
        self.fields = {one.name: one for one in fields}
        layout = [
            (one.name, "i8") if one.sizes is not None else (one.name, one.element, one.shape)
            for one in fields
        ]
        self.dtype = np.dtype(layout, align=True)


class Records:
    """Records of one kind with the arrays that their addresses lead to, which live as long as this
    does. `records` is the array of them, for the plain fields; `sizes` are given where they are
    known before the first array is bound."""

    def __init__(self, schema: Schema, count: int = 1, **sizes: int) -> None:
        self.schema = schema
        self.records = np.zeros(count, schema.dtype)
        self._sizes = [dict(sizes) for _ in range(count)]
        self._bound: dict[tuple[int, str], Any] = {}

    def __len__(self) -> int:
        return len(self.records)

    def bind(self, name: str, value: "np.ndarray | Records | None", place: int = 0) -> None:
        """Lead a field of one record to an array, to other records, or to nothing where that is
        allowed.

        Raises ValueError that names the record and its field where the array is not what was
        declared.
        """
        declared = self.schema.fields[name]
        where = f"{self.schema.name}.{name}"
        if declared.sizes is None:
            raise ValueError(f"{where}: holds a value, not the address of an array")

        held = value.records if isinstance(value, Records) else value
        if held is None or not held.size:
            if not declared.optional:
                raise ValueError(f"{where}: needs an array")
            self.records[place][name] = 0
            self._bound.pop((place, name), None)
            return

        self._check(where, declared, held, self._sizes[place])
        self._bound[place, name] = value
        self.records[place][name] = address_of(held)

    def array(self, name: str, place: int = 0) -> np.ndarray | None:
        """The array that a field leads to."""
        value = self._bound.get((place, name))
        return value.records if isinstance(value, Records) else value

    @property
    def address(self) -> int:
        """Where kernels find the first record. Raises ValueError where an array was never bound."""
        for name, declared in self.schema.fields.items():
            if declared.sizes is not None and not declared.optional:
                for place in range(len(self.records)):
                    if (place, name) not in self._bound:
                        raise ValueError(f"{self.schema.name}.{name}: no array was bound")

        return address_of(self.records)

    @staticmethod
    def _check(where: str, declared: Field, held: np.ndarray, known: dict[str, int]) -> None:
        wanted = np.dtype(declared.element)
        if held.dtype != wanted:
            raise ValueError(
                f"{where}: {_type_words(held.dtype)} where {_type_words(wanted)} is needed"
            )
        if not held.flags.c_contiguous:
            raise ValueError(f"{where}: the array is not contiguous")

        assert declared.sizes is not None
        fits = len(held.shape) == len(declared.sizes)
        sizes = dict(known)
        for size, own in zip(declared.sizes, held.shape, strict=False):
            fits = fits and own == (int(size) if size.isdecimal() else sizes.setdefault(size, own))

        if not fits:
            names = " x ".join(
                size if size.isdecimal() or size not in known else f"{size} {known[size]}"
                for size in declared.sizes
            )
            raise ValueError(f"{where}: {' x '.join(map(str, held.shape))} where {names} is needed")

        known.update(sizes)


def _type_words(dtype: np.dtype) -> str:
    if dtype.names is not None:
        return f"a record of {dtype.itemsize} bytes"
    return dtype.name if dtype.isnative else f"{dtype.name} in another byte order"


RANGES = np.zeros((4096, 2), np.int64)
"""First address and end of every array that kernels may touch, in checked mode; a number of pairs,
then zeros."""
OUTSIDE = np.zeros(2, np.int64)
"""How often kernels wanted to touch something else, and the last such address."""


def address_of(held: np.ndarray) -> int:
    """The address of a contiguous array's data. Raises ValueError where it is not contiguous."""
    if not held.flags.c_contiguous:
        raise ValueError("only contiguous arrays can be read by address")

    address = int(held.ctypes.data)
    if CHECKED:
        _allow(held, address)

    return address


def _allow(held: np.ndarray, address: int) -> None:
    """Let kernels touch an array as long as it lives."""
    owner = held
    end = address + held.nbytes
    while isinstance(owner.base, np.ndarray):
        owner = owner.base

    known = np.flatnonzero((RANGES[:, 0] <= address) & (RANGES[:, 1] >= end))
    if len(known):
        return

    free = np.flatnonzero(RANGES[:, 0] == 0)
    if not len(free):
        raise MemoryError("more arrays than checked kernels can tell apart")

    place = int(free[0])
    RANGES[place] = address, end
    weakref.finalize(owner, _forbid, place)


def _forbid(place: int) -> None:
    RANGES[place] = 0


def check_outside() -> None:
    """In checked mode: raise IndexError where kernels wanted to touch what no array holds since
    this was last asked."""
    if OUTSIDE[0]:
        count, address = (int(value) for value in OUTSIDE)
        OUTSIDE[:] = 0
        raise IndexError(
            f"kernels wanted to touch {count} places outside every array, the last at address "
            f"{address:#x}"
        )
