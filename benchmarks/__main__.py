"""Run every benchmark: `make bench`, or `python -m benchmarks NAME ...`."""

import sys

from benchmarks.measures import noise
from benchmarks.search import guided, outside, recordings, simulation
from benchmarks.speed import (
    adaptive,
    cutouts,
    denoising,
    efficiency,
    machines,
    measuring,
    renderer,
    scale,
    starting,
    study,
    traversal,
    window,
)

BENCHMARKS = {
    "adaptive": adaptive.main,
    "cutouts": cutouts.main,
    "traversal": traversal.main,
    "renderer": renderer.main,
    "scale": scale.main,
    "denoising": denoising.main,
    "efficiency": efficiency.main,
    "machines": machines.main,
    "measures": noise.main,
    "measuring": measuring.main,
    "outside": outside.main,
    "recordings": recordings.main,
    "search": guided.main,
    "simulation": simulation.main,
    "starting": starting.main,
    "study": study.main,
    "window": window.main,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or BENCHMARKS:
        print(f"\n{name}")
        BENCHMARKS[name]()
