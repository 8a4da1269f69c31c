"""Where compiled kernels are kept, so that they are compiled once and never used when stale.

The folder's name is a digest of every source file that kernels are made of, the compiler's version
and the processor: any change leads to a new folder. Nothing in it knows where the sources stand, so
that every checkout and environment with the same sources shares it. Nothing is made on disk before
something is compiled.
"""

import hashlib
import logging
import os
import platform
import shutil
import stat
import sys
import time
from functools import lru_cache
from importlib.metadata import version
from pathlib import Path

import platformdirs

logger = logging.getLogger(__name__)

KEPT_FOLDERS = 3
"""How many digests stay on disk: the current one, and two for switching between versions."""

CHECKED = os.environ.get("SWIFT_SAMPLE_CHECKED", "") not in ("", "0")
"""Whether kernels look that every address they use lies inside an array that was bound; several
times slower, for tests."""


def cache_root() -> Path:
    """The user's cache folder for everything that can be made again."""
    return Path(os.environ.get("SWIFT_SAMPLE_CACHE") or platformdirs.user_cache_dir("swift-sample"))


COMPILED_FROM = (
    "kernels",
    "measure",
    "picture/colour.py",
    "picture/view_kernels.py",
    "renderers/builtin/denoise",
    "renderers/builtin/kernels",
    "renderers/builtin/lowlevel",
    "renderers/builtin/rendering",
    "renderers/builtin/tables",
    "scene/model.py",
)
"""What kernels are compiled from: where they stand, and whatever those files import."""


@lru_cache(1)
def sources_digest() -> str:
    """A digest of the sources that kernels are compiled from, the compiler, Python's version and
    the processor."""
    digest = hashlib.sha256(b"checked" if CHECKED else b"")
    core = Path(__file__).parents[1]
    files = [
        file
        for name in COMPILED_FROM
        for file in ((core / name).rglob("*.py") if (core / name).is_dir() else [core / name])
    ]

    for path in sorted(path for path in files if path.is_file()):
        digest.update(path.relative_to(core).as_posix().encode())
        digest.update(path.read_bytes())

    for package in ("numba", "llvmlite", "numpy"):
        digest.update(version(package).encode())

    digest.update(
        f"{sys.implementation.cache_tag} {platform.machine()}".encode() + _processor_flags()
    )
    return digest.hexdigest()[:16]


def kernel_folder() -> Path:
    """Where this version's kernels are kept; it need not be there yet, or may be one that cannot be
    written."""
    return cache_root() / "kernels" / sources_digest()


def kernels_are_own() -> bool:
    """Whether this version's kernels on disk may be used. They are code: only where their folder
    belongs to this user or the system, and nobody else may write in it. True where there are none
    yet."""
    return is_own(kernel_folder())


def is_own(folder: Path) -> bool:
    """Whether a folder belongs to this user or the system, and nobody else may write in it. True
    where there is none yet."""
    try:
        seen = os.lstat(folder)
    except FileNotFoundError:
        return True
    except OSError:
        return False

    own = (
        stat.S_ISDIR(seen.st_mode)
        and seen.st_uid in (0, os.geteuid())
        and not seen.st_mode & (stat.S_IWGRP | stat.S_IWOTH)
    )
    if not own:
        _warn_of(folder)

    return own


@lru_cache
def _warn_of(folder: Path) -> None:
    logger.warning(
        "%s: belongs to someone else, or others may write in it, so what was compiled there is not "
        "used; remove it, or set SWIFT_SAMPLE_CACHE to a folder of yours",
        folder,
    )


def make_kernel_folder() -> None:
    """Raises OSError where it cannot be made."""
    folder = kernel_folder()
    folder.parent.mkdir(parents=True, exist_ok=True)
    folder.mkdir(mode=0o700, exist_ok=True)


def is_compiled() -> bool:
    """Whether all kernels of this version were compiled to the end once."""
    return kernels_are_own() and (kernel_folder() / "complete").exists()


def mark_compiled() -> None:
    """Note that every kernel now stands in the cache, and remove those of old versions.

    A cache that cannot be written is no error: kernels are then compiled at each start.
    """
    folder = kernel_folder()
    if kernels_are_own() and folder.is_dir() and os.access(folder, os.W_OK):
        (folder / "complete").touch()
        os.utime(folder)
        _remove_old(folder.parent)


def _remove_old(parent: Path) -> None:
    folders = sorted(
        (p for p in parent.iterdir() if p.is_dir()), key=lambda p: p.stat().st_mtime, reverse=True
    )
    for folder in folders[KEPT_FOLDERS:]:
        if time.time() - folder.stat().st_mtime > 3600:
            shutil.rmtree(folder, ignore_errors=True)


def _processor_flags() -> bytes:
    try:
        text = Path("/proc/cpuinfo").read_text()
    except OSError:
        return b""

    return next((line for line in text.splitlines() if line.startswith("flags")), "").encode()
