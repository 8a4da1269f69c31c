"""What this program keeps on disk and could make again: listed, sized and cleared."""

import shutil
from dataclasses import dataclass
from pathlib import Path

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.kernels.cache import cache_root

CACHES = {
    "kernels": "the renderer, compiled for this processor; made anew when its sources change",
    "cutouts": "outlines of masks, for cut-outs as geometry; made anew when a mask changes",
    "scenes": "the demo scenes as their code modelled them; made anew when that changes",
    "machines": "what travelled here for studies of other computers; comes again when it is needed",
    "textures": "prepared textures; made anew when a picture's content changes",
}
"""By the name of their folder: what they hold and what invalidates them."""


@dataclass(frozen=True)
class Cache:
    name: str
    about: str
    path: Path
    files: int
    size_bytes: int

    def as_dict(self) -> dict[str, object]:
        return {
            "name": self.name,
            "about": self.about,
            "path": str(self.path),
            "files": self.files,
            "bytes": self.size_bytes,
        }


def list_caches() -> list[Cache]:
    """Every cache with its size; empty ones too."""
    caches = []
    for name, about in CACHES.items():
        path = cache_root() / name
        told = [file.stat() for file in path.rglob("*") if file.is_file()] if path.is_dir() else []
        sizes = {one.st_ino: one.st_size for one in told}  # a file may have two names
        caches.append(Cache(name, about, path, len(sizes), sum(sizes.values())))

    return caches


def clear_cache(name: str) -> int:
    """Remove a cache; returns the bytes that are free again. Raises SwiftSampleError where it
    cannot be removed."""
    (cache,) = (cache for cache in list_caches() if cache.name == name)
    try:
        if cache.path.is_dir():
            shutil.rmtree(cache.path)
    except OSError as error:
        raise SwiftSampleError(
            f"{cache.path}: the cache cannot be cleared ({one_line(error)}); check permissions"
        ) from error

    return cache.size_bytes
