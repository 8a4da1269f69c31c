"""What is rendered for a run of a trial, and for a chunk of the reference."""

from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.identity import CHUNK_SAMPLES, FIRST_CHUNK_SAMPLES, seed_of_chunk
from swift_sample.core.study.plan.model import Study


def spec_of(
    plan: Study, configuration: Configuration, seed: int, frame: int | None = None
) -> RenderSpec:
    """What to render for a configuration of a plan."""
    return RenderSpec(
        scene=plan.scene,
        size=plan.size,
        settings=configuration.of_renderer(),
        changes=configuration.of_scene(),
        seed=seed,
        exposure=plan.view.exposure,
        curve=plan.view.curve,
        staging=plan.staging,
        frame=plan.frame if frame is None else frame,
    )


def chunk_spec(study: Study, chunk: int) -> tuple[RenderSpec, int]:
    """What chunk number `chunk` of a reference renders, and how many samples that is."""
    samples = FIRST_CHUNK_SAMPLES if chunk == 0 else CHUNK_SAMPLES
    configuration = study.reference_configuration(samples)

    return spec_of(study, configuration, seed_of_chunk(chunk)), samples
