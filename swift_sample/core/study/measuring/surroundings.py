"""Looks at what a study depends on outside itself: the scene on disk, the renderer, this
machine."""

from pathlib import Path

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.machine import Machine, this_machine
from swift_sample.core.renderers.port import Renderer, SceneContent
from swift_sample.core.study.log.events import (
    Event,
    Happened,
    Named,
    ReferenceLost,
    Said,
    Surroundings,
)
from swift_sample.core.study.log.identity import (
    Identity,
    machine_identity,
    renderer_identity,
    scene_identity,
)
from swift_sample.core.study.log.state import StudyState, apply, kind_of
from swift_sample.core.study.log.store import Reading
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import (
    DeriveStep,
    MeasureStep,
    RecordStep,
    ReferenceStep,
    RunStep,
    Step,
)
from swift_sample.core.study.plan.model import Study

ANY_MACHINE = "elsewhere"
"""Where renders that are finished were timed: their times are what was told, wherever they are
looked at."""


def look_around(plan: Study, machine: Machine, renderer: Renderer) -> Surroundings:
    """The scene as it is on disk now, or why it cannot be read; this renderer, unless it must not
    be asked; the machine. Files are read again only where they changed."""
    content = None
    problem = ""
    version = ""
    own = machine_identity(machine).name if renderer.capabilities.starts else ANY_MACHINE

    try:
        version = renderer.version
        content = renderer.scene_content(plan.scene, plan.staging)
    except SwiftSampleError as error:
        problem = one_line(error)
    except OSError as error:
        problem = f"{plan.scene}: cannot be read ({one_line(error)})"

    return Surroundings(
        content, problem, renderer_identity(renderer.name, version).name, own, machine.versions
    )


def read_snapshot(reading: Reading, machine: Machine | None = None) -> Snapshot:
    """What a study that is only looked at shows, on this machine and with the scene as it is
    now."""
    seen = look_around(reading.state.plan, machine or this_machine(), reading.renderer)
    state = apply(reading.state, Happened(0, "", seen))
    return Snapshot(
        state, reading.folder, reading.renderer, reading.record, reading.record.values_of
    )


def unknown_names(
    state: StudyState, step: RunStep, renderer: Renderer, machine: Identity
) -> list[Event]:
    """Records behind the names that a run is kept under, as far as the log does not have them yet.
    The run may be of another size or frame than the plan's."""
    content = state.surroundings.content
    place = step.place
    events: list[Event] = []

    if place.scene not in state.names and content is not None:
        identity = scene_identity(content, step.spec.size, step.spec.frame)
        if identity.name == place.scene:
            events.append(
                Named("scene", identity.name, dict(identity.record), Path(state.plan.scene).name)
            )

    for kind, identity in (
        ("renderer", renderer_identity(renderer.name, renderer.version)),
        ("machine", machine),
    ):
        if identity.name not in state.names and identity.name in (
            place.renderer,
            kind_of(step.machine),
        ):
            events.append(Named(kind, identity.name, dict(identity.record)))

    return events


def scene_changed(step: Step, before: SceneContent | None, renderer: Renderer) -> list[Event]:
    """What to do where the scene is not what it was `before` a step began: its outcome is
    nobody's."""
    if isinstance(step, MeasureStep | DeriveStep):
        return []

    try:
        spec = step.wanted.spec if isinstance(step, RecordStep) else step.spec
        content = renderer.scene_content(spec.scene, spec.staging)
    except (SwiftSampleError, OSError):
        return []

    if content == before:
        return []

    words = "the scene changed while it was rendered"
    events: list[Event] = [Said("scene changed", words)]
    if isinstance(step, ReferenceStep):
        events.append(ReferenceLost(step.reference, words))

    return events
