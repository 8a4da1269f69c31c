"""The verdict strip: the pick in one line, its share of each limit, and the one action."""

from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QDoubleSpinBox,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.view_model import ViewModel
from swift_sample.core.measure.kinds import KINDS, MEANINGS, Figure
from swift_sample.core.settings import Value
from swift_sample.core.study.answers.acceptance import quantity, show_limit
from swift_sample.core.study.answers.guidance import Help, not_known
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.pick_report import (
    alone_so_far,
    help_sentences,
    pick_sentences,
    show_factor,
    show_seconds,
    show_ties,
    show_with_interval,
    so_far,
)
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan.model import AREA_MARK
from swift_sample.ui.theme import LARGE, NORMAL, SMALL, VERDICT_HEIGHT, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.marks import paint_mark, wing
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

LEAST_WORDS_WIDTH = 150
BAR_WIDTH = 86
NOT_BARS_WIDTH = 560
"""Pixels of the strip that stay for words and button, however many limits there are."""


class WingSign(QWidget):
    """The application's sign, in the colour of a role."""

    def __init__(self, theme: Theme, role: str, width: int = 34) -> None:
        super().__init__()
        self._theme = theme
        self._role = role
        self.setFixedSize(width, width)

    def set_look(self, theme: Theme, role: str) -> None:
        self._theme = theme
        self._role = role
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            size = self.width() * 0.72
            paint_mark(
                painter,
                wing(),
                QPointF(self.width() / 2, self.height() / 2),
                size,
                self._theme,
                self._role,
            )


class LimitBar(QWidget):
    """One limit: its name, a bar that is full at the limit, and the figure beside the limit. A
    click edits the limit."""

    edited = pyqtSignal(str, float)

    def __init__(self, key: str, theme: Theme) -> None:
        super().__init__()
        self._key = key
        self._theme = theme
        self._line = 1.0
        self._limit = 0.0
        self._field: QDoubleSpinBox | None = None
        self._share: Figure | None = None
        self._text = ""
        self._more = 0
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setMinimumWidth(BAR_WIDTH)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(52)

    def show_share(
        self,
        share: Figure | None,
        text: str,
        theme: Theme,
        line: float,
        key: str = "",
        limit: float = 0.0,
    ) -> None:
        """`key` changes what the bar is for; a limit of 0 cannot be edited here."""
        self._share = share
        self._text = text
        self._theme = theme
        self._line = line
        self._limit = limit
        self._key = key or self._key
        self._more = 0
        label = quantity(self._key).label
        self.setAccessibleName(f"{label} {text}")
        self.setCursor(Qt.CursorShape.PointingHandCursor if limit else Qt.CursorShape.ArrowCursor)

        if share is not None:
            self.setToolTip(
                f"{label}: {share.value:.0%} of its limit ({share.low:.0%} to {share.high:.0%})"
                + f"\n{MEANINGS.get(self._key.partition(AREA_MARK)[0], '')}"
                + ("\nClick to change the limit" if limit else "")
            )

        self.update()

    def tell_more(self, count: int) -> None:
        """Say that so many limits besides this one have no bar."""
        self._more = count
        self.setAccessibleName(f"{self.accessibleName()}, and {count} more limits")
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if (
            event is not None
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
            and self._limit
        ):
            self.edit()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().focusOutEvent(event)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._limit:
            self.edit()

    def edit(self) -> QDoubleSpinBox:
        """Open a field with the limit, in the bar's place; Enter takes it, Escape or leaving closes
        it."""
        field = QDoubleSpinBox(self)
        is_share = self._key == "detail_kept"
        field.setDecimals(0 if self._key == "stray_pixels" else 1)
        field.setRange(1.0 if self._key == "stray_pixels" else 0.1, 99.9 if is_share else 1e6)
        field.setSingleStep(100.0 if self._limit > 500 else 0.5)
        field.setKeyboardTracking(False)
        field.setValue(self._limit)
        field.setAccessibleName(f"Limit of {quantity(self._key).label}")
        field.setGeometry(0, 24, self.width(), 26)
        field.installEventFilter(self)
        field.valueChanged.connect(lambda value: self.edited.emit(self._key, value))
        field.editingFinished.connect(self._close_field)
        self._close_field()
        self._field = field
        field.show()
        field.setFocus()
        field.selectAll()

        return field

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and self._field is not None
        ):
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._field.interpretText()
                self._close_field()
                return True  # else the bar itself would take the key, and open the field again

            if event.key() == Qt.Key.Key_Escape:
                self._close_field()
                return True

        return super().eventFilter(watched, event)

    def _close_field(self) -> None:
        field = self._field
        self._field = None

        if field is not None:
            if field.hasFocus():
                self.setFocus()
            field.hide()
            field.deleteLater()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        theme = self._theme
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(font(SMALL))
            painter.setPen(theme.colour("quiet"))
            more = f" + {self._more} more" if self._more else ""
            full = quantity(self._key).short
            shorter = full.removesuffix(" kept").removesuffix(" shift").removesuffix(" pixels")
            fits = painter.fontMetrics().horizontalAdvance(full + more) <= self.width()
            label = painter.fontMetrics().elidedText(
                (full if fits else shorter) + more, Qt.TextElideMode.ElideRight, self.width()
            )
            painter.drawText(QRectF(0, 0, self.width(), 18), Qt.AlignmentFlag.AlignVCenter, label)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("line"))
            painter.drawRoundedRect(QRectF(0, 21, self.width(), 6), 3, 3)

            if self._share is not None:
                over = self._share.value > self._line
                painter.setBrush(theme.colour("over" if over else "acceptable"))
                length = self.width() * min(1.0, max(0.03, self._share.value / self._line))
                painter.drawRoundedRect(QRectF(0, 21, length, 6), 3, 3)

            if self.hasFocus():
                painter.setPen(QPen(theme.colour("ink"), 1, Qt.PenStyle.DashLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

            painter.setPen(theme.colour("text"))
            fits = painter.fontMetrics().horizontalAdvance(self._text) <= self.width()
            text = self._text if fits else self._text.rpartition(" ")[0]
            painter.drawText(QRectF(0, 31, self.width(), 18), Qt.AlignmentFlag.AlignVCenter, text)


class VerdictStrip(QWidget):
    """The answer, always at the top."""

    take_wanted = pyqtSignal()
    limit_edited = pyqtSignal(str, float)
    try_asked = pyqtSignal(dict)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("verdict")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(VERDICT_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(
            "The pick and its limits; arrows walk the limits, Return changes one"
        )
        self._theme = theme
        self._sign = WingSign(theme, "quiet")
        self._seconds = PlainLabel()
        self._factor = ElidedLabel()
        self._settings = ElidedLabel()
        self._why = ElidedLabel()
        self._seconds.setFont(font(LARGE, bold=True))
        self._factor.setFont(font(NORMAL, bold=True))

        for label in (self._settings, self._why):
            label.setFont(font(SMALL))
            label.setProperty("quiet", True)

        for label in (self._factor, self._settings, self._why):
            label.setMinimumWidth(LEAST_WORDS_WIDTH)

        self._bars = {
            key: LimitBar(key, theme)
            for key in ("grain", "light_shift", "detail_kept", "stray_pixels")
        }
        self._told: tuple[TrialResult | None, Results | None] = (None, None)
        """what the other limits were shown of"""
        self._others: list[LimitBar] = []
        """limits of watch areas, worst places, time, memory and file"""
        for bar in self._bars.values():
            bar.edited.connect(self.limit_edited)

        self._measured = PlainLabel()
        self._measured.setFont(font(SMALL))
        self._measured.setProperty("quiet", True)
        self._measured.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._take = QPushButton("Take these settings")
        self._take.setAccessibleName("Take these settings")
        self._take.clicked.connect(self.take_wanted)
        self._try = QPushButton("Try it")
        self._try.clicked.connect(lambda: self.try_asked.emit(self._proposed))
        self._proposed: dict[str, Value] = {}
        words = QVBoxLayout()
        right = QVBoxLayout()

        for layout, widgets in (
            (words, (self._factor, self._settings)),
            (right, (self._measured, self._take, self._try)),
        ):
            layout.setSpacing(2)
            layout.setContentsMargins(0, 8, 0, 2)
            for widget in widgets:
                layout.addWidget(widget)

        row = QHBoxLayout()
        row.setSpacing(12)
        row.addWidget(self._sign)
        row.addWidget(self._seconds)
        row.addLayout(words, 30)
        self._bar_row = QHBoxLayout()
        self._bar_row.setSpacing(12)
        for bar in self._bars.values():
            self._bar_row.addWidget(bar, 10)

        row.addLayout(self._bar_row, 50)
        row.addLayout(right)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 0, 12, 4)
        column.setSpacing(0)
        column.addLayout(row, 1)
        column.addWidget(self._why)
        self._why.setContentsMargins(self._sign.width() + 12, 0, 0, 0)

    @property
    def bars(self) -> list[LimitBar]:
        """The limits that are shown, from left to right."""
        return [bar for bar in (*self._bars.values(), *self._others) if bar.isVisible()]

    def focusInEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        """The limits are one stop of the tab key; arrows walk them."""
        super().focusInEvent(event)
        if self.bars:
            self.bars[0].setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return

        bars = self.bars
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        at = next((k for k, bar in enumerate(bars) if bar.hasFocus()), None)

        if step is not None and at is not None:
            bars[min(len(bars) - 1, max(0, at + step))].setFocus()
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """More or fewer of the limits have room."""
        super().resizeEvent(event)
        self._show_others(*self._told)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        for bar in (*self._bars.values(), *self._others):
            bar.show_share(None, "", theme, 1.0)

    def show_view(self, model: ViewModel | None) -> None:
        """Show the pick, or what is missing before there is one."""
        snapshot = model.snapshot if model is not None else None
        results = model.results if model is not None else None
        pick = model.pick() if model is not None else None
        measuring = model is not None and model.activity.measuring

        self._take.setEnabled(pick is not None)
        self._take.setVisible(pick is not None)
        for bar in self._bars.values():
            bar.setVisible(pick is not None)

        self._measured.setVisible(pick is not None)
        self._sign.set_look(self._theme, "pick" if pick is not None else "quiet")

        if pick is None or results is None:
            self._seconds.setText("No pick yet")
            title, detail = missing_words(snapshot, results, measuring)
            self._factor.setText(title)
            self._settings.setText(detail)
            for label in (self._why, self._factor, self._measured):
                label.setToolTip("")  # of the state before

            self._why.setText(untouched_words(snapshot))
            found = snapshot.help if snapshot is not None and results is not None else None
            self._settings.setToolTip(
                plain_tip("\n".join(help_sentences(results, found))) if results and found else ""
            )
            self._propose(found, results)
            self._show_others(None, results)
            return

        self._try.setVisible(False)
        trial = pick.trial
        assert trial.seconds is not None
        self._seconds.setText(show_seconds(trial.seconds.value))
        seconds = show_with_interval(trial.seconds).partition(" ± ")[2]
        beside = f"± {seconds} s" if trial.seconds.value < 99.5 else f"± {seconds}"
        beside = beside if seconds else "one time"
        self._factor.set_forms(*(f"{beside} · {words}" for words in _compared(trial, results)))
        settings = trial.configuration.describe(None if trial.is_base else results.study.base)
        self._settings.setText(settings)
        self._settings.setToolTip(trial.configuration.describe(results.study.base, most=30))
        why = " · ".join(
            words for words in (untouched_words(snapshot), why_words(results, pick)) if words
        )
        self._why.setText(why)
        self._why.setToolTip(plain_tip(why))

        self._factor.setToolTip(
            ""
            if trial.times_faster is None
            else (
                f"{trial.times_faster.low:.2f} to {trial.times_faster.high:.2f} times as fast, "
                "with 95 % confidence"
            )
        )
        for key, bar in self._bars.items():
            figure = trial.figures.get(key)
            share = trial.shares.get(key)
            bar.setVisible(share is not None)

            if figure is not None and share is not None:
                text = show_limit(key, figure, results.wanted[key], short=True)
                if key == "detail_kept":
                    text += f" ≥ {results.limits.detail_kept:.3g} %"
                elif key != "stray_pixels":
                    text += f" {KINDS[key].unit}"

                bar.show_share(
                    share, text, self._theme, results.line, limit=dict(results.limits.items())[key]
                )

        self._show_others(trial, results)
        how = "timed" if trial.derived else "measured"
        begun = "so far, " if so_far(results) else ""
        measured = f"{begun}{how} {len(trial.runs)}×, {show_ties(pick)}"
        self._measured.setText(
            measured if results.line == 1.0 else f"what if: {results.line:.2g}× the limits"
        )
        told = [
            *pick_sentences(
                results, pick, snapshot.without_changes if snapshot is not None else None
            ),
            *(snapshot.search_words if snapshot is not None else ()),
        ]
        self._measured.setToolTip(plain_tip("\n".join(line.strip() for line in told)))

    def _show_others(self, trial: TrialResult | None, results: Results | None) -> None:
        """Bars of all other limits in force, the closest first, as many as have room; the last one
        tells of the rest."""
        self._told = (trial, results)
        keys = [] if trial is None else [key for key in trial.shares if key not in self._bars]
        if trial is not None:
            keys.sort(key=lambda key: -trial.shares[key].value)

        own = sum(trial is not None and key in trial.shares for key in self._bars)
        room = max(1, (self.width() - NOT_BARS_WIDTH) // (BAR_WIDTH + 12) - own)

        while len(self._others) < min(room, len(keys)):
            self._others.append(LimitBar("rms", self._theme))
            self._bar_row.addWidget(self._others[-1], 10)

        for k, bar in enumerate(self._others):
            bar.setVisible(k < min(room, len(keys)))

        if trial is None or results is None:
            return

        for k, bar in enumerate(self._others[: min(room, len(keys))]):
            figure = trial.figures[keys[k]]
            assert figure is not None
            text = show_limit(keys[k], figure, results.wanted[keys[k]], short=True)
            bar.show_share(trial.shares[keys[k]], text, self._theme, results.line, keys[k])

        if len(keys) > room:
            told = [
                f"{quantity(key).label}: {trial.shares[key].value:.0%} of its limit"
                for key in keys[room - 1 :]
            ]
            self._others[room - 1].setToolTip(plain_tip("\n".join(told)))
            self._others[room - 1].tell_more(len(keys) - room)

    def _propose(self, found: Help | None, results: Results | None) -> None:
        """Offer the trial that may meet the limits, where there is no pick."""
        self._proposed = {}
        if found is not None and results is not None and found.proposal is not None:
            self._proposed = found.proposal.differences(results.study.base)

        self._try.setVisible(bool(self._proposed))
        self._try.setAccessibleName("Try what may meet the limits")


def untouched_words(snapshot: Snapshot | None) -> str:
    """That most of the time goes where nothing that is tried acts, where it does."""
    return snapshot.untouched_words if snapshot is not None else ""


def _compared(trial: TrialResult, results: Results) -> tuple[str, ...]:
    """How the pick compares with the base, in ever fewer words."""
    if trial.is_base and alone_so_far(results):
        return (
            "today's settings are acceptable, nothing else is measured yet",
            "today's are acceptable",
            "as today",
        )
    if trial.is_base:
        return (
            "today's settings are the fastest acceptable",
            "today's are the fastest acceptable",
            "as today",
        )

    whole = show_factor(trial.times_faster, True)
    short = show_factor(trial.times_faster)
    return (
        whole,
        *(words.removesuffix(" than base").removesuffix(" from base") for words in (whole, short)),
    )


def why_words(results: Results, pick: Pick) -> str:
    """Why not faster, and what is as good."""
    nearest = pick.next_faster
    base = results.study.base

    if nearest is None or nearest.seconds is None:
        why = f"why not faster: {pick.reason}"
    else:
        settings = nearest.configuration.describe(base, most=3)
        why = f"next faster: {settings}, {show_seconds(nearest.seconds.value)}: {pick.reason}"

    tied = ", ".join(trial.configuration.describe(base, most=3) for trial in pick.ties[:2])
    more = f" and {len(pick.ties) - 2} more" if len(pick.ties) > 2 else ""
    return f"{why} · as fast and acceptable: {tied}{more}" if tied else why


def missing_words(
    snapshot: Snapshot | None, results: Results | None, measuring: bool
) -> tuple[str, str]:
    """What stands between the study and a pick."""
    if snapshot is None or results is None:
        return "opening the study", ""
    if snapshot.problem is not None:
        return "this study cannot be measured", snapshot.problem
    if snapshot.reference is None:
        return (
            "needs a reference first",
            "the first render makes it" if measuring else "Measure renders it before the trials",
        )

    measured = len(results.on_map)
    found = snapshot.help
    if found is None and measured:
        return f"{measured} of {len(results.trials)} trials measured", not_known(results)
    if found is None:
        return (
            "needs the first trials",
            "rendering them now" if measuring else "Measure renders them",
        )

    closest = (
        "the base"
        if found.closest.is_base
        else found.closest.configuration.describe(results.study.base)
    )
    failing = f": {found.failing[0]}" if found.failing else ""

    return (
        f"{measured} of {len(results.trials)} trials measured, none is certain to meet every limit",
        f"closest: {closest}{failing}; {found.words}",
    )
