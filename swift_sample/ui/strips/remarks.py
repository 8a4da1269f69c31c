"""Two lines above the study: why what is shown may not be what is expected, with what can be done;
and what went wrong."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout, QPushButton

from swift_sample.app.view_model import ViewModel
from swift_sample.core.study.log.identity import Place
from swift_sample.ui.theme import SMALL, font
from swift_sample.ui.widgets.words import PlainLabel


class RemarkBar(QFrame):
    """Results that a change put out of sight, or that are looked at again; hidden where there is
    nothing to say."""

    place_wanted = pyqtSignal(object)
    versions_wanted = pyqtSignal()
    dismissed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self._place: Place | None = None
        self._words = PlainLabel()
        self._words.setWordWrap(True)
        self._words.setFont(font(SMALL))
        self._go = QPushButton()
        self._all = QPushButton("All versions …")
        self._dismiss = QPushButton("Dismiss")
        self._go.clicked.connect(lambda: self.place_wanted.emit(self._place))
        self._all.clicked.connect(self.versions_wanted)
        self._dismiss.clicked.connect(self.dismissed)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 6, 12, 6)
        row.addWidget(self._words, 1)
        row.addWidget(self._go)
        row.addWidget(self._all)
        row.addWidget(self._dismiss)
        self.hide()

    def show_view(self, model: ViewModel | None) -> None:
        """Say it of a study, or nothing. What measuring is about to mend is no remark meanwhile."""
        snapshot = model.snapshot if model is not None else None
        measuring = model is not None and model.activity.measuring

        remarks = snapshot.remarks if snapshot is not None else ()
        if snapshot is not None and measuring:
            remarks = tuple(text for text in remarks if text != snapshot.unmeasured_words)

        self.setVisible(bool(remarks))
        if snapshot is None or not remarks:
            return

        self._words.setText(" · ".join(text[0].upper() + text[1:] + "." for text in remarks))
        hidden = snapshot.hidden
        back = snapshot.state.shown is not None and snapshot.state.here is not None

        if back:
            self._place = None
        elif hidden is not None:
            self._place = hidden.place
        else:
            self._place = None

        self._go.setText("Back to the scene as it is now" if back else "Look at those results")
        self._go.setVisible(back or hidden is not None)
        self._dismiss.setVisible(bool(snapshot.ended_early))
        self._all.setVisible(len(snapshot.versions) > 1 or hidden is not None)


class ErrorCard(QFrame):
    """An error that nobody expected: what can be said of it, where it is saved, and a way to hand
    it on."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self._details = ""
        self._words = PlainLabel()
        self._words.setWordWrap(True)
        copy = QPushButton("Copy")
        dismiss = QPushButton("Dismiss")
        copy.setToolTip("Copy what happened, to send it with a report")
        copy.clicked.connect(self._copy)
        dismiss.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 6, 12, 6)
        row.addWidget(self._words, 1)
        row.addWidget(copy)
        row.addWidget(dismiss)
        self.hide()

    @property
    def words(self) -> str:
        return self._words.text()

    def show_error(self, words: str, details: str) -> None:
        """Stand there until it is dismissed."""
        self._words.setText(words)
        self._details = details
        self.show()

    def _copy(self) -> None:
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._details)
