"""Looks at what a study depends on outside itself: the scene on disk, the renderer, this machine."""

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.machine import Machine, this_machine
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.study.events import Happened, Surroundings
from swift_sample.core.study.identity import machine_identity, renderer_identity
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.core.study.state import apply
from swift_sample.core.study.store import Reading


def look_around(plan: Study, machine: Machine, renderer: Renderer) -> Surroundings:
    """The scene as it is on disk now, or why it cannot be read; this renderer; the machine. Files are read again only where
    they changed."""
    content, problem = None, ""
    try:
        content = renderer.scene_content(plan.scene, plan.environment)
    except SwiftSampleError as error:
        problem = one_line(error)
    except OSError as error:
        problem = f"{plan.scene}: cannot be read ({one_line(error)})"
    return Surroundings(
        content,
        problem,
        renderer_identity(renderer.name, renderer.version).name,
        machine_identity(machine).name,
        machine.versions,
    )


def read_snapshot(reading: Reading, machine: Machine | None = None) -> Snapshot:
    """What a study that is only looked at shows, on this machine and with the scene as it is now."""
    seen = look_around(reading.state.plan, machine or this_machine(), reading.renderer)
    return Snapshot(apply(reading.state, Happened(0, "", seen)), reading.folder, reading.renderer, reading.record)
