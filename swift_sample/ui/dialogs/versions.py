"""Which versions of scene, size, frame and renderer were measured; one can be looked at."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.ui.widgets.words import PlainLabel


class VersionsDialog(QDialog):
    """A list, the latest on top."""

    place_wanted = pyqtSignal(object)

    def __init__(self, snapshot: Snapshot, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("What was measured of which version")
        self.resize(760, 360)
        self._versions = snapshot.versions
        self.list = QListWidget()

        for version in self._versions:
            self.list.addItem(
                version.words
                + (", as it is now" if version.is_here else "")
                + (" · shown" if version.place == snapshot.state.place else "")
            )

        look = QPushButton("Look at these results")
        close = QPushButton("Close")
        look.setProperty("main", True)
        look.setEnabled(bool(self._versions))
        look.clicked.connect(self._choose)
        close.clicked.connect(self.reject)
        self.list.itemDoubleClicked.connect(lambda _: self._choose())
        self.list.setCurrentRow(0)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(look)
        row.addWidget(close)
        column = QVBoxLayout(self)

        column.addWidget(
            PlainLabel(
                "Results of different versions never mix. Those of an earlier one come back when "
                "scene, size and frame are as they were then."
                if self._versions
                else "Nothing was measured yet."
            )
        )
        column.addWidget(self.list, 1)
        column.addLayout(row)

    def _choose(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._versions):
            self.place_wanted.emit(self._versions[row].place)
            self.accept()
