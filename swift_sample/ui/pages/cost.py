"""Cost: where the time of one trial went. First the findings, each with what would test it; all figures one click further."""

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtWidgets import QButtonGroup, QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from swift_sample.app.pictures import PictureStore
from swift_sample.app.toning import BEAUTY, BY_KEY, Source
from swift_sample.core.renderers.costs import Bounce, Part, bounces_of, materials_of, memory_of, objects_of
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Capabilities
from swift_sample.core.study.costs import phases_of, typical_run
from swift_sample.core.study.findings import Finding, find, judged_words, score_words, trial_for
from swift_sample.core.study.pick_report import show_factor, show_seconds
from swift_sample.core.study.results import Results, TrialResult
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.ui.look.head import TrialHead
from swift_sample.ui.page import Page
from swift_sample.ui.theme import NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.bars import BarRow, BarTable, HeatScale, PhaseBar
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.picture_canvas import PictureCanvas, Shown
from swift_sample.ui.widgets.words import PlainLabel

NO_HEAT = "picture"
HEATS = ("time", "samples", "grain")
"""Maps that may lie over the picture."""


class CostPage(Page):
    """Where the time of one trial goes, the base's where none is chosen, and what is worth trying because of it."""

    name = "Cost"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._chosen: str | None = None
        self._full = False
        self._shown: object = None
        self._head = TrialHead(theme, with_reference=False)
        self._head.chosen.connect(self.show_trial)
        self._canvas, self._scale = PictureCanvas(theme), HeatScale(theme)
        self._heats = QButtonGroup(self)
        heat_row = Flow()
        heat_row.addWidget(quiet("Over the picture:", wrap=False))
        for name in (*HEATS, NO_HEAT):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setObjectName(name)
            button.clicked.connect(self.refresh)
            self._heats.addButton(button)
            heat_row.addWidget(button)
        self._heats.buttons()[0].setChecked(True)
        left = QVBoxLayout()
        left.addWidget(self._head)
        left.addLayout(heat_row)
        left.addWidget(self._canvas, 1)
        left.addWidget(self._scale)
        self._phases = PhaseBar(theme)
        self._title = PlainLabel()
        self._title.setFont(font(NORMAL, bold=True))
        self._more = QPushButton("All figures")
        self._more.clicked.connect(lambda: self.set_depth(not self._full))
        top = QHBoxLayout()
        top.addWidget(self._title)
        top.addStretch(1)
        top.addWidget(self._more)
        self._page = QVBoxLayout()
        self._page.setSpacing(8)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 12, 0)
        column.addLayout(self._page)
        column.addStretch(1)
        right = QVBoxLayout()
        right.addLayout(top)
        right.addWidget(self._phases)
        right.addWidget(scrolled(inner), 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 8, 12, 8)
        row.setSpacing(20)
        row.addLayout(left, 1)
        row.addLayout(right, 1)
        pictures.arrived.connect(lambda _: self.refresh() if self.isVisible() else None)

    def start_anew(self) -> None:
        self._chosen, self._shown = None, None
        self._canvas.fit()

    def set_theme(self, theme: Theme) -> None:
        self._theme, self._shown = theme, None
        self._canvas.set_theme(theme)
        self.refresh()

    def show_trial(self, trial_id: str) -> None:
        """Show the cost of one trial."""
        self._chosen = trial_id
        self.refresh()

    def set_depth(self, full: bool) -> None:
        """Show all figures, or the findings."""
        self._full = full
        self._more.setText("Findings" if full else "All figures")
        self.refresh()

    def refresh(self) -> None:
        """Show the trial as it is known."""
        model = self.model
        results = model.results if model is not None else None
        if model is None or results is None or not self.isVisible():
            return
        trial = self._trial(results)
        run, snapshot = typical_run(trial) if trial is not None else None, model.snapshot
        record = snapshot.record(run.number) if run is not None and snapshot is not None else None
        if trial is None or record is None or snapshot is None:
            self._title.setText(
                "This page shows where the time goes, as soon as one trial is rendered. Press Measure to begin."
            )
            self._title.setWordWrap(True)
            for widget in (self._head, self._more, self._phases, self._scale):
                widget.hide()
            self._canvas.show_pictures([Shown("", None, "Nothing is rendered yet.")], wipe=False)
            return
        for widget in (self._head, self._more, self._phases):
            widget.show()
        self._head.show_choice(results, trial.id, self._theme)
        self._show_picture(results, snapshot.picture_of(trial.id), trial.id)
        state = (trial, self._full, self._theme.name, results.study.values_to_try(), model.activity.measuring)
        if state == self._shown:
            return
        self._shown = state
        phases = phases_of(trial)
        self._title.setText(f"{show_seconds(trial.phases['total'].value)} a render")
        self._phases.show_parts(phases, self._theme)
        self._clear()
        if self._full:
            self._show_figures(record, snapshot.renderer.capabilities)
        else:
            self._show_findings(results, trial, snapshot)

    def _trial(self, results: Results) -> TrialResult | None:
        chosen = results.by_id.get(self._chosen) if self._chosen is not None else None
        return next((trial for trial in (chosen, results.base) if trial is not None and trial.runs), None)

    def _show_picture(self, results: Results, path: Path | None, trial_id: str) -> None:
        checked = self._heats.checkedButton()
        heat = checked.objectName() if checked is not None and checked.objectName() != NO_HEAT else BEAUTY
        layers = self._pictures.get(path, heat) if path is not None else None
        source = Source(layers, results.study.view, heat) if layers is not None else None
        self._canvas.show_pictures([Shown(trial_id, source, "Loading …")], wipe=False)
        self._scale.setVisible(heat != BEAUTY and source is not None and not source.problem)
        if heat != BEAUTY and source is not None:
            self._scale.show_range(source.most, BY_KEY[heat].unit, self._theme)

    def _clear(self) -> None:
        while (item := self._page.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()

    def _show_findings(self, results: Results, trial: TrialResult, snapshot: Snapshot) -> None:
        findings = find(results, trial, snapshot.record, snapshot.renderer)
        for finding in findings:
            self._page.addWidget(self._finding_card(results, trial, finding))
        told = score_words(results, findings)
        if told:
            self._page.addWidget(quiet(told[0].upper() + told[1:] + "."))
        if not findings:
            self._page.addWidget(quiet("Nothing stands out in this render: its time goes where its light comes from."))

    def _finding_card(self, results: Results, trial: TrialResult, finding: Finding) -> QWidget:
        card = QFrame()
        card.setObjectName("card")
        words, answer = PlainLabel(finding.text), QHBoxLayout()
        words.setWordWrap(True)
        changed = results.study.base.replace(finding.changes).describe(results.study.base)
        tested = trial_for(results, finding)
        if not finding.changes:
            pass
        elif tested is not None:
            words_of_it = f"{changed}: {show_factor(tested.times_faster)}, {tested.verdict}; {judged_words(results, finding)}"
            answer.addWidget(quiet(words_of_it), 1)
        elif trial.is_base:
            tried = results.study.values_to_try()
            planned = all(value in tried.get(key, ()) for key, value in finding.changes.items())
            button = QPushButton(f"Try {changed}")
            button.setEnabled(not planned)
            button.setToolTip("It is in the plan and waits to be measured" if planned else "Adds this trial and measures it")
            button.clicked.connect(lambda: self.asked.emit(lambda session: session.try_changes(finding.changes)))
            answer.addWidget(button)
            answer.addStretch(1)
        column = QVBoxLayout(card)
        column.setContentsMargins(10, 8, 10, 8)
        column.addWidget(words)
        column.addLayout(answer)
        return card

    def _show_figures(self, result: RunRecord, can: Capabilities) -> None:
        bounces = bounces_of(result)
        if bounces:
            self._show_bounces(bounces[0], bounces[1:])
        by_time = ("By material seen first", materials_of(result)), ("By object seen first", objects_of(result))
        for title, parts in by_time:
            if parts:
                self._add_table(title, _seconds_rows(parts), ("sample",))
        memory = [BarRow(p.name, (p.share,), f"{p.amount / 2**20:.1f} MiB") for p in memory_of(result)]
        if memory:
            self._add_table("Memory", memory, ("build",))
        words = []
        if result.samples is not None:
            samples = result.samples
            words.append(
                f"Samples a pixel: {samples.mean:.1f} on average, {samples.min} to {samples.max}; "
                f"{samples.share_at_max:.0%} of the pixels take the most."
            )
        if bounces:
            words.append(f"{sum(b.rays for b in bounces) / 1e6:.1f} million rays.")
        if result.texture_reads is not None and result.texture_misses is not None:
            reads = f"{result.texture_reads:,} texture reads, {result.texture_misses:,} of them from disk."
            words.append(reads.replace(",", " "))
        waited = (
            ""
            if result.tail_seconds is None
            else (f"; the last tiles kept threads waiting for {show_seconds(result.tail_seconds)}")
        )
        words.append(f"Processor: {show_seconds(result.cpu_seconds)} of all threads together{waited}.")
        words.append(f"Peak memory {result.peak_memory_bytes / 2**20:.0f} MiB.")
        self._page.addWidget(quiet(" ".join(words)))
        absent = [can.why_not(name).removeprefix("this renderer ") for name in ("bounces", "materials", "memory", "samples")]
        if any(absent):
            self._page.addWidget(quiet(f"This renderer {', '.join(filter(None, absent))}."))
        grain = ", ".join(f"{grain:.1f} with {count}" for count, grain in sorted(result.grain_by_samples.items()))
        if grain:
            self._page.addWidget(quiet(f"Grain in levels before denoising, as samples came in: {grain}."))

    def _show_bounces(self, seen: Bounce, later: Sequence[Bounce]) -> None:
        rows = [
            BarRow(f"bounce {b.number}", (b.time_share, b.light_share), f"{b.time_share:.1%} time, {b.light_share:.2%} light")
            for b in later
        ]
        self._add_table("Bounces: time above light", rows, ("sample", "pick"))
        self._page.addWidget(
            quiet(
                f"What the camera sees itself, lit directly, takes {seen.time_share:.0%} of the time and "
                f"brings {seen.light_share:.0%} of the light."
            )
        )

    def _add_table(self, title: str, rows: list[BarRow], roles: tuple[str, ...]) -> None:
        heading = PlainLabel(title)
        heading.setFont(font(SMALL, bold=True))
        self._page.addWidget(heading)
        table = BarTable(self._theme, roles)
        table.show_rows(rows, self._theme)
        self._page.addWidget(table)


def _seconds_rows(parts: list[Part]) -> list[BarRow]:
    return [BarRow(part.name, (part.share,), f"{show_seconds(part.amount)}, {part.share:.0%}") for part in parts]
