"""Frames: base and pick at frames spread over a sequence, and what the whole of it will take."""

import statistics
from html import escape
from itertools import pairwise

import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSpinBox, QVBoxLayout

from swift_sample.app.pictures import PictureStore
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.frames import RUNS, FrameResult, FrameResults
from swift_sample.core.study.answers.frames_report import forecast_sentences
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.plan.model import MOST_FRAMES, MOST_SAMPLED_FRAMES, FramePlan
from swift_sample.ui.page import Page
from swift_sample.ui.theme import NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.parts import dress, quiet
from swift_sample.ui.widgets.words import PlainLabel

EMPTY = (
    "This page shows what a sequence will take: base and pick are rendered at a few frames spread "
    "over it. Each bar is a "
    "frame, its lower part reading and building the scene. Set the frames above and measure them."
)
MOST_MACHINES = 10_000
DEFAULT_COUNT = 5
BAR_SHARE = 0.36
"""Width of a bar, as a share of the distance between two measured frames."""


class FramesPage(Page):
    """Base and pick at frames of a sequence; which frames are measured is said here."""

    name = "Frames"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._drawn: object = None
        self._offered = False
        """whether the scene's own last frame was offered"""
        self._first = _field("first frame", 0, MOST_FRAMES, 0)
        self._last = _field("last frame", 1, MOST_FRAMES, 47)
        self._count = _field("frames to measure", 2, MOST_SAMPLED_FRAMES, DEFAULT_COUNT)
        self._machines = _field(
            "machines like this one that share the sequence", 1, MOST_MACHINES, 1
        )
        self._measure = QPushButton("Measure frames")
        self._measure.clicked.connect(self._ask)
        self._words = quiet("")
        head = QHBoxLayout()
        head.setSpacing(8)

        for words, field in (
            ("Frames", self._first),
            ("to", self._last),
            ("· measured", self._count),
            ("· shared by", self._machines),
        ):
            head.addWidget(PlainLabel(words))
            head.addWidget(field)

        head.addWidget(PlainLabel("machines"))
        head.addWidget(self._measure)
        head.addStretch(1)
        self._plot = pg.PlotWidget()
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._plot.setMouseEnabled(False, False)
        self._plot.setAccessibleName("Seconds of every measured frame, base beside pick")
        self._hint = quiet(EMPTY)
        self._legend = quiet("")
        self._forecasts = [QLabel(), QLabel()]
        self._legend.setTextFormat(Qt.TextFormat.RichText)
        lower = QHBoxLayout()
        lower.setSpacing(32)

        for label in self._forecasts:
            label.setWordWrap(True)
            label.setFont(font(NORMAL))
            label.setAlignment(Qt.AlignmentFlag.AlignTop)
            lower.addWidget(label, 1)

        column = QVBoxLayout(self)
        column.setContentsMargins(24, 8, 16, 12)
        column.addLayout(head)
        column.addWidget(self._words)
        column.addWidget(self._hint)
        column.addWidget(self._legend)
        column.addWidget(self._plot, 1)
        column.addLayout(lower)
        self._machines.valueChanged.connect(self.refresh)
        self.set_theme(theme)

    def start_anew(self) -> None:
        self._drawn = None
        self._offered = False
        plan = self._plan()

        if plan is not None:
            self._fill(plan)

    def _plan(self) -> FramePlan | None:
        return self.model.study.frames if self.model is not None else None

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._drawn = None
        dress(self._plot, theme, "frame", "seconds")
        self.refresh()

    def refresh(self) -> None:
        """Draw what is measured of the sequence."""
        model = self.model
        measured = model.frames if model is not None else None
        measuring = model is not None and model.activity.measuring
        there = measured is not None and bool(measured.by_configuration)
        base = model.results.base if model is not None and model.results is not None else None
        ready = base is not None and base.seconds is not None
        facts = model.facts if model is not None else None
        still = facts.still if facts is not None else ""
        self._measure.setEnabled(ready and not measuring)
        self._measure.setToolTip(
            ""
            if ready
            else "Measure the study first: frames are rendered with its base and its pick"
        )

        if (
            facts is not None
            and facts.frames
            and not still
            and self._plan() is None
            and not self._offered
        ):
            self._offered = True
            self._last.setValue(facts.frames - 1)

        left = self._left(measured) if measured is not None else ""
        if still and not left:
            left = (
                f"{still[:1].upper()}{still[1:]}, so that every frame takes as long as the one "
                "that is measured."
            )

        self._words.setText(left)
        self._words.setVisible(bool(left))
        self._hint.setVisible(not there)
        for widget in (self._plot, self._legend, *self._forecasts):
            widget.setVisible(there)

        state = (measured, self._machines.value(), self._theme.name)
        if measured is None or model is None or not there or state == self._drawn:
            return

        self._drawn = state
        names = model.frame_names()
        self._draw(measured, names)
        self._tell(measured, names)

    def _left(self, found: FrameResults) -> str:
        """How many runs are left, and about how long they take: each as long as those that were
        made."""
        if not found.left or self.model is None:
            return ""

        made = [
            r.seconds.value + r.ready_seconds for rs in found.by_configuration.values() for r in rs
        ]
        about = f", about {show_seconds(found.left * statistics.mean(made))}" if made else ""
        return (
            f"{found.left} of {RUNS * len(found.plan.frames()) * len(self.model.frame_names())} "
            f"runs left{about}"
        )

    def _draw(self, found: FrameResults, names: dict[Configuration, str]) -> None:
        self._plot.clear()
        frames = found.plan.frames()
        step = min(b - a for a, b in pairwise(frames))
        width = BAR_SHARE * step
        roles = {"base": "ink", "pick": "pick"}
        words = []

        for place, (configuration, name) in enumerate(names.items()):
            results = found.by_configuration.get(configuration, ())
            forecast = found.forecast(configuration)

            for result in results:
                x = result.frame + (place - (len(names) - 1) / 2) * width * 1.08
                worst = forecast is not None and result.frame == forecast.worst.frame
                self._bar(result, x, width, roles[name], worst)

            words.append(
                f"<span style='color:{self._theme.colour(roles[name]).name()}'>■</span> {name}, "
                f"{configuration.describe(None if name == 'base' else next(iter(names)), most=6)}"
            )

        if next(iter(names)).catalogue.capabilities.phases:
            words.append("lower part: reading and building the scene")

        self._legend.setText("&nbsp;&nbsp;&nbsp;".join(words))
        self._plot.getAxis("bottom").setTicks([[(frame, str(frame)) for frame in frames]])
        self._plot.setXRange(frames[0] - step * 0.6, frames[-1] + step * 0.6, padding=0)
        tallest = max(
            (
                r.seconds.high + r.ready_seconds
                for rs in found.by_configuration.values()
                for r in rs
            ),
            default=1.0,
        )
        self._plot.setYRange(0, tallest * 1.14, padding=0)

    def _bar(self, result: FrameResult, x: float, width: float, role: str, worst: bool) -> None:
        """Building below, the rest above, the interval as a line, and words at the slowest
        frame."""
        build = result.build_seconds + result.ready_seconds
        colour = self._theme.colour(role)
        soft = self._theme.colour(role, 110)
        for low, high, brush in ((0.0, build, soft), (build, result.built_anew, colour)):
            self._plot.addItem(
                pg.BarGraphItem(
                    x0=x - width / 2, width=width, y0=low, y1=high, brush=brush, pen=None
                )
            )

        low, high = (
            result.seconds.low + result.ready_seconds,
            result.seconds.high + result.ready_seconds,
        )
        self._plot.addItem(
            pg.PlotCurveItem([x, x], [low, high], pen=pg.mkPen(self._theme.text, width=1))
        )

        if worst:
            label = pg.TextItem(
                f"slowest {show_seconds(result.built_anew)}", color=colour, anchor=(0, 1.05)
            )
            label.setFont(font(SMALL, bold=True))
            label.setPos(x - width / 2, high)
            self._plot.addItem(label)

    def _tell(self, found: FrameResults, names: dict[Configuration, str]) -> None:
        machines = self._machines.value()
        for label, (configuration, name) in zip(self._forecasts, names.items(), strict=False):
            lines = forecast_sentences(found, {configuration: name}, machines)
            first, *rest = map(escape, lines)
            label.setText(f"<b>{first}</b><br>" + "<br>".join(line.strip() for line in rest))

        for label in self._forecasts[len(names) :]:
            label.setText("There is no pick yet: only the base is forecast.")

    def ask_for(self, plan: FramePlan) -> None:
        """Fill in a sequence and measure it."""
        self._fill(plan)
        self._ask()

    def _fill(self, plan: FramePlan) -> None:
        for field, value in (
            (self._first, plan.first),
            (self._last, plan.last),
            (self._count, plan.count),
        ):
            field.setValue(value)

    def _ask(self) -> None:
        if self.model is None:
            return

        try:
            plan = FramePlan(self._first.value(), self._last.value(), self._count.value())
        except SwiftSampleError as error:
            self._words.setText(one_line(error))
            self._words.show()
        else:
            self.ask(lambda session: session.measure_frames(plan))


def _field(name: str, low: int, high: int, value: int) -> QSpinBox:
    field = QSpinBox()
    field.setRange(low, high)
    field.setValue(value)
    field.setAccessibleName(name)
    field.setToolTip(name[0].upper() + name[1:])
    field.setFixedWidth(56)

    return field
