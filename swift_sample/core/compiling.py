"""How kernels are compiled: the two decorators used throughout the core."""

import os
from collections.abc import Callable
from typing import Any

from numba import config, njit

# Numba reads the variable when it is first imported, which may have been before the core was.
config.CACHE_DIR = os.environ.get("NUMBA_CACHE_DIR", "")  # type: ignore[attr-defined]

_OPTIONS: dict[str, Any] = {"cache": True, "nogil": True, "fastmath": {"contract"}, "error_model": "numpy"}


def kernel(function: Callable[..., Any]) -> Any:
    """Compile a function for use inside other kernels: no Python objects, cached on disk, fused multiply-add.

    The only relaxation is "contract": a*b+c may round once instead of twice, which is safe for NaN and infinity.
    Without its run time (`_nrt`) Numba counts no references to the arrays that are passed on from kernel to kernel,
    which threads would otherwise fight over; such a kernel cannot allocate arrays.
    """
    return njit(**{"_nrt": False, "forceinline": True, **_OPTIONS})(function)


def allocating_kernel(function: Callable[..., Any]) -> Any:
    """Like `kernel`, for functions that make arrays of their own."""
    return njit(**_OPTIONS)(function)
