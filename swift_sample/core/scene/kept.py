"""What code models is kept on disk, by that code: opening a demo scene again reads it, as a scene
from a file is read.

What is kept are pickled objects, which are as powerful as code: they are used only from a folder
that nobody else can write in.
"""

import hashlib
import logging
import os
import pickle
from collections.abc import Callable
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

import numpy as np

from swift_sample.core.files import written_whole
from swift_sample.core.kernels.cache import cache_root, is_own

MOST_KEPT = 8
"""Files; the oldest go."""

logger = logging.getLogger(__name__)
Made = TypeVar("Made")


def scenes_folder() -> Path:
    return cache_root() / "scenes"


@lru_cache(1)
def _code() -> bytes:
    """A digest of all that scenes are made by."""
    digest = hashlib.sha256(np.__version__.encode())
    for path in sorted(Path(__file__).parent.rglob("*.py")):
        digest.update(path.read_bytes())

    return digest.digest()


def kept(name: str, make: Callable[[], Made]) -> Made:
    """What `make` makes, or made before under this name with the same code; must not be changed in
    place. Where nothing can be kept it is made each time."""
    folder = scenes_folder()
    path = folder / f"{hashlib.sha256(_code() + name.encode()).hexdigest()[:24]}.pickle"

    if is_own(folder):
        with suppress(Exception):  # damaged in whatever way: made below
            return pickle.loads(path.read_bytes())

    made = make()
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        if is_own(folder):
            with written_whole(path) as temporary:
                temporary.write_bytes(pickle.dumps(made, pickle.HIGHEST_PROTOCOL))
            for old in sorted(folder.glob("*.pickle"), key=os.path.getmtime)[:-MOST_KEPT]:
                old.unlink(missing_ok=True)
    except OSError as error:
        logger.info("%s: %s is not kept (%s)", folder, name, error)

    return made
