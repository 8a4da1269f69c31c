"""The whole renderer on the demo scene: threads, recording, traversal's share, and building."""

import time

import numpy as np
from numba import int64

from benchmarks.alternate import alternate, ratio, show
from benchmarks.traversal import ring_mesh
from swift_sample.core.compiling import kernel
from swift_sample.core.render.compiled import compile_camera
from swift_sample.core.render.path import camera_ray
from swift_sample.core.render.render import Stopwatch, build_scene, render
from swift_sample.core.render.sampler import pixel_seed, sample_pair
from swift_sample.core.render.traverse import any_hit, closest_hit, new_traversal_scratch
from swift_sample.core.render.tree import build_tree
from swift_sample.core.render.vector import HUGE, along, f32, frame, to_world
from swift_sample.core.scene.honey_stall import honey_stall
from swift_sample.core.settings import Configuration
from swift_sample.core.view import View

SIZE, SAMPLES = (320, 180), 8


@kernel
def trace_only(tree, lens, scratch, width, height, samples):
    """Camera rays, and from each hit one ray to anything and one shadow ray: the demo's mix without shading."""
    rays = int64(0)
    for y in range(height):
        for x in range(width):
            seed = pixel_seed(x, y, 1)
            for k in range(samples):
                u, v = sample_pair(seed, k, 0, 0)
                origin, direction = camera_ray(lens, width, height, x, y, u, v)
                distance, slot = closest_hit(tree, origin, direction, HUGE, scratch)
                rays += 1
                if slot < 0:
                    continue
                point = along(origin, direction, distance - f32(1e-4))
                u, v = sample_pair(seed, k, 1, 0)
                tangent, bitangent = frame((-direction[0], -direction[1], -direction[2]))
                z = f32(1) - f32(2) * u
                flat = np.sqrt(max(f32(0), f32(1) - z * z))
                turn = f32(6.2831853) * v
                outward = to_world((flat * np.cos(turn), flat * np.sin(turn), abs(z)), tangent, bitangent,
                                   (-direction[0], -direction[1], -direction[2]))
                closest_hit(tree, point, outward, HUGE, scratch)
                any_hit(tree, point, outward, HUGE, scratch)
                rays += 2
    return rays


def main() -> None:
    """Print the table."""
    built = build_scene(honey_stall(), Stopwatch())
    base = Configuration({"samples.max": SAMPLES, "bounces.total": 12})
    lens, scratch = compile_camera(built.scene.camera, *SIZE), new_traversal_scratch()

    def sampling(threads: int, record: bool) -> tuple[float, int]:
        """Seconds of the sampling, and rays cast."""
        stopwatch = Stopwatch()
        _, found = render(built, base.replace({"device.threads": threads}), SIZE, 1, View(), stopwatch, record=record)
        return stopwatch.wall["sampling"], sum(r["path"] + r["shadow"] for r in found.rays_by_bounce)

    def rate(threads: int) -> float:
        seconds, rays = sampling(threads, True)
        return rays / seconds

    def traversal_rate() -> float:
        started = time.perf_counter()
        return trace_only(built.compiled.tree, lens, scratch, *SIZE, SAMPLES) / (time.perf_counter() - started)

    trace_only(built.compiled.tree, lens, scratch, 8, 8, 1)
    found = alternate({"one thread": lambda: rate(1), "two threads": lambda: rate(2),
                       "traversal": traversal_rate})
    print("  " + ", ".join(f"{name} {np.median(rates) / 1e6:.2f} million rays/s" for name, rates in found.items()))
    show("whole renderer over traversal alone, rays per second", ratio(found, "one thread", "traversal"), "at least 0.5")
    show("two threads over one", ratio(found, "two threads", "one thread"), "at least 1.85 on two free cores")
    times = alternate({"on": lambda: sampling(1, True)[0], "off": lambda: sampling(1, False)[0]})
    show("recording on over off, time", ratio(times, "on", "off"), "at most 1.03")
    triangles = ring_mesh(500)
    started = [time.perf_counter()]
    for _ in range(5):
        build_tree(triangles)
        started.append(time.perf_counter())
    per_million = np.diff(started) / len(triangles) * 1e6
    show("building, seconds per million triangles, one thread",
         (float(np.median(per_million)), float(per_million.min()), float(per_million.max())), "at most 1.5")

