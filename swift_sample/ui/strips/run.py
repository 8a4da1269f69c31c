"""The run strip: every run is a block whose width is its time, its parts coloured by phase, in the
order they ran."""

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QToolTip, QVBoxLayout, QWidget

from swift_sample.app.view_model import Activity, ViewModel
from swift_sample.core.colours import PHASE_ROLES
from swift_sample.core.machine import BUSY_SHARE
from swift_sample.core.measure.drift import DRIFT_WARNING, DriftCorrection
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.log.events import Run
from swift_sample.core.study.measuring.snapshot import Snapshot, busy_words
from swift_sample.core.study.measuring.steps import ReferenceStep, RunStep
from swift_sample.ui.theme import SMALL, STRIP_HEIGHT, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.words import PlainLabel

LEAST_BLOCK = 6.0
"""Pixels a run under which the strip is crowded: then old runs share OLD_SHARE of its width, and
those to come later LATER_SHARE, beside the RECENT last and the SOON next ones."""
RECENT = 60
SOON = 40
OLD_SHARE = 0.3
LATER_SHARE = 0.12
GROUP_GAP = 8.0
LEAST_NOW = 6.0


class RunBlocks(QWidget):
    """The blocks themselves."""

    trial_clicked = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._runs: tuple[Run, ...] = ()
        self._to_come: Sequence[float] = ()
        self._laid: tuple[object, ...] = ((), (), None, set(), None)
        self._places: (
            tuple[int, tuple[list[tuple[Run, QRectF]], list[QRectF], QRectF | None]] | None
        ) = None
        self._picture: QPixmap | None = None
        self._current: float | None = None
        self._share = 0.0
        self._highlight: set[str] = set()
        self._correction = DriftCorrection()
        self._at: int | None = None
        """which of the finished runs the keys stand at"""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(46)
        self.setAccessibleName("Runs, in the order in which they were made")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._picture = None
        self.update()

    def show_runs(
        self,
        runs: tuple[Run, ...],
        to_come: Sequence[float],
        current: float | None,
        share: float,
        highlight: set[str],
        correction: DriftCorrection,
    ) -> None:
        """runs: finished; to_come: predicted seconds; current: predicted seconds of the run in
        hand; even: odd runs."""
        laid = (runs, to_come, current, highlight, correction)
        if any(
            one is not other and one != other for one, other in zip(laid, self._laid, strict=True)
        ):
            self._laid = laid
            self._correction = correction
            self._runs = runs
            self._to_come = to_come
            self._current = current
            self._highlight = set(highlight)
            self._picture = None
            self._places = None
            self.update()

        if share != self._share:
            self._share = share
            self.update()

    def _layout(self) -> tuple[list[tuple[Run, QRectF]], list[QRectF], QRectF | None]:
        """Blocks of the finished runs, of those to come, and of the one in hand. Where there are
        more than have room, old ones and those that come much later are crowded at the ends, so
        that what happens now can always be seen."""
        if self._places is not None and self._places[0] == self.width():
            return self._places[1]

        done = [(run, run.result.seconds["total"]) for run in self._runs if run.result is not None]
        to_come = [seconds for seconds in self._to_come if seconds > 0]
        now = [self._current] if self._current is not None else []

        if not done and not to_come and not now:
            return [], [], None

        crowded = (len(done) + len(now) + len(to_come)) * LEAST_BLOCK > self.width()
        old = len(done) - RECENT if crowded and len(done) > RECENT else 0
        soon = SOON if crowded and len(to_come) > SOON else len(to_come)
        left = OLD_SHARE * self.width() if old else 0.0
        right = LATER_SHARE * self.width() if soon < len(to_come) else 0.0
        seconds = [s for _, s in done]
        places = _laid(seconds[:old], 0.0, left - GROUP_GAP)
        middle = _laid(
            [*seconds[old:], *now, *to_come[:soon]], left, self.width() - 2 - left - right
        )
        later = _laid(to_come[soon:], self.width() - right + GROUP_GAP, right - GROUP_GAP - 2)
        places += middle[: len(done) - old]
        finished = [(run, rect) for (run, _), rect in zip(done, places, strict=True)]
        rest = middle[len(done) - old :]
        current = rest.pop(0) if now else None

        if current is not None:
            current.setWidth(max(LEAST_NOW, current.width()))

        self._places = (
            self.width(),
            (
                _apart(finished),
                [rect for _, rect in _apart([(None, r) for r in rest + later])],
                current,
            ),
        )
        return self._places[1]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        theme = self._theme
        current = self._layout()[2]

        with QPainter(self) as painter:
            painter.drawPixmap(0, 0, self._drawn())
            finished = self._layout()[0]

            if self.hasFocus() and self._at is not None and self._at < len(finished):
                painter.setPen(QPen(theme.colour("ink"), 2))
                painter.drawRect(finished[self._at][1].adjusted(-1, -3, 1, 3))

            if current is not None:
                painter.setPen(QPen(theme.colour("quiet"), 1))
                painter.drawRect(current.adjusted(0, 0, -1, -1))
                painter.fillRect(
                    QRectF(current.x(), 8, current.width() * self._share, 26),
                    theme.colour("sample", 150),
                )
                x = current.x() + current.width() * self._share
                painter.fillRect(QRectF(x, 2, 2, 38), theme.colour("pick"))

    def _drawn(self) -> QPixmap:
        """All blocks but the one in hand, drawn once for as long as they stay."""
        ratio = self.devicePixelRatioF()
        if self._picture is None or self._picture.size() != self.size() * ratio:
            self._picture = QPixmap(self.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
            finished, future, _ = self._layout()

            with QPainter(self._picture) as painter:
                for run, rect in finished:
                    self._paint_run(painter, run, rect)

                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(self._theme.colour("line"), 1))
                for rect in future:
                    painter.drawRect(rect.adjusted(0, 0, -1, -1))

        return self._picture

    def _paint_run(self, painter: QPainter, run: Run, rect: QRectF) -> None:
        theme = self._theme
        x = rect.x()
        assert run.result is not None
        seconds = run.result.seconds
        faded = bool(self._highlight) and run.trial not in self._highlight

        for role, phases in PHASE_ROLES:
            width = (
                rect.width()
                * sum(seconds.get(phase, 0.0) for phase in phases)
                / max(seconds["total"], 1e-9)
            )
            painter.fillRect(
                QRectF(x, rect.y(), width, rect.height()), theme.colour(role, 90 if faded else 255)
            )
            x += width

        if run.control:
            painter.fillRect(
                QRectF(rect.x(), rect.bottom() + 3, rect.width(), 3), theme.colour("ink")
            )

        if run.number in self._correction.left_out:
            painter.setPen(QPen(theme.colour("panel"), 2))
            painter.drawLine(rect.bottomLeft(), rect.topRight())
            painter.setPen(Qt.PenStyle.NoPen)

        if run.result.load_of_others > BUSY_SHARE:
            centre = QPointF(rect.center().x(), 3)
            painter.fillRect(QRectF(centre.x() - 1, 0, 2, 6), theme.colour("over"))

    def _run_at(self, x: float) -> Run | None:
        return next(
            (run for run, rect in self._layout()[0] if rect.left() - 1 <= x <= rect.right() + 1),
            None,
        )

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right walk the runs, Space compares the trial."""
        finished = self._layout()[0]
        if event is None or not finished:
            return

        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is not None:
            at = len(finished) - 1 if self._at is None else self._at + step
            self._at = min(len(finished) - 1, max(0, at))
            run, rect = finished[self._at]
            words = _describe(run, self._correction)
            self.setAccessibleDescription(words)
            QToolTip.showText(self.mapToGlobal(rect.bottomLeft().toPoint()), words, self)
            self.update()
        elif (
            event.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return)
            and self._at is not None
            and self._at < len(finished)
        ):
            self.trial_clicked.emit(finished[self._at][0].trial)
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().focusOutEvent(event)
        QToolTip.hideText()
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and (run := self._run_at(event.position().x())) is not None:
            self.trial_clicked.emit(run.trial)

    def event(self, event) -> bool:  # type: ignore[no-untyped-def]
        if isinstance(event, QHelpEvent):
            run = self._run_at(event.pos().x())
            if run is None:
                QToolTip.hideText()
            else:
                QToolTip.showText(event.globalPos(), _describe(run, self._correction), self)

            return True

        return super().event(event)


def _laid(seconds: Sequence[float], x: float, width: float) -> list[QRectF]:
    """Blocks side by side from x on, together so wide, each as wide as its time."""
    count = len(seconds)
    if not count:
        return []

    if count * 6 < width:
        gap = 3.0
    elif count * 3 < width:
        gap = 1.0
    else:
        gap = 0.0

    scale = max(0.1, width - gap * count) / max(sum(seconds), 1e-9)
    least = 1.0 if gap else 0.0
    rects = []

    for each in seconds:
        wide = max(least, each * scale)
        rects.append(QRectF(x, 8, max(wide, 1.0), 26))
        x += wide + gap

    return rects


def _apart(blocks: list[tuple[Any, QRectF]]) -> list[tuple[Any, QRectF]]:
    """Of blocks that fall on one pixel, the first."""
    kept: list[tuple[Any, QRectF]] = []
    for what, rect in blocks:
        if not kept or rect.x() >= kept[-1][1].x() + 1:
            kept.append((what, rect))

    return kept


def _describe(run: Run, correction: DriftCorrection) -> str:
    assert run.result is not None
    parts = [
        f"{role} {show_seconds(seconds)}"
        for role, phases in PHASE_ROLES
        if (seconds := sum(run.result.seconds.get(p, 0.0) for p in phases)) >= 0.005
    ]

    kind = "control (the base again)" if run.control else "a trial"
    busy = (
        f"\nother programs took {run.result.load_of_others:.0%} of the processor"
        if run.result.load_of_others > BUSY_SHARE
        else ""
    )

    odd = "\noutlier: left out and repeated" if run.number in correction.left_out else ""
    drift = correction.factor(run.number)
    moved = (
        f"\ndivided by {drift:.2f}: the machine was {'slower' if drift > 1 else 'faster'} just then"
        if drift != 1
        else ""
    )

    return (
        f"{kind}, {show_seconds(run.result.seconds['total'])}: {', '.join(parts)}{busy}{odd}{moved}"
    )


class RunStrip(QWidget):
    """What was measured, what is measured now, and what is to come."""

    trial_clicked = pyqtSignal(str)
    pause_clicked = pyqtSignal()
    stop_clicked = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("runStrip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(STRIP_HEIGHT)
        self._theme = theme
        self._last: tuple[tuple[float, ...], int, tuple[float, ...]] | None = None
        self._trusted: tuple[Snapshot, bool, str] | None = None
        self._words = PlainLabel()
        self._now = ElidedLabel()
        self._words.setFont(font(SMALL, bold=True))
        self._now.setFont(font(SMALL))
        self._now.setProperty("quiet", True)
        self._legend = PhaseLegend(theme)
        self._pause = QPushButton("Pause")
        self._stop = QPushButton("Stop now")
        self._pause.setToolTip("Finish the current render, then pause; Measure continues")
        self._stop.setToolTip("Stop at once; only the current render is lost")
        self._pause.clicked.connect(self.pause_clicked)
        self._stop.clicked.connect(self.stop_clicked)
        self.blocks = RunBlocks(theme)
        self.blocks.trial_clicked.connect(self.trial_clicked)
        head = QHBoxLayout()
        head.setSpacing(14)
        head.addWidget(self._words)
        head.addWidget(self._now, 1)
        for widget in (self._legend, self._pause, self._stop):
            head.addWidget(widget)

        column = QVBoxLayout(self)
        column.setContentsMargins(16, 5, 16, 2)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self.blocks)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.blocks.set_theme(theme)
        self._legend.set_theme(theme)

    def show_view(self, model: ViewModel | None) -> None:
        """Show the runs and the step in hand."""
        snapshot = model.snapshot if model is not None else None
        activity = model.activity if model is not None else Activity()
        highlight = set(model.selected) if model is not None else set()

        for button in (self._pause, self._stop):
            button.setVisible(activity.measuring)
            button.setEnabled(not activity.stopping)

        if snapshot is None:
            self._words.setText("")
            self._now.setText("")
            return

        step = activity.step
        to_come: tuple[float, ...] = () if activity.searching else snapshot.seconds_to_come
        current = None

        if isinstance(step, RunStep):
            mine = (
                next(
                    (
                        k
                        for k, run in enumerate(snapshot.to_come)
                        if (run.trial.id, run.block, run.control > 0)
                        == (step.trial.id, step.block, step.control)
                    ),
                    None,
                )
                if to_come
                else None
            )
            current = 1.0 if mine is None else to_come[mine] or 1.0
            to_come = to_come if mine is None else self._without(to_come, mine)

        self.blocks.show_runs(
            snapshot.runs, to_come, current, activity.share, highlight, snapshot.results.correction
        )
        self._legend.setVisible(bool(snapshot.runs))
        self._words.setText(_progress_words(snapshot, activity))
        trust = self._trust(snapshot, activity.measuring)
        now = _now_words(snapshot, activity)
        self._now.setText(" · ".join(words for words in (now, trust) if words))
        self._now.setToolTip("\n".join(words for words in (activity.why, trust) if words))

    def _without(self, to_come: tuple[float, ...], mine: int) -> tuple[float, ...]:
        """The runs to come but the one in hand; worked out once, since progress is shown several
        times a second."""
        if self._last is None or self._last[0] is not to_come or self._last[1] != mine:
            self._last = (to_come, mine, to_come[:mine] + to_come[mine + 1 :])
        return self._last[2]

    def _trust(self, snapshot: Snapshot, measuring: bool) -> str:
        if (
            self._trusted is None
            or self._trusted[0] is not snapshot
            or self._trusted[1] != measuring
        ):
            self._trusted = (snapshot, measuring, trust_words(snapshot, measuring))
        return self._trusted[2]


def _progress_words(snapshot: Snapshot, activity: Activity) -> str:
    trials = len(snapshot.results.trials)
    if activity.searching:
        tried = len(snapshot.results.on_map)
        return f"Searching {snapshot.study.combinations():,} combinations · {tried} measured"

    done = snapshot.runs_done
    if not done:
        return f"{trials} trials planned"
    if not snapshot.to_come:
        return (
            f"All {trials} trials measured in {show_seconds(snapshot.seconds_rendered)} of "
            "rendering"
        )

    tail = f" · {snapshot.time_left_words} left" if snapshot.time_left_words else ""
    return f"{done} of {done + len(snapshot.to_come)} runs{tail}"


def trust_words(snapshot: Snapshot, measuring: bool = True) -> str:
    """Why times are not to be trusted as they are, and what would help; empty where they are."""
    correction = snapshot.results.correction
    busy = busy_words(snapshot.runs) if measuring else ""
    if busy:
        return busy

    if correction.largest_drift > DRIFT_WARNING:
        drifted = f"the machine's speed drifted by {correction.largest_drift:.0%}"
        return f"{drifted}; that is corrected for, a quieter machine would make times surer"

    if snapshot.elsewhere:
        many = f"{snapshot.elsewhere} runs were" if snapshot.elsewhere > 1 else "1 run was"
        return f"{many} made on another machine, and kept apart: times do not mix"

    if len(snapshot.software) > 1:
        return f"runs were made with different software: {' / '.join(snapshot.software)}"
    if correction.left_out:
        return (
            f"{len(correction.left_out)} odd run{'s' if len(correction.left_out) > 1 else ''} "
            "left out and repeated"
        )

    return ""


def _now_words(snapshot: Snapshot, activity: Activity) -> str:
    step = activity.step
    if not activity.measuring:
        return ""
    if step is None:
        return activity.text + (f", {activity.share:.0%}" if activity.share else "")

    return step.words(snapshot.study.base) + (
        f", {activity.share:.0%}" if isinstance(step, ReferenceStep) else ""
    )


class PhaseLegend(QWidget):
    """Which colour is which phase."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._words = [role for role, _ in PHASE_ROLES]
        metrics = self.fontMetrics()
        self._widths = [metrics.horizontalAdvance(word) + 22 for word in self._words]
        self.setFixedSize(sum(self._widths), 18)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setFont(font(SMALL))
            x = 0

            for word, width in zip(self._words, self._widths, strict=True):
                painter.fillRect(QRectF(x, 5, 9, 9), self._theme.colour(word))
                painter.setPen(self._theme.colour("quiet"))
                painter.drawText(QRectF(x + 13, 0, width, 18), Qt.AlignmentFlag.AlignVCenter, word)
                x += width
