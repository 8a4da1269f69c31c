"""Floats as bits and back, for kernels."""

from llvmlite import ir
from numba import types
from numba.extending import intrinsic


@intrinsic
def bits_of(typing_context, value):
    """The bits of a float32 as uint32; for non-negative floats they sort like the floats."""
    signature = types.uint32(types.float32)

    def generate(context, builder, signature, arguments):
        return builder.bitcast(arguments[0], ir.IntType(32))

    return signature, generate


@intrinsic
def float_of(typing_context, bits):
    """The float32 with these bits."""
    signature = types.float32(types.uint32)

    def generate(context, builder, signature, arguments):
        return builder.bitcast(arguments[0], ir.FloatType())

    return signature, generate
