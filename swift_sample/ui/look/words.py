"""What Look says of its pictures: figures beside their limits, values under the pointer, what the
reference opens."""

from collections.abc import Mapping, Sequence
from html import escape

import numpy as np

from swift_sample.app.foreign import Foreign
from swift_sample.app.toning import Source
from swift_sample.app.view_model import ViewModel
from swift_sample.core.measure.kinds import WORST_MARK, Figure
from swift_sample.core.study.answers.acceptance import quantity, show_limit
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan.model import AREA_MARK, Study
from swift_sample.ui.look.head import REFERENCE
from swift_sample.ui.theme import Theme


def reference_words(study: Study) -> str:
    """What the reference opens, what it keeps of the base, and where that is changed."""
    opened = (
        ", ".join(
            f"{study.catalogue[key].label.lower()} {study.catalogue[key].show(value)}"
            for key, value in study.reference_opens().items()
        )
        or "nothing that the base limits"
    )
    kept = (
        ", ".join(study.catalogue[key].label.lower() for key in study.reference_keeps)
        or "every other choice"
    )
    return f"Opens: {opened}\nKeeps from the base: {kept}\nChange it on the Plan page"


def worst_place(results: Results, shown: Sequence[str]) -> tuple[int, int, int, int] | None:
    """Where the trial that is shown last comes closest to a limit of its worst place, or is
    furthest over it."""
    trials = [
        trial for name in shown if (trial := results.by_id.get(name)) is not None and trial.shares
    ]
    if not trials:
        return None

    keys = [key for key in trials[-1].shares if key.endswith(WORST_MARK)]
    if not keys:
        return None

    figure = trials[-1].figures[max(keys, key=lambda key: trials[-1].shares[key].value)]
    return figure.place if figure is not None else None


def figures_line(
    results: Results,
    trial: TrialResult | None,
    trial_id: str,
    floor: float | None,
    area: str,
    theme: Theme,
    most: int | None = None,
) -> str:
    """A trial's figures beside their limits, of the whole picture or of a watch area; `most` are
    those closest to them."""
    if trial_id == REFERENCE:
        return "what errors are measured against" + (
            f"; its own grain is {floor:.2f} levels" if floor is not None else ""
        )
    if trial is None or not trial.shares:
        return "not measured yet"

    told = {
        key: show_error(key, trial, results, short=True)
        for key in trial.shares
        if trial.figures[key] is not None
    }
    if most is not None:
        here = [key for key in told if key.partition(AREA_MARK)[2] == area]
        closest = sorted(here, key=lambda key: -trial.shares[key].value)[:most]
        told = {key: told[key] for key in told if key in closest}

    words = _told({key: trial.shares[key].value for key in told}, told, results.line, area, theme)
    if area and not words:
        return f"{escape(area)}: being measured from the stored pictures …"

    return (f"<b>{escape(area)}:</b>&nbsp;&nbsp; " if area else "") + words


def foreign_line(foreign: Foreign, results: Results, theme: Theme) -> str:
    """The figures of a picture from elsewhere beside the study's limits."""
    if foreign.problem:
        return escape(foreign.problem)
    if not foreign.is_measured:
        return "being measured …"

    return measured_line(foreign.figures, results, theme) or "nothing of it has a limit"


def measured_line(figures: Mapping[str, Figure | None], results: Results, theme: Theme) -> str:
    """Figures that belong to no trial beside the study's limits."""
    shares = results.acceptance.shares(figures)
    told = {
        key: show_limit(key, figure, results.wanted[key], short=True)
        for key in shares
        if (figure := figures.get(key)) is not None
    }

    return _told({key: shares[key].value for key in told}, told, results.line, "", theme)


def _told(
    shares: Mapping[str, float], told: Mapping[str, str], line: float, area: str, theme: Theme
) -> str:
    parts = []
    for key, words in told.items():
        measure, _, place = key.partition(AREA_MARK)
        if place == area:
            name = quantity(measure).short.removesuffix(" kept").removesuffix(" pixels")
            text = escape(f"{name} {words}").replace(" ", "&nbsp;")
            parts.append(
                f"<b style='color:{theme.over}'>{text}</b>" if shares[key] > line else text
            )

    return "&nbsp;&nbsp; ".join(parts)


def value_words(source: Source, x: int, y: int) -> str:
    """What a picture holds at a pixel: linear light, display levels, samples and time as far as
    they were kept."""
    width, height = source.size
    x, y = min(max(0, x), width - 1), min(max(0, y), height - 1)
    light = source.light(x, y, 1, 1)[0, 0]
    levels = source.view.levels(light)
    told = (
        f"{' '.join(f'{v:.3g}' for v in light)} linear, {' '.join(f'{v:.0f}' for v in levels)} "
        "levels"
    )

    for layer, factor, unit in (
        ("samples", 1.0, "samples"),
        ("seconds", 1000.0, "ms"),
        ("error", 255.0, "levels of grain"),
    ):
        pyramid = source.layers.of(layer)
        if pyramid is not None and pyramid.levels[0].ndim == 2:
            value = float(pyramid.levels[0][y, x]) * factor
            told += f", {value:.3g} {unit}" if np.isfinite(value) else ""

    return told


def any_settings_words(model: ViewModel, results: Results) -> tuple[str, ...]:
    """What the knobs' settings would take, the longest form first."""
    settings = model.any_settings
    field = model.field_shown
    if settings is None or field is None:
        return ("",)

    configuration = settings.configuration.effective()
    seconds = field.foresee(configuration)
    if seconds is None:
        return ("no recording holds these values: time them",)

    about = f"about {show_seconds(seconds.value)}"
    between = f"{about} ({seconds.low:.2g} to {show_seconds(seconds.high)})"
    base = results.base.seconds if results.base is not None else None
    if base is None:
        return f"{between}, foreseen", about

    times = base.value / seconds.value
    beside = f"{times:.1f}× faster than base" if times >= 1 else f"{1 / times:.1f}× slower"
    return f"{between}, {beside}, foreseen", f"{about}, {beside}, foreseen", f"{about}, foreseen"


def any_settings_line(model: ViewModel, results: Results, theme: Theme) -> str:
    """The figures of what the knobs are set to, and that its picture is the true one."""
    settings = model.any_settings
    field = model.field_shown
    if settings is None or field is None:
        return ""

    if settings.words:
        return escape(settings.words)

    point = field.known.get(settings.configuration.effective())
    if point is None:
        return "its figures are being derived …" if model.activity.measuring else "not derived yet"

    told = measured_line(point.figures, results, theme)
    proof = model.snapshot.proof_words if model.snapshot is not None else ""
    true = "pixel for pixel what a render gives" + (f" ({proof})" if proof else "")
    return f"{told}<br><span style='color:{theme.quiet}'>{escape(true)}</span>"
