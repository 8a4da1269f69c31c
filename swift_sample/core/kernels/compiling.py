"""How kernels are compiled: three decorators used throughout the core.

`kernel` is for small functions, inlined into whatever calls them. `part` is for the renderer's
large ones: each is compiled by itself, kept on disk, and calls the others by name. So compiling can
use every processor, and a change or a long chain of calls costs its own length instead of the
length of everything below it.
"""

import ctypes
import importlib
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from llvmlite import binding
from numba import njit, types
from numba.core.caching import CompileResultCacheImpl, FunctionCache, UserProvidedCacheLocator
from numba.core.ccallback import CFunc

from swift_sample.core.kernels.cache import kernel_folder, kernels_are_own, make_kernel_folder
from swift_sample.core.processes import end_with_parent

_OPTIONS: dict[str, Any] = {"nogil": True, "fastmath": {"contract"}, "error_model": "numpy"}

_C_TYPES = {
    types.int64: ctypes.c_int64,
    types.float32: ctypes.c_float,
    types.uint64: ctypes.c_uint64,
    types.void: None,
}

POLL_SECONDS = 0.1

VECTOR = (types.float32,) * 3
"""Three numbers in the signature of a part, which takes no tuples."""


class _Locator(UserProvidedCacheLocator):
    """Files by the module's name instead of its path: any checkout with the same sources finds
    them. Whether a source is the same is told by its content."""

    def __init__(self, py_func: Callable[..., Any], py_file: str) -> None:
        self._py_file = py_file
        self._lineno = py_func.__code__.co_firstlineno
        self._cache_path = str(kernel_folder() / py_func.__module__)

    @classmethod
    def from_function(cls, py_func: Callable[..., Any], py_file: str) -> "_Locator | None":
        return cls(py_func, py_file) if os.path.exists(py_file) else None


class _CacheFiles(CompileResultCacheImpl):
    _locator_classes = [_Locator]


class _Cache(FunctionCache):
    """Numba's own cache in our folder; where that cannot be written, or may not be trusted,
    functions are compiled at each start."""

    _impl_class = _CacheFiles

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        with suppress(OSError):
            if kernels_are_own():
                return super().load_overload(sig, target_context)
        return None

    def save_overload(self, sig: Any, data: Any) -> None:
        with suppress(OSError):
            make_kernel_folder()
            if kernels_are_own():
                super().save_overload(sig, data)


def _cached(compiled: Any, function: Callable[..., Any]) -> Any:
    compiled._cache = _Cache(function)
    return compiled


def kernel(function: Callable[..., Any]) -> Any:
    """Compile a function for use inside other kernels: no Python objects, cached on disk, fused
    multiply-add.

    The only relaxation is "contract": a*b+c may round once instead of twice, which is safe for NaN
    and infinity. Without its run time (`_nrt`) Numba counts no references to the arrays that are
    passed on from kernel to kernel, which threads would otherwise fight over; such a kernel cannot
    allocate arrays.
    """
    return _cached(njit(**{"_nrt": False, "forceinline": True, **_OPTIONS})(function), function)


def row_kernel(function: Callable[..., Any]) -> Any:
    """Like `kernel`, but not forced inline: the compiler turns loops over rows into vector code
    more surely on their own."""
    return _cached(njit(**{"_nrt": False, **_OPTIONS})(function), function)


def allocating_kernel(function: Callable[..., Any]) -> Any:
    """Like `kernel`, for functions that make arrays of their own."""
    return _cached(njit(**_OPTIONS)(function), function)


@dataclass
class Part:
    """A kernel with a fixed signature of numbers and addresses."""

    symbol: str
    function: Callable[..., Any]
    signature: Any
    compiled: Any = None
    callable: Any = None


PARTS: dict[str, Part] = {}
"""Every part by its symbol, those that are called before those that call them."""


def part(signature: Any) -> Callable[[Callable[..., Any]], Any]:
    """Declare a part. Kernels and later parts call it by its name; Python calls it through
    `from_python`."""

    def declare(function: Callable[..., Any]) -> Any:
        symbol = f"swift_sample_{function.__name__}"
        PARTS[symbol] = Part(symbol, function, signature)
        return types.ExternalFunction(symbol, signature)

    return declare


def load_parts() -> None:
    """Make every part ready to run, from the cache or by compiling it."""
    for each in PARTS.values():
        if each.compiled is None:
            each.compiled = _compile(each)
            binding.add_symbol(each.symbol, each.compiled.address)
            signature = each.signature
            arguments: list[Any] = [_C_TYPES[a] for a in signature.args]
            c_type = ctypes.CFUNCTYPE(_C_TYPES[signature.return_type], *arguments)
            each.callable = c_type(each.compiled.address)


def from_python(declared: Any) -> Callable[..., Any]:
    """A part as a function that Python can call; it runs without the interpreter's lock."""
    load_parts()
    return PARTS[declared.symbol].callable


def _compile(each: Part) -> Any:
    options = {"_nrt": False, **{k: v for k, v in _OPTIONS.items() if k != "nogil"}}
    compiled = _cached(
        CFunc(each.function, (each.signature.args, each.signature.return_type), {}, options),
        each.function,
    )
    compiled.compile()
    return compiled


def compile_parts(module: str, tell: Callable[[float], None], processes: int) -> None:
    """Fill the cache with all parts that importing `module` declares, in several processes; `tell`
    hears the share done.

    Raises nothing where a process fails: what is missing is compiled when it is loaded.
    """
    if not kernels_are_own():
        return  # nothing would be kept

    with tempfile.TemporaryDirectory(prefix="swift-sample-claims-") as name:
        folder = Path(name)
        workers = [
            subprocess.Popen(
                [sys.executable, "-m", __name__, module, name, str(os.getpid())],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            for _ in range(processes)
        ]

        try:
            while any(worker.poll() is None for worker in workers):
                tell(len(list(folder.glob("*.done"))) / max(1, len(PARTS)))
                time.sleep(POLL_SECONDS)
        finally:
            for worker in workers:
                worker.kill()
                worker.wait()


def _compile_unclaimed(folder: Path) -> None:
    """Compile parts that no other process has taken, the longest first. The addresses of their
    callees do not matter."""
    for symbol in PARTS:
        binding.add_symbol(symbol, 1)

    by_length = sorted(PARTS.values(), key=lambda p: -len(p.function.__code__.co_code))
    for each in by_length:
        try:
            (folder / f"{each.symbol}.taken").touch(exist_ok=False)
        except FileExistsError:
            continue

        _compile(each)
        (folder / f"{each.symbol}.done").touch()


if __name__ == "__main__":
    end_with_parent(int(sys.argv[3]))
    importlib.import_module(sys.argv[1])
    # The parts are declared in the module by its name, not in this one, which runs as the main
    # program.
    importlib.import_module("swift_sample.core.kernels.compiling")._compile_unclaimed(
        Path(sys.argv[2])
    )
