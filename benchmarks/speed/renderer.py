"""The whole renderer on the demo scene: threads, recording, traversal's share, size of the scene,
and building."""

import os
import time

import numpy as np
from numba import int64

from benchmarks.alternate import alternate, ratio, show
from benchmarks.speed.traversal import Traversed, blocked, nearest, ring_mesh
from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import along, f32, frame, to_world
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.kernels.camera import aim
from swift_sample.core.renderers.builtin.kernels.sampler import pixel_seed, sample_pair
from swift_sample.core.renderers.builtin.lowlevel.memory import vec
from swift_sample.core.renderers.builtin.lowlevel.records import job_at, path_at
from swift_sample.core.renderers.builtin.rendering.building import (
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling
from swift_sample.core.renderers.builtin.tables.tree import build_tree
from swift_sample.core.scene.honey_stall import honey_stall
from swift_sample.core.scene.model import Camera, Environment, Material, Mesh, Scene
from swift_sample.core.settings import Configuration

SIZE = (320, 180)
SAMPLES = 8


@kernel
def trace_only(job_address, path_address, tree, working, samples):
    """Camera rays, and from each hit one ray to anything and one shadow ray: the demo's mix without
    shading."""
    job = job_at(job_address, 0)
    path = path_at(path_address, 0)
    rays = int64(0)

    for y in range(job.height):
        for x in range(job.width):
            seed = pixel_seed(x, y, 1)
            for k in range(samples):
                aim(job, path, x, y, seed, k)
                origin = vec(path.ray.origin)
                direction = vec(path.ray.direction)
                distance, slot = nearest(tree, working, origin, direction)
                rays += 1

                if slot < 0:
                    continue

                point = along(origin, direction, distance - f32(1e-4))
                u, v = sample_pair(seed, k, 1, 0)
                tangent, bitangent = frame((-direction[0], -direction[1], -direction[2]))
                z = f32(1) - f32(2) * u
                flat = np.sqrt(max(f32(0), f32(1) - z * z))
                turn = f32(6.2831853) * v

                outward = to_world(
                    (flat * np.cos(turn), flat * np.sin(turn), abs(z)),
                    tangent,
                    bitangent,
                    (-direction[0], -direction[1], -direction[2]),
                )
                nearest(tree, working, point, outward)
                blocked(tree, working, point, outward, f32(1e30))
                rays += 2

    return rays


def ring_scene(n: int) -> Scene:
    """The traversal benchmark's ring with 2 n^2 triangles, matt, under an even sky."""
    corners = ring_mesh(n)
    mesh = Mesh(
        name="ring",
        material=0,
        positions=corners.reshape(-1, 3),
        corners=np.arange(3 * len(corners), dtype=np.int32).reshape(-1, 3),
    )

    return Scene(
        name="ring",
        meshes=[mesh],
        materials=[Material(name="matt")],
        camera=Camera(position=(0, -4.5, 2.2), target=(0, 0, 0), up=(0, 0, 1), vertical_field=0.8),
        environment=Environment(np.full((1, 1, 3), 0.5, np.float32)),
    )


def main() -> None:
    """Print the table."""
    base = configured({"samples.max": SAMPLES, "bounces.total": 12})
    started = time.perf_counter()
    built = build_scene(honey_stall(), Stopwatch(), choices_of(base))
    cold = time.perf_counter() - started

    def sampling(threads: int, record: bool) -> tuple[float, int]:
        """Seconds of the sampling, and rays cast."""
        stopwatch = Stopwatch()
        configuration = base.replace({"device.threads": threads})
        _, found = render(
            built, configuration, SIZE, 1, View(), stopwatch, record=record, passes=record
        )

        return stopwatch.wall["sampling"], int(found.rays["total"])

    def rate(threads: int) -> float:
        seconds, rays = sampling(threads, True)
        return rays / seconds

    idle = Sampling(built, base.replace({"device.threads": 1}), SIZE, 1, View())
    traversed = Traversed(built.compiled.trees[0])

    def traversal_rate() -> float:
        started = time.perf_counter()
        rays = trace_only(
            idle._job.address, idle._paths.address, traversed.address, traversed.working, SAMPLES
        )
        return rays / (time.perf_counter() - started)

    idle.run()  # what it hands to its kernels is complete only then
    found = alternate(
        {"one thread": lambda: rate(1), "two threads": lambda: rate(2), "traversal": traversal_rate}
    )
    print(
        "  "
        + ", ".join(
            f"{name} {np.median(rates) / 1e6:.2f} million rays/s" for name, rates in found.items()
        )
    )
    show(
        "whole renderer over traversal alone, rays per second",
        ratio(found, "one thread", "traversal"),
        "at least 0.5",
    )
    show(
        "two threads over one",
        ratio(found, "two threads", "one thread"),
        "at least 1.85 on two free cores",
    )
    times = alternate({"on": lambda: sampling(1, True)[0], "off": lambda: sampling(1, False)[0]})
    show("recording on over off, time", ratio(times, "on", "off"), "at most 1.03")
    _sizes(base)
    _building()
    _first_picture(built, base, cold)


def _sizes(base: Configuration) -> None:
    scenes = {n: build_scene(ring_scene(n), Stopwatch()) for n in (71, 708)}

    def seconds(n: int) -> float:
        stopwatch = Stopwatch()
        render(scenes[n], base, SIZE, 1, View(), stopwatch)
        return stopwatch.wall["sampling"]

    found = alternate({"large": lambda: seconds(708), "small": lambda: seconds(71)})
    show(
        "a million triangles over ten thousand, sampling time",
        ratio(found, "large", "small"),
        "at most 2.2",
    )


def _building() -> None:
    triangles = ring_mesh(500)

    def seconds(threads: int) -> float:
        started = time.perf_counter()
        build_tree(triangles, threads=threads)
        return (time.perf_counter() - started) / len(triangles) * 1e6

    found = alternate({"one": lambda: seconds(1), "all": lambda: seconds(os.cpu_count() or 1)})
    one = found["one"]
    show(
        "building, seconds per million triangles, one thread",
        (float(np.median(one)), min(one), max(one)),
        "at most 1.5",
    )
    show("building on all threads over one, speed", ratio(found, "one", "all"), "scaling")


def _first_picture(built, base: Configuration, cold: float) -> None:  # type: ignore[no-untyped-def]
    changed = base.replace({"bounces.total": 6, "samples.max": 16})
    times = []

    for _ in range(6):
        stopwatch = Stopwatch()
        render(built, changed, (640, 360), 1, View(), stopwatch)
        times.append(stopwatch.wall["first_picture"])

    show(
        "first picture of a kept scene at 640x360, seconds",
        (float(np.median(times[1:])), min(times[1:]), max(times[1:])),
        "under 0.3",
    )
    print(f"  (building the demo scene took {cold:.2f} s)")
