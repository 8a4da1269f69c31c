"""Kernels' access to arrays by their address.

Parts of the renderer share a few records (`records.py`) that hold the addresses of the scene's arrays, so that one number
passes from kernel to kernel instead of a hundred array fields. Nothing here checks bounds; whoever makes a record
keeps its arrays alive and contiguous.
"""

from typing import Any

import numpy as np
from llvmlite import ir
from numba import from_dtype, types
from numba.extending import intrinsic

from swift_sample.core.kernels.compiling import kernel

_IR = {
    types.float32: ir.FloatType(),
    types.float64: ir.DoubleType(),
    types.int32: ir.IntType(32),
    types.int64: ir.IntType(64),
    types.uint8: ir.IntType(8),
    types.uint32: ir.IntType(32),
    types.uint64: ir.IntType(64),
}


def _reader(kind: Any) -> Any:
    @intrinsic
    def read(typing_context, address, index):
        def generate(context, builder, signature, arguments):
            data = builder.inttoptr(arguments[0], _IR[kind].as_pointer())
            return builder.load(builder.gep(data, [arguments[1]]))

        return kind(types.int64, types.int64), generate

    return read


def _writer(kind: Any) -> Any:
    @intrinsic
    def write(typing_context, address, index, value):
        def generate(context, builder, signature, arguments):
            data = builder.inttoptr(arguments[0], _IR[kind].as_pointer())
            builder.store(arguments[2], builder.gep(data, [arguments[1]]))
            return context.get_dummy_value()

        return types.void(types.int64, types.int64, kind), generate

    return write


f32_at, i32_at, u8_at = _reader(types.float32), _reader(types.int32), _reader(types.uint8)
u32_at, i64_at, u64_at = _reader(types.uint32), _reader(types.int64), _reader(types.uint64)
put_f32, put_i32, put_u64, put_u8 = (_writer(t) for t in (types.float32, types.int32, types.uint64, types.uint8))


@intrinsic
def add_f64_atomic(typing_context, address, index, value):
    """Add to a float64 that several threads share."""

    def generate(context, builder, signature, arguments):
        data = builder.inttoptr(arguments[0], ir.DoubleType().as_pointer())
        builder.atomic_rmw("fadd", builder.gep(data, [arguments[1]]), arguments[2], "monotonic")
        return context.get_dummy_value()

    return types.void(types.int64, types.int64, types.float64), generate


@intrinsic
def take_next(typing_context, address):
    """Add one to the int64 at the address atomically and return what it was: how threads share out tiles."""

    def generate(context, builder, signature, arguments):
        data = builder.inttoptr(arguments[0], ir.IntType(64).as_pointer())
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
            return builder.inttoptr(builder.add(arguments[0], offset), context.get_value_type(kind))

        return kind(types.int64, types.int64), generate

    return record_at


@kernel
def vector_at(address, index):
    """Three float32 in a row as a vector."""
    return f32_at(address, 3 * index), f32_at(address, 3 * index + 1), f32_at(address, 3 * index + 2)


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


def address_of(array: np.ndarray) -> int:
    """The address of a contiguous array's data. Raises ValueError where it is not contiguous."""
    if not array.flags.c_contiguous:
        raise ValueError("only contiguous arrays can be read by address")
    return int(array.ctypes.data)
