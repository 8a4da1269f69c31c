"""Where compiled kernels are kept, so that they are compiled once and never used when stale.

Numba checks only the file a function stands in, not the files it calls into. So the cache folder's
name is a digest of every source file of the core, the compiler's version and the processor: any change leads
to a new folder, and old ones are removed.
"""

import hashlib
import os
import platform
import shutil
import time
from importlib.metadata import version
from pathlib import Path

import platformdirs

KEPT_FOLDERS = 3
"""How many digests stay on disk: the current one, and two for switching between versions."""


def cache_root() -> Path:
    """The user's cache folder for everything that can be made again."""
    return Path(os.environ.get("SWIFT_SAMPLE_CACHE") or platformdirs.user_cache_dir("swift-sample"))


COMPILED_FROM = ("render", "denoise", "measure", "scene/model.py", "bits.py", "compiling.py", "view.py", "view_kernels.py")
"""What kernels are compiled from: where they stand, and whatever those files import."""


def sources_digest() -> str:
    """A digest of the sources that kernels are compiled from, the compiler and the processor."""
    digest = hashlib.sha256()
    core = Path(__file__).parent
    files = [file for name in COMPILED_FROM
             for file in ((core / name).rglob("*.py") if (core / name).is_dir() else [core / name])]
    for path in sorted(path for path in files if path.is_file()):
        digest.update(path.relative_to(core).as_posix().encode())
        digest.update(path.read_bytes())
    for package in ("numba", "llvmlite", "numpy"):
        digest.update(version(package).encode())
    digest.update(platform.machine().encode() + _processor_flags())
    return digest.hexdigest()[:16]


def use_cache_folder() -> Path:
    """Point the compiler at this version's folder; must run before numba is imported.

    A cache folder that cannot be written is no error: kernels are then compiled at each start.
    """
    folder = cache_root() / "kernels" / sources_digest()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        os.utime(folder)
        _remove_old(folder.parent)
    except OSError:
        return folder
    os.environ["NUMBA_CACHE_DIR"] = str(folder)
    return folder


def is_compiled() -> bool:
    """Whether all kernels of this version were compiled to the end once."""
    return (cache_root() / "kernels" / sources_digest() / "complete").exists()


def mark_compiled() -> None:
    """Note that every kernel now stands in the cache."""
    marker = cache_root() / "kernels" / sources_digest() / "complete"
    if marker.parent.is_dir() and os.access(marker.parent, os.W_OK):
        marker.touch()


def _remove_old(parent: Path) -> None:
    folders = sorted((p for p in parent.iterdir() if p.is_dir()), key=lambda p: p.stat().st_mtime, reverse=True)
    for folder in folders[KEPT_FOLDERS:]:
        if time.time() - folder.stat().st_mtime > 3600:
            shutil.rmtree(folder, ignore_errors=True)


def _processor_flags() -> bytes:
    try:
        text = Path("/proc/cpuinfo").read_text()
    except OSError:
        return b""
    return next((line for line in text.splitlines() if line.startswith("flags")), "").encode()
