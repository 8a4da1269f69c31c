"""Rays per second against a compiled C program, on that program's own scene and path loop, one
thread."""

import math
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np
from numba import int32, int64, uint32, uint64

from benchmarks.alternate import alternate, ratio, show
from swift_sample.core.kernels.bits import float_of
from swift_sample.core.kernels.compiling import kernel, load_parts
from swift_sample.core.kernels.vector import (
    HUGE,
    ONE,
    TWO_PI,
    ZERO,
    along,
    cross,
    dot,
    f32,
    frame,
    normalize,
    to_world,
)
from swift_sample.core.renderers.builtin.kernels.opacity import triangle_in
from swift_sample.core.renderers.builtin.kernels.traverse import (
    EVERYTHING,
    STACK_BYTES,
    any_hit,
    closest_hit,
)
from swift_sample.core.renderers.builtin.lowlevel.records import tree_at
from swift_sample.core.renderers.builtin.lowlevel.schema import address_of
from swift_sample.core.renderers.builtin.tables.surfaces import tree_records
from swift_sample.core.renderers.builtin.tables.tree import Tree, build_tree

C_SOURCE = Path(__file__).resolve().parents[3] / "shared" / "bench" / "ceiling.c"
SIZE, SAMPLES, BOUNCES, TILE, RINGS = 512, 4, 5, 32, 300


def ring_mesh(n: int) -> np.ndarray:
    """The C program's scene: a wavy ring on a floor, float32[2 n^2 + 2, 3, 3]."""
    i, j = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
    u, v = 2 * np.pi * i / n, 2 * np.pi * j / n
    r = 0.5 + 0.05 * np.sin(9 * u) * np.sin(7 * v)
    points = np.stack(
        [(1.2 + r * np.cos(v)) * np.cos(u), (1.2 + r * np.cos(v)) * np.sin(u), r * np.sin(v)], -1
    )
    points = points.reshape(-1, 3)
    a = i * n + j
    b = (i + 1) % n * n + j
    c = (i + 1) % n * n + (j + 1) % n
    d = i * n + (j + 1) % n
    corners = np.concatenate(
        [np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]
    )
    floor = np.array([[-6, -6, -0.6], [6, -6, -0.6], [6, 6, -0.6], [-6, 6, -0.6]])[
        [[0, 1, 2], [0, 2, 3]]
    ]

    return np.concatenate([points[corners], floor]).astype(np.float32)


@kernel
def draw(state):
    """The C program's random generator: (state, number in [0, 1))."""
    state ^= state << uint64(13)
    state ^= state >> uint64(7)
    state ^= state << uint64(17)

    return state, f32(state >> uint64(40)) * f32(1 / 16777216)


@kernel
def nearest(tree, working, origin, direction):
    """(distance, slot) of the nearest hit, slot -1 for none: the renderer's own traversal."""
    packed = closest_hit(
        0,
        0,
        tree,
        working,
        origin[0],
        origin[1],
        origin[2],
        direction[0],
        direction[1],
        direction[2],
        HUGE,
        ZERO,
        EVERYTHING,
    )
    return float_of(uint32(packed >> uint64(32))), int64(int32(uint32(packed)))


@kernel
def blocked(tree, working, origin, direction, reach):
    return any_hit(
        0,
        0,
        tree,
        working,
        origin[0],
        origin[1],
        origin[2],
        direction[0],
        direction[1],
        direction[2],
        reach,
        ZERO,
    )


class Traversed:
    """A tree with the record and the working memory that kernels reach it by."""

    def __init__(self, tree: Tree) -> None:
        load_parts()
        none = np.zeros(int(tree.triangles.max()) + 1, bool)
        self._tree = tree
        self._records = tree_records([tree], none, none)
        self._working = np.zeros(STACK_BYTES, np.uint8)
        self.address, self.working = self._records.address, address_of(self._working)


@kernel
def follow(tree, working, state, origin, direction):
    """One path of the mix: (state, light, rays)."""
    light = ZERO
    throughput = ONE
    rays = 0

    for _ in range(BOUNCES):
        distance, slot = nearest(tree, working, origin, direction)
        rays += 1
        if slot < 0:
            return state, light + throughput * f32(0.3), rays

        _, edge1, edge2 = triangle_in(tree_at(tree, 0), slot, ZERO)
        n = normalize(cross(edge1, edge2))
        if dot(n, direction) > ZERO:
            n = (-n[0], -n[1], -n[2])

        origin = along(along(origin, direction, distance), n, f32(1e-4))
        state, a = draw(state)
        state, b = draw(state)
        to_light = (f32(2) + a - origin[0], f32(-2) + b - origin[1], f32(4) - origin[2])
        squared = dot(to_light, to_light)
        reach = math.sqrt(squared)
        to_light = (to_light[0] / reach, to_light[1] / reach, to_light[2] / reach)
        cosine = dot(n, to_light)

        if cosine > ZERO:
            rays += 1
            if not blocked(tree, working, origin, to_light, reach):
                light += throughput * f32(0.7) * cosine * to_light[2] * f32(12) / squared

        throughput *= f32(0.7)
        state, a = draw(state)
        state, b = draw(state)
        radius = math.sqrt(b)
        turn = a * TWO_PI
        tangent, bitangent = frame(n)
        direction = to_world(
            (math.cos(turn) * radius, math.sin(turn) * radius, math.sqrt(max(ZERO, ONE - b))),
            tangent,
            bitangent,
            n,
        )

    return state, light, rays


@kernel
def trace_mix(tree, working):
    """The whole picture tile by tile: (rays, mean light)."""
    rays = int64(0)
    total = 0.0
    tile = 0

    for ty in range(0, SIZE, TILE):
        for tx in range(0, SIZE, TILE):
            tile += 1
            state = uint64(tile) * uint64(2654435761) + uint64(88172645463325252)

            for y in range(ty, ty + TILE):
                for x in range(tx, tx + TILE):
                    for _ in range(SAMPLES):
                        state, a = draw(state)
                        state, b = draw(state)
                        direction = normalize(
                            (
                                (f32(x) + a) / f32(SIZE) - f32(0.5),
                                f32(1.2),
                                f32(0.5) - (f32(y) + b) / f32(SIZE) - f32(0.45),
                            )
                        )
                        state, light, cast = follow(
                            tree, working, state, (ZERO, f32(-4.5), f32(2.2)), direction
                        )
                        rays += cast
                        total += light

    return rays, total / (SIZE * SIZE * SAMPLES)


class _CProgram:
    """The C program's `serve` command."""

    def __init__(self, folder: Path) -> None:
        program = folder / "ceiling"
        subprocess.run(
            [
                "gcc",
                "-O3",
                "-march=native",
                "-ffast-math",
                "-std=gnu11",
                str(C_SOURCE),
                "-o",
                str(program),
                "-lm",
                "-lpthread",
            ],
            check=True,
            capture_output=True,
        )

        self._process = subprocess.Popen(
            [str(program), "serve", str(RINGS)],
            stdin=subprocess.PIPE,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
        )
        assert self._process.stdout is not None
        self._process.stdout.readline()

    def rate(self, layout: int) -> float:
        """Rays per second of one pass on one thread."""
        return self.run(layout)[0]

    def run(self, layout: int) -> tuple[float, float]:
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        print(f"{layout} 1 mix", file=self._process.stdin, flush=True)
        rays, seconds, mean = self._process.stdout.readline().split()

        return int(rays) / float(seconds), float(mean)

    def close(self) -> None:
        self._process.terminate()
        self._process.wait()


def main() -> None:
    """Print our rate over the C program's scalar and eight-wide rates."""
    if not C_SOURCE.is_file() or shutil.which("gcc") is None:
        print(f"  left out: needs gcc and {C_SOURCE.name} in ../shared/bench")
        return

    started = time.perf_counter()
    small = Traversed(build_tree(ring_mesh(20)))
    trace_mix(small.address, small.working)
    compiled = time.perf_counter() - started
    started = time.perf_counter()
    ring = Traversed(build_tree(ring_mesh(RINGS)))
    built = time.perf_counter() - started
    means = []

    def ours() -> float:
        begun = time.perf_counter()
        rays, mean = trace_mix(ring.address, ring.working)
        means.append(mean)
        return rays / (time.perf_counter() - begun)

    with tempfile.TemporaryDirectory() as folder:
        program = _CProgram(Path(folder))
        try:
            found = alternate(
                {
                    "ours": ours,
                    "scalar": lambda: program.rate(0),
                    "fused": lambda: program.rate(1),
                    "wide": lambda: program.rate(2),
                }
            )
            _, c_mean = program.run(2)
        finally:
            program.close()

    for name, rates in found.items():
        print(f"  {name:8s} {np.median(rates) / 1e6:6.2f} million rays/s")

    print(
        f"  mean light {means[-1]:.5f}, C program {c_mean:.5f}; tree of {2 * RINGS**2 + 2} "
        f"triangles in {built:.2f} s "
        f"(compiled in {compiled:.1f} s)"
    )
    show("against the C program's scalar tree", ratio(found, "ours", "scalar"), "at least 1.0")
    show("against its fused scalar tree", ratio(found, "ours", "fused"), "none stated")
    show("against its eight-wide tree", ratio(found, "ours", "wide"), "at least 0.85")
