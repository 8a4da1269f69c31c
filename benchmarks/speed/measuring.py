"""How long all measures of one large picture with four watch areas take, beside reading it from its
EXR."""

import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.alternate import alternate, ratio, show
from swift_sample.core.measure.compare import Area, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View

WIDTH = 1920
HEIGHT = 1080
AREAS = tuple(Area(f"area {k}", 100 + 400 * k, 200, 240, 240) for k in range(4))


def main() -> None:
    """Print seconds and their ratio."""
    rng = np.random.default_rng(1)
    clean = (
        rng.random((HEIGHT // 8, WIDTH // 8, 3))
        .repeat(8, axis=0)
        .repeat(8, axis=1)
        .astype(np.float32)
    )
    noisy, a, b = (clean + rng.normal(0, 0.02, clean.shape).astype(np.float32) for _ in range(3))
    path = Path(tempfile.mkdtemp()) / "picture.exr"
    write_exr(path, Picture(noisy, {"half_a": a, "half_b": b}))

    def reading() -> float:
        started = time.perf_counter()
        read_exr(path)
        return time.perf_counter() - started

    def measuring() -> float:
        started = time.perf_counter()
        measure(Comparison([noisy], clean, View(), (a, b), (a, b)), AREAS)
        return time.perf_counter() - started

    found = alternate({"measuring": measuring, "reading": reading})
    seconds = found["measuring"]

    show(
        "all measures of 1920x1080 with four areas, seconds",
        (float(np.median(seconds)), float(np.min(seconds)), float(np.max(seconds))),
        "under 1.5",
    )
    show("measuring over reading the EXR", ratio(found, "measuring", "reading"), "")
