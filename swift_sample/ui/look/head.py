"""What stands above a picture: which trial it is, and a list to choose another one."""

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QWidget

from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.marks import mark_of, mark_role, paint_mark, wing
from swift_sample.ui.widgets.scopes_panel import DASHES, ROLES
from swift_sample.ui.widgets.words import PlainLabel

REFERENCE = "reference"
"""Stands for the reference where the name of a trial is expected."""
HEAD_HEIGHT = 32


class TrialHead(QWidget):
    """Which trial a pane shows: its mark, time and settings, and a list to choose another one."""

    chosen = pyqtSignal(str)
    note_wanted = pyqtSignal()

    def __init__(
        self, theme: Theme, with_reference: bool = True, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._with_reference = with_reference
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme = theme
        self._trial: TrialResult | None = None
        self._is_pick = self._is_current = False
        self._line: int | None = None
        self._side = PlainLabel()
        self._side.setFont(font(SMALL, bold=True))
        self._side.hide()
        self._list = QComboBox()
        self._list.setFont(font(SMALL))
        self._list.setSizeAdjustPolicy(
            QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
        )
        self._list.setStyleSheet("border: none;")
        self._list.setMinimumWidth(60)
        self._list.setAccessibleName("Trial shown")
        self._list.activated.connect(lambda _: self.chosen.emit(self._list.currentData()))
        self._note = QPushButton("✎")
        self._note.setFixedWidth(24)
        self._note.setStyleSheet("padding: 0;")
        self._note.setAccessibleName("Name and note of this trial")
        self._note.clicked.connect(self.note_wanted)
        row = QHBoxLayout(self)
        row.setContentsMargins(34, 0, 4, 0)
        row.setSpacing(6)
        row.addWidget(self._side)
        row.addWidget(self._list, 1)
        row.addWidget(self._note)
        self._note.setVisible(with_reference)
        self.setFixedHeight(HEAD_HEIGHT)

    def show_choice(
        self, results: Results, trial_id: str, theme: Theme, others: Sequence[tuple[str, str]] = ()
    ) -> None:
        """Show one of the reference, the trials, and `others` (words, name)."""
        self._theme = theme
        pick = results.pick()
        self._trial = results.by_id.get(trial_id)
        self._is_pick = pick is not None and pick.trial.id == trial_id
        wanted = [("reference", REFERENCE)] if self._with_reference else []

        for trial in sorted(
            (t for t in results.trials if t.seconds is not None),
            key=lambda t: t.seconds.value if t.seconds else 0,
        ):
            assert trial.seconds is not None
            prefix = "pick: " if pick is not None and trial.id == pick.trial.id else ""
            wanted.append(
                (
                    (
                        f"{show_seconds(trial.seconds.value)}   "
                        f"{prefix}{trial.called(results.study.base)}"
                    ),
                    trial.id,
                )
            )

        wanted += others
        if [
            (self._list.itemText(k), self._list.itemData(k)) for k in range(self._list.count())
        ] != wanted:
            self._list.clear()
            for words, value in wanted:
                self._list.addItem(words, value)

        self._list.setCurrentIndex(self._list.findData(trial_id))
        if self._with_reference:
            self._note.setVisible(self._trial is not None)

        note = self._trial.remark.note if self._trial is not None else ""
        self._note.setToolTip(note or "Name and note …")
        self.update()

    @property
    def words(self) -> str:
        """What the list shows now."""
        return self._list.currentText()

    def set_side(self, words: str) -> None:
        """Say which side of a pair this is; "" where there is none."""
        self._side.setText(words)
        self._side.setVisible(bool(words))

    def set_line(self, place: int | None) -> None:
        """Say which line of the scopes is this picture's; None while there are none."""
        if place != self._line:
            self._line = place
            self.update()

    def set_current(self, current: bool) -> None:
        """Underline the one that blinks up now."""
        if current != self._is_current:
            self._is_current = current
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            if self._line is not None and self._line < len(ROLES):
                painter.setPen(QPen(self._theme.colour(ROLES[self._line]), 2.5, DASHES[self._line]))
                painter.drawLine(8, self.height() - 4, 64, self.height() - 4)

            if self._is_current:
                painter.fillRect(0, self.height() - 3, self.width(), 3, self._theme.colour("ink"))

        if self._trial is not None:
            path = wing() if self._is_pick else mark_of(self._trial.verdict, self._trial.is_base)
            role = "pick" if self._is_pick else mark_role(self._trial.verdict, self._trial.is_base)
            with QPainter(self) as painter:
                paint_mark(
                    painter,
                    path,
                    QPointF(20, self.height() / 2),
                    22 if self._is_pick else 12,
                    self._theme,
                    role,
                )
