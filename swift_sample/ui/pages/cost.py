"""Cost: where the time of one trial went, beside another's where one is chosen. First the findings,
each with what would test it; all figures one click further."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.pictures import PictureStore
from swift_sample.app.toning import BEAUTY, BY_KEY, Lit, Source
from swift_sample.core.renderers.costs import (
    Bounce,
    Part,
    bounces_of,
    materials_of,
    memory_of,
    objects_of,
)
from swift_sample.core.renderers.port import Finding
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Capabilities
from swift_sample.core.study.answers.costs import phases_of, typical_run
from swift_sample.core.study.answers.findings import find, judged_words, score_words
from swift_sample.core.study.answers.pick_report import cache_words, show_factor, show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.ui.look.head import TrialHead
from swift_sample.ui.page import Page
from swift_sample.ui.pages.cost_materials import FeatureList
from swift_sample.ui.theme import NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.bars import BarRow, BarTable, HeatScale, Histogram, PhaseBar
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.picture_canvas import PictureCanvas, Shown
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

NO_HEAT = "picture"
NOBODY = ""
"""In the place of a second trial's name."""
MOST_TEXTURES_SHOWN = 12
RAY_WORDS = {
    "camera": "from the camera",
    "diffuse": "off diffuse surfaces",
    "glossy": "off glossy surfaces",
    "transmission": "through surfaces",
    "volume": "scattered in haze",
    "shadow": "towards lights",
}
HEATS = ("time", "samples", "grain")
"""Maps that may lie over the picture."""


class CostPage(Page):
    """Where the time of one trial goes, the base's where none is chosen, and what is worth trying
    because of it."""

    name = "Cost"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._chosen: str | None = None
        self._other: str = NOBODY
        self._lit: Lit | None = None
        self._numbers: Mapping[str, Mapping[str, list[int]]] = {}
        self._full = self._materials = self._every_group = False
        self._shown: object = None
        self._head = TrialHead(theme, with_reference=False)
        self._head.chosen.connect(self.show_trial)
        self._canvas = PictureCanvas(theme)
        self._scale = HeatScale(theme)
        self._heats = QButtonGroup(self)
        heat_row = Flow()
        self._over = quiet("Over the picture:", wrap=False)
        heat_row.addWidget(self._over)

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
        self._beside = QComboBox()
        self._beside.setFont(font(SMALL))
        self._beside.setAccessibleName("Trial beside it, for comparison")
        self._beside.setSizeAdjustPolicy(
            QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
        )
        self._beside.activated.connect(lambda _: self.show_beside(str(self._beside.currentData())))
        left.addWidget(self._head)
        left.addWidget(self._beside)
        left.addLayout(heat_row)
        left.addWidget(self._canvas, 1)
        left.addWidget(self._scale)
        self._phases = PhaseBar(theme)
        self._title = PlainLabel()
        self._title.setFont(font(NORMAL, bold=True))
        self._caches = quiet("")
        self._more = QPushButton("All figures")
        self._by_material = QPushButton("By material")
        self._more.clicked.connect(lambda: self.set_depth(not (self._full or self._materials)))
        self._by_material.setToolTip(
            "What each feature of each material costs, and whether it would be missed"
        )
        self._by_material.clicked.connect(self.show_materials)
        top = QHBoxLayout()
        top.addWidget(self._title)
        top.addStretch(1)
        top.addWidget(self._by_material)
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
        right.addWidget(self._caches)
        right.addWidget(self._phases)
        right.addWidget(scrolled(inner), 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 8, 12, 8)
        row.setSpacing(20)
        row.addLayout(left, 1)
        row.addLayout(right, 1)
        pictures.arrived.connect(lambda _: self.refresh() if self.isVisible() else None)

    def start_anew(self) -> None:
        self._chosen = None
        self._shown = None
        self._other = NOBODY
        self._lit = None
        self._canvas.fit()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._shown = None
        self._canvas.set_theme(theme)
        self.refresh()

    def show_trial(self, trial_id: str) -> None:
        """Show the cost of one trial."""
        self._chosen = trial_id
        self.refresh()

    def show_beside(self, trial_id: str) -> None:
        """Show the figures of a second trial as well; NOBODY for none."""
        self._other = trial_id
        self.refresh()

    def set_depth(self, full: bool) -> None:
        """Show all figures, or the findings."""
        self._full = full
        self._materials = False
        self._more.setText("Findings" if full else "All figures")
        self.refresh()

    def show_materials(self) -> None:
        """Show what each feature of each material costs."""
        self._materials = True
        self._full = False
        self._more.setText("Findings")
        self.refresh()

    def refresh(self) -> None:
        """Show the trial as it is known."""
        model = self.model
        results = model.results if model is not None else None
        if model is None or results is None or not self.isVisible():
            return

        trial = self._trial(results)
        run = typical_run(trial) if trial is not None else None
        snapshot = model.snapshot
        record = snapshot.record(run.number) if run is not None and snapshot is not None else None

        if trial is None or record is None or snapshot is None:
            self._title.setText(
                "This page shows where the time goes, as soon as one trial is rendered. Find "
                "the fastest begins."
            )
            self._title.setWordWrap(True)
            for widget in (
                self._head,
                self._beside,
                self._more,
                self._by_material,
                self._phases,
                self._scale,
                self._caches,
            ):
                widget.hide()

            self._canvas.show_pictures([Shown("", None, "Nothing is rendered yet.")], wipe=False)
            return

        for widget in (self._head, self._beside, self._more, self._phases):
            widget.show()

        can = snapshot.renderer.capabilities
        self._by_material.setVisible(can.materials)
        for part in (self._over, *self._heats.buttons()):
            part.setVisible(can.samples)

        if not can.samples:  # it tells nothing that could lie over the picture
            next(
                button for button in self._heats.buttons() if button.objectName() == NO_HEAT
            ).setChecked(True)

        self._numbers = record.numbers
        self._show_choice_beside(results, trial)
        self._head.show_choice(results, trial.id, self._theme)
        self._show_picture(results, snapshot.picture_of(trial.id), trial.id)
        other = results.by_id.get(self._other)
        other_run = typical_run(other) if other is not None and other is not trial else None
        other_record = snapshot.record(other_run.number) if other_run is not None else None
        of_all = results if self._materials else None
        state = (
            trial,
            other,
            self._full,
            of_all,
            self._theme.name,
            results.study.values_to_try(),
            model.activity.measuring,
        )

        if state == self._shown:
            return

        self._shown = state
        phases = phases_of(trial)
        title = f"{show_seconds(trial.phases['total'].value)} a render"

        if other is not None and other_record is not None and "total" in other.phases:
            title += f", beside {show_seconds(other.phases['total'].value)}"

        self._title.setText(title)
        self._title.setWordWrap(False)
        caches = cache_words(trial)
        self._caches.setText(caches)
        self._caches.setVisible(bool(caches))
        self._phases.show_parts(phases, self._theme)
        self._clear()

        if self._full:
            self._show_figures(record, snapshot.renderer.capabilities, other_record)
            self._show_samples(snapshot.picture_of(trial.id))
        elif self._materials:
            self._show_features(results, snapshot)
        else:
            self._show_findings(results, trial, snapshot)

    def _show_features(self, results: Results, snapshot: Snapshot) -> None:
        measuring = self.model is not None and self.model.activity.measuring
        features = FeatureList(
            results, snapshot, self._pictures, measuring, self._every_group, self.ask
        )
        features.more.clicked.connect(self._show_every_group)
        self._page.addWidget(features)

    def _show_every_group(self) -> None:
        self._every_group = True
        self._shown = None
        self.refresh()

    def _show_choice_beside(self, results: Results, trial: TrialResult) -> None:
        """Every other trial that was rendered, for its figures beside this one's."""
        choices = [("beside: nothing", NOBODY)]
        for one in sorted(
            (t for t in results.trials if t.runs and t is not trial), key=_seconds_of
        ):
            choices.append(
                (
                    f"beside: {show_seconds(_seconds_of(one))}   {one.called(results.study.base)}",
                    one.id,
                )
            )

        if [
            (self._beside.itemText(k), self._beside.itemData(k))
            for k in range(self._beside.count())
        ] != choices:
            self._beside.clear()
            for words, name in choices:
                self._beside.addItem(words, name)

        self._beside.setCurrentIndex(max(0, self._beside.findData(self._other)))

    def _light_up(self, layer: str, name: str | None) -> None:
        """Light up the pixels of a material, an object or a bounce; None for all."""
        if name is None:
            self._lit = None
        elif layer == "light":
            self._lit = Lit(f"light.{name.rpartition(' ')[2]}")
        else:
            self._lit = Lit(layer, frozenset(self._numbers.get(layer, {}).get(name, ())))

        model = self.model
        if model is not None and model.results is not None and model.snapshot is not None:
            trial = self._trial(model.results)
            if trial is not None:
                self._show_picture(model.results, model.snapshot.picture_of(trial.id), trial.id)

    def _show_samples(self, path: Path | None) -> None:
        """How many pixels took how many samples."""
        layers = self._pictures.get(path, "samples") if path is not None else None
        pyramid = layers.of("samples") if layers is not None and not layers.problem else None
        if pyramid is None:
            return

        samples = pyramid.levels[0]
        least = int(samples.min())
        most = int(samples.max())

        if most > least:
            counts, _ = np.histogram(samples, bins=min(40, most - least + 1))
            self._add_heading("Pixels by samples")
            chart = Histogram(self._theme)
            chart.show_counts(
                [float(c) for c in counts], (f"{least} samples", f"{most} samples"), self._theme
            )
            self._page.addWidget(chart)

    def _trial(self, results: Results) -> TrialResult | None:
        chosen = results.by_id.get(self._chosen) if self._chosen is not None else None
        return next(
            (trial for trial in (chosen, results.base) if trial is not None and trial.runs), None
        )

    def _show_picture(self, results: Results, path: Path | None, trial_id: str) -> None:
        checked = self._heats.checkedButton()
        heat = (
            checked.objectName()
            if checked is not None and checked.objectName() != NO_HEAT
            else BEAUTY
        )
        layers = self._pictures.get(path, heat) if path is not None else None
        source = (
            Source(layers=layers, view=results.study.view, shown=heat, lit=self._lit)
            if layers is not None
            else None
        )
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
            words = "Nothing stands out in this render: its time goes where its light comes from."
            if not snapshot.renderer.findings:
                can = snapshot.renderer.capabilities
                title = snapshot.renderer.title
                missing = [
                    can.why_not(name).removeprefix("this renderer ")
                    for name in ("phases", "bounces", "materials")
                ]
                words = (
                    f"{title[0].upper()}{title[1:]}: "
                    f"{'; '.join(reason for reason in missing if reason)}."
                )

            self._page.addWidget(quiet(words))

    def _finding_card(self, results: Results, trial: TrialResult, finding: Finding) -> QWidget:
        card = QFrame()
        card.setObjectName("card")
        words = PlainLabel(finding.text)
        answer = QHBoxLayout()
        words.setWordWrap(True)
        wanted = trial.configuration.replace(finding.changes)
        changed = wanted.describe(results.study.base)
        changes = wanted.differences(results.study.base)
        tested = next(
            (t for t in results.trials if t.configuration == wanted and t.is_on_map), None
        )

        if not finding.changes:
            pass
        elif tested is not None:
            judged = judged_words(results, finding) if trial.is_base else ""
            words_of_it = f"{changed}: {show_factor(tested.times_faster)}, {tested.verdict}" + (
                f"; {judged}" if judged else ""
            )
            answer.addWidget(quiet(words_of_it), 1)
        else:
            measuring = self.model is not None and self.model.activity.measuring
            button = QPushButton(f"Try {wanted.describe(trial.configuration)}")
            button.setEnabled(not measuring)
            tip = (
                "Pause measuring first"
                if measuring
                else f"Measures {changed} now, and nothing else"
            )
            button.setToolTip(plain_tip(tip))
            button.clicked.connect(lambda: self.ask(lambda session: session.try_changes(changes)))
            answer.addWidget(button)

            if not finding.mends:
                least, most = finding.gain
                answer.addWidget(
                    quiet(f"expected to save {least:.0%} to {most:.0%} of the time"), 1
                )
            else:
                answer.addStretch(1)

        column = QVBoxLayout(card)
        column.setContentsMargins(10, 8, 10, 8)
        column.addWidget(words)
        column.addLayout(answer)

        return card

    def _show_figures(
        self, result: RunRecord, can: Capabilities, other: RunRecord | None = None
    ) -> None:
        bounces = bounces_of(result)
        if bounces:
            self._show_bounces(bounces[0], bounces[1:])

        for title, layer, parts_of_record in (
            ("By material seen first", "material", materials_of),
            ("By object seen first", "object", objects_of),
        ):
            parts = parts_of_record(result)
            beside = (
                {part.name: part.amount for part in parts_of_record(other)}
                if other is not None
                else {}
            )
            if parts:
                self._add_table(title, _seconds_rows(parts, beside), ("sample",), layer)

        kinds = [
            (kind, count)
            for kind, count in result.rays.items()
            if kind != "total" and isinstance(count, int)
        ]
        most = max((count for _, count in kinds), default=0)

        if most:
            rows = [
                BarRow(RAY_WORDS.get(kind, kind), (count / most,), f"{count / 1e6:.2f} million")
                for kind, count in sorted(kinds, key=lambda pair: -pair[1])
                if count
            ]
            self._add_table("Rays by kind", rows, ("sample",))

        if result.textures:
            largest = result.textures[0].bytes
            rows = [
                BarRow(
                    t.name or "texture",
                    (t.bytes / largest,),
                    f"{t.width}×{t.height}, {t.bytes / 2**20:.1f} MiB",
                )
                for t in result.textures[:MOST_TEXTURES_SHOWN]
            ]

            self._add_table("Textures", rows, ("build",))

        memory = [
            BarRow(p.name, (p.share,), f"{p.amount / 2**20:.1f} MiB") for p in memory_of(result)
        ]
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
            words.append(
                f"{result.texture_reads:,} texture reads, of which {result.texture_misses:,} "
                "from disk."
            )

        waited = (
            ""
            if result.tail_seconds is None
            else (f"; the last tiles kept threads waiting for {show_seconds(result.tail_seconds)}")
        )
        words.append(
            f"Processor: {show_seconds(result.cpu_seconds)} of all threads together{waited}."
        )
        if result.peak_memory_bytes:
            words.append(f"Peak memory {result.peak_memory_bytes / 2**20:.0f} MiB.")

        self._page.addWidget(quiet(" ".join(words)))
        absent = [
            can.why_not(name).removeprefix("this renderer ")
            for name in ("bounces", "materials", "memory", "samples")
        ]
        if any(absent):
            self._page.addWidget(quiet(f"This renderer {', '.join(filter(None, absent))}."))

        grain = ", ".join(
            f"{grain:.1f} with {count}" for count, grain in sorted(result.grain_by_samples.items())
        )
        if grain:
            self._page.addWidget(
                quiet(f"Grain in levels before denoising, as samples came in: {grain}.")
            )

    def _show_bounces(self, seen: Bounce, later: Sequence[Bounce]) -> None:
        rows = [
            BarRow(
                f"bounce {b.number}",
                (b.time_share, b.light_share),
                f"{b.time_share:.1%} time, {b.light_share:.2%} light",
            )
            for b in later
        ]
        self._add_table("Bounces: time above light", rows, ("sample", "pick"), "light")

        self._page.addWidget(
            quiet(
                f"What the camera sees itself, lit directly, takes {seen.time_share:.0%} of the "
                f"time and brings {seen.light_share:.0%} of the light."
            )
        )

    def _add_heading(self, title: str) -> None:
        heading = PlainLabel(title)
        heading.setFont(font(SMALL, bold=True))
        self._page.addWidget(heading)

    def _add_table(
        self, title: str, rows: list[BarRow], roles: tuple[str, ...], lights: str = ""
    ) -> None:
        """`lights` is the layer in which a row that is pointed at lights up its pixels."""
        self._add_heading(title)
        table = BarTable(self._theme, roles)
        if lights:
            table.hovered.connect(lambda name: self._light_up(lights, name))

        table.show_rows(rows, self._theme)
        self._page.addWidget(table)


def _seconds_rows(parts: list[Part], beside: Mapping[str, float]) -> list[BarRow]:
    """Seconds and shares; `beside` are another trial's seconds by name, with what that changes."""
    rows = []
    for part in parts:
        words = f"{show_seconds(part.amount)}, {part.share:.0%}"
        if beside:
            words += (
                f"; {show_seconds(beside[part.name])} beside"
                if part.name in beside
                else "; none beside"
            )
        rows.append(BarRow(part.name, (part.share,), words))

    return rows


def _seconds_of(trial: TrialResult) -> float:
    return trial.seconds.value if trial.seconds is not None else 0.0
