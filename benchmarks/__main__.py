"""Run every benchmark: `make bench`, or `python -m benchmarks NAME ...`."""

import sys

from benchmarks import (
    adaptive,
    cutouts,
    denoising,
    efficiency,
    machines,
    measures,
    measuring,
    outside,
    renderer,
    scale,
    search,
    simulation,
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
    "measures": measures.main,
    "measuring": measuring.main,
    "outside": outside.main,
    "search": search.main,
    "simulation": simulation.main,
    "starting": starting.main,
    "study": study.main,
    "window": window.main,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or BENCHMARKS:
        print(f"\n{name}")
        BENCHMARKS[name]()
