"""A study as a page for others: what was found, pictures, curves, every trial, and the method, so
that they can check it.

`gather` collects it as plain words, rows and pictures; `report_html` and `report_pdf` lay it out.
"""

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PIL import Image

from swift_sample import __version__
from swift_sample.core.errors import StudyError, UnfitPictureError
from swift_sample.core.machine import Machine
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.colour import LEVELS
from swift_sample.core.picture.stored import read_stored
from swift_sample.core.report.charts import map_chart, phases_chart, settings_chart
from swift_sample.core.study.answers.acceptance import quantity, show_limit, small_picture_words
from swift_sample.core.study.answers.findings import find
from swift_sample.core.study.answers.holding import sentences as sentences_of
from swift_sample.core.study.answers.interactions import interactions
from swift_sample.core.study.answers.kinds import kinds_of, shared_sentences, side_by_side
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.pick_report import (
    pick_sentences,
    show_factor,
    show_seconds,
    show_with_half,
)
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.measuring.snapshot import Snapshot, counted
from swift_sample.core.study.plan.model import WatchArea

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Chart

WIDEST_PIXELS = 960
"""Pictures are shown at most this wide; crops of watch areas are enlarged in whole steps up to
CROP_PIXELS."""
CROP_PIXELS = 300
MANY = 100
"""From here on figures are told without decimals."""
GAIN = 8
"""What the difference between pick and reference is multiplied by."""


@dataclass(frozen=True)
class Table:
    """Rows of words under headings."""

    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Shot:
    """A picture as PNG, with its caption."""

    caption: str
    png: bytes


@dataclass(frozen=True, kw_only=True)
class Report:
    """Everything that stands in a report, in its order."""

    title: str
    subtitle: str
    headline: str
    details: tuple[str, ...]
    pictures: tuple[Shot, ...]
    areas: tuple[tuple[str, tuple[Shot, ...]], ...]
    map: "Chart | None"
    limits: Table
    changes: Table
    phases: "Chart | None"
    settings: "Chart | None"
    findings: tuple[str, ...]
    trials: Table
    machines: Table
    """the answer on each kind of machine; no rows where there is one"""
    shared: tuple[str, ...]
    """what holds on all of them"""
    method: tuple[str, ...]


def gather(snapshot: Snapshot, machine: Machine) -> Report:
    """Collect a study's report. Raises StudyError where the base was not measured yet."""
    results = snapshot.results
    study = snapshot.study
    base = results.base
    pick = results.pick()

    if base is None or not base.is_on_map:
        raise StudyError(f"{study.name}: there is nothing to report yet; measure the study first")

    sentences = (
        [line.strip() for line in pick_sentences(results, pick, snapshot.without_changes)]
        if pick is not None
        else ["No configuration that keeps every limit was found."]
    )
    compared = [("base", base)] + (
        [("pick", pick.trial)] if pick is not None and not pick.trial.is_base else []
    )
    trails = _trails(results)
    pictures = _Pictures(snapshot)
    shots = _shots(snapshot, pictures, compared)
    areas = _areas(snapshot, pictures, compared)
    elsewhere = (sentences_of(answer, study.base)[0] for answer in snapshot.held)
    said = (*snapshot.search_words, *elsewhere, *snapshot.remarks, *small_picture_words(study))
    remarks = (f"{text[0].upper()}{text[1:]}." for text in said)
    kinds = kinds_of(snapshot.state)
    several = len(kinds) > 1 or any(kind.paces for kind in kinds)
    heads, rows = side_by_side(kinds) if several else ((), [])
    made = max((run.finished_at for run in snapshot.runs), default="")[:10]

    return Report(
        title=study.name,
        subtitle=(
            f"{study.size[0]} × {study.size[1]} pixels, measured until {made} with Swift Sample "
            f"{__version__}"
        ),
        headline=sentences[0],
        details=(
            *([snapshot.untouched_words] if snapshot.untouched_words else []),
            *sentences[1:],
            *remarks,
            *pictures.left_out,
        ),
        pictures=shots,
        areas=areas,
        map=map_chart(results),
        limits=_limits(results, base, pick),
        changes=_changes(results, pick),
        phases=phases_chart(compared),
        settings=settings_chart(results, trails) if trails else None,
        findings=tuple(
            finding.text for finding in find(results, base, snapshot.record, snapshot.renderer)
        ),
        trials=_trials(results, pick),
        machines=Table(*((heads, tuple(rows)) if several else ((), ()))),
        shared=tuple(shared_sentences(kinds)) if several else (),
        method=_method(snapshot, machine),
    )


def _failed_words(results: Results, failed: int) -> str:
    """How many renders failed, of which trials, and why; "" where none did."""
    if not failed:
        return ""

    told = [
        f"{len(trial.failed)} of {trial.called(results.study.base)} ({trial.failed[-1]})"
        for trial in results.trials
        if trial.failed
    ]
    verb = "is" if failed == 1 else "are"
    reasons = "; ".join(told) or "the machine was at fault"

    return f" {counted(failed, 'render')} failed and {verb} left out: {reasons}."


def _limits(results: Results, base: TrialResult, pick: Pick | None) -> Table:
    rows = []
    for key in results.wanted:
        trials = [base, *([pick.trial] if pick is not None else [])]
        cells = [_error(key, trial, results) for trial in trials]
        rows.append((quantity(key).label, *cells))

    return Table(("", "base", *(["pick"] if pick is not None else [])), tuple(rows))


def _error(key: str, trial: TrialResult, results: Results) -> str:
    figure = trial.figures.get(key)
    return (
        show_error(key, trial, results) + _interval(figure) if figure is not None else "not known"
    )


def _interval(figure: Figure) -> str:
    low, high = (
        f"{end:.0f}" if abs(end) >= MANY else f"{end:.3g}" for end in (figure.low, figure.high)
    )
    return f" ({low} to {high})"


def _changes(results: Results, pick: Pick | None) -> Table:
    base = results.study.base
    changed = pick.trial.configuration.differences(base) if pick is not None else {}

    rows = tuple(
        (declared.group, declared.label, declared.show(base[key]), declared.show(changed[key]))
        for key, declared in results.study.catalogue.items()
        if key in changed
    )
    return Table(("", "setting", "base", "pick"), rows)


def _trails(results: Results) -> list[tuple[str, list[TrialResult]]]:
    """Every setting of which several values were measured by themselves, with its trials in the
    order of values."""
    base = results.study.base
    trails = []

    for key in results.study.catalogue:
        trials = [
            trial
            for trial in results.trials
            if trial.is_on_map
            and (trial.is_base or list(trial.configuration.differences(base)) == [key])
        ]
        if len(trials) > 1:
            if results.study.catalogue[key].kind in ("whole", "number"):
                trials.sort(key=lambda trial: float(trial.configuration[key]))
            trails.append((key, trials))

    return trails


def _trials(results: Results, pick: Pick | None) -> Table:
    keys = [key for key in results.wanted if "@" not in key]
    rows = []

    for trial in sorted((t for t in results.trials if t.seconds is not None), key=_seconds):
        assert trial.seconds is not None
        figures = [trial.figures.get(key) for key in keys]
        chosen = pick is not None and trial.id == pick.trial.id

        rows.append(
            (
                "base"
                if trial.is_base
                else trial.configuration.describe(results.study.base, most=8),
                show_with_half(trial.seconds),
                "" if trial.is_base else _factor(trial),
                *(
                    show_limit(key, figure, results.wanted[key], short=True).split(" of ")[0]
                    if figure is not None
                    else "–"
                    for key, figure in zip(keys, figures, strict=True)
                ),
                "pick" if chosen else trial.verdict,
                str(len(trial.runs)),
            )
        )

    return Table(
        (
            "configuration",
            "time",
            "against the base",
            *(quantity(key).label for key in keys),
            "verdict",
            "runs",
        ),
        tuple(rows),
    )


def _factor(trial: TrialResult) -> str:
    return show_factor(trial.times_faster).replace(" from base", "").replace(" than base", "")


def _seconds(trial: TrialResult) -> float:
    assert trial.seconds is not None
    return trial.seconds.value


class _Pictures:
    """Pictures of a study in display levels, each read once. One that cannot be used is left out
    and told: the rest of the report is still worth having."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._snapshot = snapshot
        self._levels: dict[Path, np.ndarray | None] = {}
        self.left_out: list[str] = []

    def of(self, trial: TrialResult) -> np.ndarray | None:
        return self._of(self._snapshot.picture_of(trial.id))

    @property
    def reference(self) -> np.ndarray | None:
        return (
            self._of(self._snapshot.reference_path)
            if self._snapshot.reference is not None
            else None
        )

    def _of(self, path: Path | None) -> np.ndarray | None:
        if path is None:
            return None

        if path not in self._levels:
            self._levels[path] = None
            try:
                picture = read_stored(path, self._snapshot.digest_of(path.name))
                self._levels[path] = self._snapshot.study.view.levels(picture.beauty)
            except UnfitPictureError as error:
                self.left_out.append(
                    f"A picture is left out: {path.name} {error.fault}; measuring again "
                    "renders it anew."
                )

        return self._levels[path]


def _shots(
    snapshot: Snapshot, pictures: _Pictures, compared: Sequence[tuple[str, TrialResult]]
) -> tuple[Shot, ...]:
    shots = []
    for name, trial in compared:
        levels = pictures.of(trial)
        if levels is not None and trial.seconds is not None:
            shots.append(Shot(f"{name}, {show_seconds(trial.seconds.value)}", _png(levels)))

    reference = pictures.reference
    if reference is not None and snapshot.reference is not None:
        shots.append(Shot(f"reference, {snapshot.reference.samples} samples", _png(reference)))
        last = pictures.of(compared[-1][1])

        if last is not None and last.shape == reference.shape:
            shots.append(
                Shot(
                    f"{compared[-1][0]} less reference, {GAIN} times, around grey",
                    _png((last - reference) * GAIN + LEVELS / 2),
                )
            )

    return tuple(shots)


def _areas(
    snapshot: Snapshot, pictures: _Pictures, compared: Sequence[tuple[str, TrialResult]]
) -> tuple[tuple[str, tuple[Shot, ...]], ...]:
    """Every watch area of the compared trials and the reference, side by side."""
    sources = [
        *((name, pictures.of(trial)) for name, trial in compared),
        ("reference", pictures.reference),
    ]
    return tuple(
        (
            area.name,
            tuple(
                Shot(name, _png(_crop(levels, area, snapshot.study.size), CROP_PIXELS))
                for name, levels in sources
                if levels is not None
            ),
        )
        for area in snapshot.study.areas
    )


def _crop(levels: np.ndarray, area: WatchArea, size: tuple[int, int]) -> np.ndarray:
    across = levels.shape[1] / size[0]
    down = levels.shape[0] / size[1]
    left = int(area.x * across)
    top = int(area.y * down)

    return levels[
        top : top + max(1, round(area.height * down)),
        left : left + max(1, round(area.width * across)),
    ]


def _png(levels: np.ndarray, enlarge_to: int = 0) -> bytes:
    """Display levels as PNG: reduced where wider than WIDEST_PIXELS, enlarged in whole steps up to
    `enlarge_to` pixels."""
    image = Image.fromarray(np.clip(levels + 0.5, 0, LEVELS).astype(np.uint8))
    if image.width > WIDEST_PIXELS:
        height = max(1, round(image.height * WIDEST_PIXELS / image.width))
        image = image.resize((WIDEST_PIXELS, height), Image.Resampling.LANCZOS)

    steps = enlarge_to // max(image.size)
    if steps > 1:
        image = image.resize((image.width * steps, image.height * steps), Image.Resampling.NEAREST)

    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def _method(snapshot: Snapshot, machine: Machine) -> tuple[str, ...]:
    study = snapshot.study
    results = snapshot.results
    reference = snapshot.reference
    runs = [run for run in snapshot.runs if run.result is not None]
    controls = sum(run.control for run in runs)
    correction = results.correction
    failed = len(snapshot.runs) - len(runs)

    drift = (
        f"The machine's speed drifted by up to {correction.largest_drift:.0%}; neighbouring runs "
        "tell how much at each run, and it is taken out."
        if correction.drift
        else "No drift of the machine's speed could be told from chance."
    )
    seeds = " with different seeds" if study.catalogue.capabilities.seeds else ""

    said = [
        f"Scene {Path(study.scene).name}, frame {study.frame}, scene {runs[0].place.scene}, "
        f"renderer {runs[0].place.renderer}; view: exposure "
        f"{study.view.exposure:g} stops, {study.view.curve} curve.",
        f"{machine.processor}, {machine.cores} cores, {machine.threads} threads, "
        f"{machine.memory_bytes / 2**30:.0f} GiB, "
        f"{machine.system}; {' and '.join(snapshot.software) or machine.versions}; machine "
        f"{snapshot.state.machine}.",
        f"{len(runs)} renders of {len(results.trials)} configurations, one at a time, in shuffled "
        f"blocks{seeds}, "
        f"by a process that had compiled and warmed up; {controls} of them are repeats of the "
        "base, spread over the "
        "blocks as controls." + _failed_words(results, failed),
        drift
        + (
            f" {len(correction.left_out)} odd runs were left out and repeated."
            if correction.left_out
            else ""
        ),
        "Times are medians. Intervals hold the truth with 95 %; where the interval of a factor "
        "contains 1 there is no measurable difference.",
    ]
    if reference is not None:
        words = ", ".join(
            f"{study.catalogue[key].label.lower()} {study.catalogue[key].show(value)}"
            for key, value in study.reference_opens().items()
        )
        own = (
            f", whose own grain of {reference.floor:.2f} levels is taken out"
            if reference.floor is not None
            else "; how much grain it has itself is not known"
        )

        said.append(
            f"Errors are measured against a reference of {reference.samples} samples{own}"
            + (f"; unlike the base it has {words}." if words else ".")
        )
    if snapshot.state.are_disproved:
        said.append(f"{snapshot.proof_words}.")
    elif snapshot.proof_words:
        said.append(
            "Figures are measured of pictures that were derived from recorded samples of the "
            f"reference, each against the rest of it; {snapshot.proof_words}."
        )

    return (
        *said,
        "Errors are in display levels, 0 to 255, under the view. Grain: what differs between "
        "renders with other seeds. "
        "Light shift: what is brighter or darker over wide areas. Detail kept: fine structure of "
        "the reference that is still "
        "there. Stray pixels: single pixels that stand out where the reference's do not.",
        *(found.words for found in interactions(results)),
        (
            "To check it: swift-sample run repeats the study, swift-sample export gives every run "
            "as open data."
        ),
    )
