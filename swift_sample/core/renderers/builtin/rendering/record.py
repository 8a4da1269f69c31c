"""What explains a render: where its time and its grain came from."""

from typing import Any

import numpy as np

from swift_sample.core.renderers.builtin.film.film import film_memory_bytes, mean_light
from swift_sample.core.renderers.builtin.film.limits import (
    CLAMP_KEYS,
    by_threshold,
    grain_by_setting,
    light_clamped,
    shift_by_setting,
)
from swift_sample.core.renderers.builtin.lowlevel.records import RAY_KINDS
from swift_sample.core.renderers.builtin.rendering.building import BuiltScene, Stopwatch
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling
from swift_sample.core.renderers.builtin.tables.detail import texels_a_pixel
from swift_sample.core.renderers.builtin.tables.surfaces import SurfaceTable
from swift_sample.core.renderers.records import RenderRecord, Samples, TextureHeld
from swift_sample.core.scene.model import Scene, Texture
from swift_sample.core.settings import Configuration

MANY_PIXELS = 0.002
"""Share of the picture from which it is told how fine an object's triangles are in it."""
MOST_TEXTURES = 40
"""Whose size is recorded."""


def record_of(
    sampling: Sampling,
    built: BuiltScene,
    configuration: Configuration,
    stopwatch: Stopwatch,
    seconds_per_cycle: float,
) -> RenderRecord:
    film = sampling.film
    maximum = int(configuration["samples.max"])
    samples = film.samples
    compiled = built.compiled
    seconds = film.cycles * seconds_per_cycle
    by_bounce = [_by_kind(row, int) for row in sampling.rays_by_bounce()]
    by_kind = {kind: sum(kinds.get(kind, 0) for kinds in by_bounce) for kind in RAY_KINDS}

    return RenderRecord(
        samples=Samples(
            mean=float(samples.mean()),
            min=int(samples.min()),
            max=int(samples.max()),
            share_at_max=float((samples >= maximum).mean()),
            min_used=sampling.rounds.schedule.minimum,
        ),
        rays={"total": sum(by_kind.values()), **by_kind, "by_bounce": by_bounce},
        seconds_by_bounce=[
            _by_kind(row * seconds_per_cycle, float) for row in sampling.cycles_by_bounce()
        ],
        light_by_bounce=mean_light(film).tolist(),
        grain_by_samples=sampling.grain_by_samples(),
        seconds_by_material=_by_name(film.material, seconds, compiled.materials),
        seconds_by_object=_by_name(film.object, seconds, compiled.surfaces.objects),
        picture_by_material=_by_name(
            film.material, np.full(film.material.shape, 1 / film.material.size), compiled.materials
        ),
        triangles_a_pixel=_triangles_a_pixel(film.object, compiled.surfaces),
        texels_a_pixel=texels_a_pixel(built.scene, film.samples.shape[1], film.samples.shape[0]),
        numbers={
            "material": _numbers(compiled.materials),
            "object": _numbers(compiled.surfaces.objects),
        },
        textures=_textures_held(built.scene, configuration),
        texture_reads=sampling.texture_reads(),
        texture_misses=sampling.texture_misses(),
        memory_bytes={
            **built.memory_bytes,
            "textures": built.memory_bytes["textures"] + sampling.texture_memory_bytes(),
            "film": film_memory_bytes(film),
        },
        dropped_samples=sampling.dropped_samples(),
        **_limits_of(sampling, configuration),
        tail_seconds=sampling.idle_cycles * seconds_per_cycle,
        simulated=configuration.is_simulated,
        stopped=sampling.rounds.stopped,
        saved_seconds=stopwatch.wall["sampling"] * (maximum / sampling.rounds.done - 1)
        if sampling.rounds.stopped
        else 0.0,
    )


def _limits_of(sampling: Sampling, configuration: Configuration) -> dict[str, Any]:
    """What the render says of tighter limits, where it was recorded."""
    if not sampling.film.clamped.size:
        return {}

    direct, indirect = (float(configuration[key]) for key in CLAMP_KEYS)
    own = float(configuration["samples.noise_threshold"])
    maximum = int(configuration["samples.max"])
    most = sampling.rounds.done if sampling.rounds.stopped else maximum
    replayed = by_threshold(
        sampling.film, sampling.rounds.error, sampling.rounds.schedule.minimum, most, own
    )

    return {
        "light_clamped": light_clamped(sampling.film),
        "shift_by_setting": shift_by_setting(sampling.film, sampling.view, (direct, indirect)),
        "grain_by_setting": grain_by_setting(sampling.film, sampling.view, (direct, indirect)),
        "samples_by_setting": {"samples.noise_threshold": replayed} if replayed else {},
    }


def _by_kind(row: np.ndarray, number: type) -> dict[str, Any]:
    return {kind: number(value) for kind, value in zip(RAY_KINDS, row, strict=True) if value}


def _numbers(names: list[str]) -> dict[str, list[int]]:
    """Under which numbers the film's layers hold each name; several things may have one."""
    found: dict[str, list[int]] = {"background": [-1]}
    for number, name in enumerate(names):
        found.setdefault(name, []).append(number)

    return found


def _textures_held(scene: Scene, configuration: Configuration) -> list[TextureHeld]:
    """The largest textures with the materials that use them, as this configuration holds them."""
    most = int(configuration["textures.max_size"])
    used: dict[int, tuple[Texture, list[str]]] = {}

    for material in scene.materials:
        for use in material.textures.values():
            used.setdefault(id(use.texture), (use.texture, []))[1].append(material.name)

    held = []
    for texture, materials in used.values():
        width, height = texture.size
        while most and max(width, height) > most:
            width, height = max(1, width // 2), max(1, height // 2)

        levels = 1 if texture.nearest else 4 / 3
        names = list(dict.fromkeys(materials))

        held.append(
            TextureHeld(
                name=texture.name,
                width=width,
                height=height,
                bytes=int(4 * width * height * levels),
                materials=names,
            )
        )

    return sorted(held, key=lambda one: -one.bytes)[:MOST_TEXTURES]


def _triangles_a_pixel(shown: np.ndarray, surfaces: SurfaceTable) -> dict[str, float]:
    """Half of each object's triangles, for the others face away, over the pixels that show it
    first, where many do."""
    pixels = np.bincount(shown.ravel() + 1, minlength=len(surfaces.objects) + 1)[1:]
    triangles = np.bincount(surfaces.faces["object"], minlength=len(surfaces.objects))

    return {
        name: t / 2 / p
        for name, t, p in zip(surfaces.objects, triangles.tolist(), pixels.tolist(), strict=True)
        if p > MANY_PIXELS * shown.size
    }


def _by_name(places: np.ndarray, amounts: np.ndarray, names: list[str]) -> dict[str, float]:
    """What the pixels that show each thing first add up to, the most first; `background` where
    there is none."""
    sums = np.bincount(places.ravel() + 1, weights=amounts.ravel(), minlength=len(names) + 1)
    found: dict[str, float] = {}

    for name, value in zip(["background", *names], sums, strict=True):
        if value > 0:
            found[name] = found.get(name, 0.0) + float(value)

    return dict(sorted(found.items(), key=lambda item: -item[1]))
