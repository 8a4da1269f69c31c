"""Figures of derived pictures, as trials and the field show them."""

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.study.log.events import Derived
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.plan.model import AREA_MARK


def derived_figures(state: StudyState, derived: Derived) -> dict[str, Figure | None]:
    """By measure, those of watch areas as measure, mark and name."""
    found = {}
    for area in state.areas_measured:
        tail = "" if area is None else f"{AREA_MARK}{area.name}"
        key = state.measurement_key(derived.appearance, area)
        for kind, figure in derived.figures(key.area).items():
            found[kind + tail] = figure

    return found
