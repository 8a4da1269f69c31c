"""What is known of a trial, or expected of one, in a card beside its mark."""

from html import escape
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from swift_sample.core.study.answers.acceptance import quantity, show_limit
from swift_sample.core.study.answers.pick_report import (
    failure_words,
    show_factor,
    show_phases,
    show_seconds,
    show_with_half,
)
from swift_sample.core.study.answers.results import Results, show_error
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.ui.theme import NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.words import PlainLabel

if TYPE_CHECKING:
    from swift_sample.core.study.answers.field import FieldPoint
    from swift_sample.core.study.search.search import Outlook

CARD_WIDTH = 300


class TrialCard(QFrame):
    """What is known of the trial under the pointer."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._picture = PlainLabel()
        self._title = PlainLabel()
        self._text = QLabel()
        self._title.setFont(font(NORMAL, bold=True))
        self._title.setWordWrap(True)
        self._text.setFont(font(SMALL))
        self._text.setTextFormat(Qt.TextFormat.RichText)
        self._text.setWordWrap(True)
        self._text.setFixedWidth(CARD_WIDTH)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.setSpacing(4)
        for label in (self._picture, self._title, self._text):
            column.addWidget(label)

        self.hide()

    def show_trial(
        self,
        trial: TrialResult,
        results: Results,
        picture: QPixmap | None,
        theme: Theme,
        at: QPoint,
        earlier: bool = False,
    ) -> None:
        """`earlier` trials are not planned any more."""
        self._picture.setVisible(picture is not None)
        if picture is not None:
            self._picture.setPixmap(picture)

        assert trial.seconds is not None
        name = trial.remark.name or ("base" if trial.is_base else "")
        self._title.setText(show_with_half(trial.seconds) + (f" · {name}" if name else ""))
        lines = [
            escape(
                trial.configuration.describe(None if trial.is_base else results.study.base, most=8)
            )
        ]

        if not trial.is_base:
            lines.append(show_factor(trial.times_faster))

        for key, share in trial.shares.items():
            text = escape(f"{quantity(key).label} {show_error(key, trial, results)}")
            lines.append(
                f"<span style='color:{theme.over}'>{text}</span>"
                if share.value > results.line
                else text
            )

        lines.append(f"<span style='color:{theme.quiet}'>{show_phases(trial)}</span>")
        forbidden = f", {escape(trial.forbidden)}" if trial.forbidden else ""
        lines.append(f"{trial.verdict}{forbidden}, measured {len(trial.runs)}×")

        if trial.failed:
            lines.append(escape(failure_words(trial)))
        if earlier:
            lines.append("of an earlier plan: not rendered any more, and never the pick")
        if trial.remark.note:
            lines.append(f"<i>{escape(trial.remark.note)}</i>")

        self._stand(lines, at)

    def show_outlook(self, outlook: "Outlook", results: Results, theme: Theme, at: QPoint) -> None:
        """A prediction, in words that cannot be taken for a measurement."""
        self._picture.hide()
        self._title.setText("expected, not measured")
        seconds = outlook.seconds
        share = outlook.share
        chance = "to beat the pick" if results.pick() is not None else "to be acceptable"

        self._stand(
            [
                escape(outlook.configuration.describe(results.study.base, most=8)),
                (
                    f"about {show_seconds(seconds.value)}, from {seconds.low:.2g} to "
                    f"{show_seconds(seconds.high)}"
                ),
                f"about {share.value:.2g} of the limits, from {share.low:.2g} to {share.high:.2g}",
                f"<span style='color:{theme.quiet}'>{outlook.chance:.0%} chance {chance}</span>",
            ],
            at,
        )

    def show_point(self, point: "FieldPoint", results: Results, theme: Theme, at: QPoint) -> None:
        """A combination that was derived: its figures are measured, its time is foreseen."""
        self._picture.hide()
        seconds = point.seconds
        assert seconds is not None
        self._title.setText(f"about {show_seconds(seconds.value)}, foreseen")
        lines = [
            escape(point.configuration.describe(results.study.base, most=8)),
            (
                f"<span style='color:{theme.quiet}'>{show_seconds(seconds.low)} to "
                f"{show_seconds(seconds.high)} with 90 %, not timed</span>"
            ),
        ]

        for key, share in point.shares.items():
            figure = point.figures.get(key)
            if figure is None:
                continue

            told = show_limit(key, figure, results.wanted[key])
            text = escape(f"{quantity(key).label} {told}")
            over = share.value > results.line
            lines.append(f"<span style='color:{theme.over}'>{text}</span>" if over else text)

        lines.append(f"{point.standing.verdict(results.line)}, measured of derived pictures")
        self._stand(lines, at)

    def _stand(self, lines: list[str], at: QPoint) -> None:
        """Show these lines beside a place, inside the window."""
        self._text.setText("<br>".join(lines))
        layout = self.layout()
        parent = self.parentWidget()
        assert layout is not None
        assert parent is not None
        layout.activate()
        self.resize(layout.sizeHint())
        x = (
            at.x() + 18
            if at.x() + 18 + self.width() < parent.width()
            else at.x() - 18 - self.width()
        )
        y = min(max(4, at.y() - self.height() // 2), parent.height() - self.height() - 4)
        self.move(max(4, x), y)
        self.show()
        self.raise_()
