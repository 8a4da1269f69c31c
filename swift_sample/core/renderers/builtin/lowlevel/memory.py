"""Kernels' access to arrays and records by their address.

Parts of the renderer share a few records (`records.py`) that hold the addresses of the scene's
arrays, so that one number passes from kernel to kernel instead of a hundred array fields. Addresses
get into records by `schema.Records.bind` alone. In checked mode (`SWIFT_SAMPLE_CHECKED=1`) every
access looks first whether it lies inside an array that was bound; one that does not touches a
scratch area instead, and is counted (`schema.check_outside`).
"""

from typing import Any

import numpy as np
from llvmlite import binding, ir
from numba import carray, cfunc, from_dtype, types  # type: ignore[attr-defined]
from numba.core import cgutils
from numba.extending import intrinsic

from swift_sample.core.kernels.cache import CHECKED
from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.renderers.builtin.lowlevel.schema import OUTSIDE, RANGES

_IR = {
    types.float32: ir.FloatType(),
    types.float64: ir.DoubleType(),
    types.int32: ir.IntType(32),
    types.int64: ir.IntType(64),
    types.uint8: ir.IntType(8),
    types.uint32: ir.IntType(32),
    types.uint64: ir.IntType(64),
}


_SCRATCH = np.zeros(1 << 16, np.uint8)
"""What is touched instead of an address outside every array: larger than any record."""
_INSIDE = "swift_sample_inside"


def _compile_check() -> Any:
    """Compile what looks up an address, for this process alone: it holds the addresses of the
    tables as constants."""
    ranges = RANGES.ctypes.data
    outside = OUTSIDE.ctypes.data
    scratch = _SCRATCH.ctypes.data
    rows = len(RANGES)

    @cfunc(types.int64(types.int64, types.int64))
    def inside(address, size):
        table = carray(_pointer(ranges), (rows, 2), np.int64)
        for k in range(rows):
            if table[k, 0] <= address and address + size <= table[k, 1]:
                return address

        count = carray(_pointer(outside), 2, np.int64)
        count[0] += 1
        count[1] = address

        return scratch

    return inside


@intrinsic
def _pointer(typing_context, address):
    def generate(context, builder, signature, arguments):
        return builder.inttoptr(arguments[0], ir.IntType(8).as_pointer())

    return types.voidptr(types.int64), generate


if CHECKED:
    _CHECK = _compile_check()
    binding.add_symbol(_INSIDE, _CHECK.address)


def _checked(builder: Any, address: Any, size: int) -> Any:
    """The address, or in checked mode that of the scratch area where it lies outside every
    array."""
    if not CHECKED:
        return address

    word = ir.IntType(64)
    declared = cgutils.get_or_insert_function(
        builder.module, ir.FunctionType(word, [word, word]), _INSIDE
    )
    return builder.call(declared, [address, ir.Constant(word, size)])


def _place(builder: Any, kind: Any, address: Any, index: Any) -> Any:
    """A pointer to one element of an array."""
    data = builder.inttoptr(address, _IR[kind].as_pointer())
    if not CHECKED:
        return builder.gep(data, [index])

    place = builder.ptrtoint(builder.gep(data, [index]), ir.IntType(64))
    return builder.inttoptr(_checked(builder, place, kind.bitwidth // 8), _IR[kind].as_pointer())


def _reader(kind: Any) -> Any:
    @intrinsic
    def read(typing_context, address, index):
        def generate(context, builder, signature, arguments):
            return builder.load(_place(builder, kind, *arguments))

        return kind(types.int64, types.int64), generate

    return read


def _writer(kind: Any) -> Any:
    @intrinsic
    def write(typing_context, address, index, value):
        def generate(context, builder, signature, arguments):
            builder.store(arguments[2], _place(builder, kind, *arguments[:2]))
            return context.get_dummy_value()

        return types.void(types.int64, types.int64, kind), generate

    return write


f32_at = _reader(types.float32)
i32_at = _reader(types.int32)
u8_at = _reader(types.uint8)
u32_at = _reader(types.uint32)
i64_at = _reader(types.int64)
u64_at = _reader(types.uint64)
put_f32, put_i32, put_u32, put_u64, put_u8 = (
    _writer(t) for t in (types.float32, types.int32, types.uint32, types.uint64, types.uint8)
)


@intrinsic
def add_f64_atomic(typing_context, address, index, value):
    """Add to a float64 that several threads share."""

    def generate(context, builder, signature, arguments):
        builder.atomic_rmw(
            "fadd", _place(builder, types.float64, *arguments[:2]), arguments[2], "monotonic"
        )
        return context.get_dummy_value()

    return types.void(types.int64, types.int64, types.float64), generate


@intrinsic
def take_next(typing_context, address):
    """Add one to the int64 at the address atomically and return what it was: how threads share out
    tiles."""

    def generate(context, builder, signature, arguments):
        data = builder.inttoptr(_checked(builder, arguments[0], 8), ir.IntType(64).as_pointer())
        return builder.atomic_rmw("add", data, ir.Constant(ir.IntType(64), 1), "monotonic")

    return types.int64(types.int64), generate


def record_reader(dtype: np.dtype) -> Any:
    """A kernel function (address, index) -> record of this type, to read and to change in place."""
    kind = from_dtype(dtype)
    size = dtype.itemsize

    @intrinsic
    def record_at(typing_context, address, index):
        def generate(context, builder, signature, arguments):
            offset = builder.mul(arguments[1], ir.Constant(ir.IntType(64), size))
            address = _checked(builder, builder.add(arguments[0], offset), size)
            return builder.inttoptr(address, context.get_value_type(kind))

        return kind(types.int64, types.int64), generate

    return record_at


@kernel
def vector_at(address, index):
    """Three float32 in a row as a vector."""
    return (
        f32_at(address, 3 * index),
        f32_at(address, 3 * index + 1),
        f32_at(address, 3 * index + 2),
    )


@kernel
def add_vector(address, index, value):
    put_f32(address, 3 * index, f32_at(address, 3 * index) + value[0])
    put_f32(address, 3 * index + 1, f32_at(address, 3 * index + 1) + value[1])
    put_f32(address, 3 * index + 2, f32_at(address, 3 * index + 2) + value[2])


@kernel
def vec(field):
    """A record's field of three float32 as a vector."""
    return field[0], field[1], field[2]


@kernel
def set_vec(field, value):
    field[0] = value[0]
    field[1] = value[1]
    field[2] = value[2]
