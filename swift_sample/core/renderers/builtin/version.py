"""The version of the built-in renderer: what can change a pixel, as a digest.

It names results, so it rests on sources alone: not on the processor, Python or libraries, whose versions are recorded beside
every run.
"""

import hashlib
from functools import cache
from pathlib import Path

PIXELS_FROM = (
    "kernels",
    "measure/cells.py",
    "picture",
    "renderers/builtin/denoise",
    "renderers/builtin/render",
    "renderers/builtin/pipeline.py",
    "scene",
)
"""Where the renderer, its pipeline and the files that it delivers stand; the demo's own scene is part of its identity."""


@cache
def renderer_version() -> str:
    """Twelve hexadecimal digits that change with everything that can change a pixel."""
    core, digest = Path(__file__).parents[2], hashlib.sha256()
    files = [file for name in PIXELS_FROM for file in ((core / name).rglob("*") if (core / name).is_dir() else [core / name])]
    for path in sorted(file for file in files if file.suffix in (".py", ".npz") and not file.name.startswith("honey_")):
        digest.update(path.relative_to(core).as_posix().encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()[:12]
