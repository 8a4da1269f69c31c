"""How a recording is made: one render that keeps apart what settings would leave out."""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.film.film import finish_film
from swift_sample.core.renderers.builtin.film.recording import RecordedSums, RecordingPlan
from swift_sample.core.renderers.builtin.film.recording_file import RecordingWriter
from swift_sample.core.renderers.builtin.rendering.building import BuiltScene
from swift_sample.core.renderers.builtin.rendering.sampling import Progress, Sampling, picture_size
from swift_sample.core.settings import Configuration


def record(
    built: BuiltScene,
    configuration: Configuration,
    size: tuple[int, int],
    seed: int,
    view: View,
    *,
    plan: RecordingPlan,
    path: Path,
    facts: Mapping[str, Any],
    progress: Progress | None = None,
    on_start: Callable[[Sampling], None] | None = None,
) -> Picture:
    """Take the samples of a recording into the file `path`, and return the recording's own picture,
    which is that of a plain render of `configuration`, bit for bit.

    `configuration` opens what is derived: no threshold, no clamps, the most bounces and samples.
    Its samples are not timed. Raises RenderStoppedError and OSError, and leaves no file then.
    """
    width, height = picture_size(size, float(configuration["output.scale"]))
    recorded = RecordedSums(plan, height, width)
    sampling = Sampling(
        built, configuration, size, seed, view, record=False, passes=False, recorded=recorded
    )
    if on_start is not None:
        on_start(sampling)

    with RecordingWriter.at(path, plan) as writer:

        def keep(count: int) -> None:
            writer.keep(count, recorded, sampling.film)

        sampling.record(plan.counts, keep, progress)
        writer.finish(sampling.film, dict(facts))

    return finish_film(sampling.film, 0.0, sampling.rounds.error)
