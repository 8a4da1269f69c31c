"""Renders that are finished: a table of dropped pictures to complete, and a reference, become a
study."""

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.renderers.finished.rows import Row, seconds_of
from swift_sample.core.renderers.finished.table import SUFFIXES, guess_rows, told_apart
from swift_sample.core.study.package.finished import finished_plan
from swift_sample.core.study.plan.model import Study
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import PlainLabel

FIXED = ("Picture", "Seconds")
OTHER = "Another picture …"
SLOWEST = "the slowest of them"


class FinishedRenders(QDialog):
    """The dialog; `chosen` has the plan, the rows and the reference."""

    chosen = pyqtSignal(object, object, object)

    def __init__(self, rows: Sequence[Row], source: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Finished renders")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(880, 560)
        self._pictures = [row.picture for row in rows]
        self._source = source
        names = list(dict.fromkeys(name for row in rows for name in row.values))
        self.table = QTableWidget(len(rows), 2 + len(names))
        self.table.setHorizontalHeaderLabels([*FIXED, *names])
        self.table.setAccessibleName("Renders, how long each took, and with which settings")
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)

        for number, row in enumerate(rows):
            picture = QTableWidgetItem(row.picture.name)
            picture.setFlags(picture.flags() & ~Qt.ItemFlag.ItemIsEditable)
            picture.setToolTip(str(row.picture))
            self.table.setItem(number, 0, picture)
            self.table.setItem(
                number, 1, QTableWidgetItem(f"{row.seconds:g}" if row.seconds > 0 else "")
            )
            for place, name in enumerate(names, 2):
                self.table.setItem(number, place, QTableWidgetItem(row.values.get(name, "")))

        add = QPushButton("Add a column …")
        remove = QPushButton("Leave out")
        add.setToolTip("Another setting that differed between them")
        remove.setToolTip("Leave out the chosen renders")
        add.clicked.connect(self._add_column)
        remove.clicked.connect(self._leave_out)
        self.reference = QComboBox()
        self.today = QComboBox()
        self.reference.setAccessibleName("The picture that the others are compared with")
        self.today.setAccessibleName("Which of them are today's settings")
        self.reference.activated.connect(self._on_reference)
        self._fill_choices()
        choices = QHBoxLayout()
        choices.addWidget(PlainLabel("Compared with"))
        choices.addWidget(self.reference, 1)
        choices.addSpacing(12)
        choices.addWidget(PlainLabel("Today"))
        choices.addWidget(self.today, 1)
        self._state = quiet("")
        self.measure = QPushButton("Measure them")
        cancel = QPushButton("Cancel")
        self.measure.setProperty("main", True)
        self.measure.clicked.connect(self._measure)
        cancel.clicked.connect(self.reject)
        edit = QHBoxLayout()
        last = QHBoxLayout()
        edit.addWidget(add)
        edit.addWidget(remove)
        edit.addStretch(1)
        last.addWidget(self._state, 1)
        last.addWidget(cancel)
        last.addWidget(self.measure)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 16)
        whole.setSpacing(10)

        whole.addWidget(
            quiet(
                "What the pictures tell of themselves is filled in: headers, numbers in names, "
                "folders. Complete the seconds "
                "and the settings; the picture that the others are compared with is no render to "
                "choose."
            )
        )
        whole.addWidget(self.table, 1)
        whole.addLayout(edit)
        whole.addLayout(choices)
        whole.addLayout(last)

    def _fill_choices(self) -> None:
        names = [picture.name for picture in self._pictures]
        before = self.reference.currentData()
        self.reference.clear()
        for picture in self._pictures:
            self.reference.addItem(picture.name, picture)

        if isinstance(before, Path) and before not in self._pictures:
            self.reference.addItem(before.name, before)

        self.reference.addItem(OTHER, None)
        self.reference.setCurrentIndex(
            max(0, self.reference.findData(before)) if before is not None else self._likely()
        )
        self.today.clear()
        self.today.addItems([SLOWEST, *names])

    def _likely(self) -> int:
        """The picture whose name says that it is the reference, else the last entry."""
        said = [
            k
            for k, picture in enumerate(self._pictures)
            if any(w in picture.stem.lower() for w in ("reference", "truth"))
        ]
        return said[0] if said else len(self._pictures)

    def _on_reference(self) -> None:
        if self.reference.currentData() is None:
            kinds = f"Pictures ({' '.join('*' + suffix for suffix in SUFFIXES)})"
            path, _ = QFileDialog.getOpenFileName(self, "Compared with", str(self._source), kinds)

            if path:
                self.reference.insertItem(0, Path(path).name, Path(path))
                self.reference.setCurrentIndex(0)

    def _add_column(self) -> None:
        name, said = QInputDialog.getText(self, "Add a column", "The setting's name")
        if said and name.strip():
            self.add_column(name.strip())

    def add_column(self, name: str) -> None:
        """Another setting, empty so far."""
        place = self.table.columnCount()
        self.table.insertColumn(place)
        self.table.setHorizontalHeaderItem(place, QTableWidgetItem(name))
        for row in range(self.table.rowCount()):
            self.table.setItem(row, place, QTableWidgetItem(""))

    def _leave_out(self) -> None:
        for row in sorted({index.row() for index in self.table.selectedIndexes()}, reverse=True):
            self.table.removeRow(row)
            del self._pictures[row]
        self._fill_choices()

    def rows(self) -> list[Row]:
        """What the table says, without the reference. Raises UsageError or ValueError."""
        reference = self.reference.currentData()
        rows = []
        header = [self.table.horizontalHeaderItem(k) for k in range(self.table.columnCount())]
        names = [item.text() if item is not None else "" for item in header]

        for number, picture in enumerate(self._pictures):
            if picture == reference:
                continue
            texts = [
                item.text() if (item := self.table.item(number, k)) is not None else ""
                for k in range(len(names))
            ]
            if not texts[1].strip():
                raise ValueError(f"{picture.name}: type in how long it took")
            values = dict(zip(names[2:], texts[2:], strict=True))
            rows.append(Row(picture=picture, seconds=seconds_of(texts[1]), values=values))

        return told_apart(rows, self._source)

    def _measure(self) -> None:
        reference = self.reference.currentData()
        if not isinstance(reference, Path):
            self._state.setText("Choose the picture that the others are compared with.")
            return

        try:
            rows = self.rows()
            today = self.today.currentIndex() - 1
            base = next(
                (
                    k
                    for k, row in enumerate(rows)
                    if today >= 0 and row.picture == self._pictures[today]
                ),
                -1,
            )
            plan: Study = finished_plan(
                self._source.stem or "Finished renders", self._source, rows, base
            )
        except (SwiftSampleError, ValueError) as error:
            words = one_line(error)
            self._state.setText(words[:1].upper() + words[1:])
            return

        self.chosen.emit(plan, rows, reference)
        self.accept()


def rows_of_pictures(paths: Sequence[Path]) -> tuple[list[Row], Path]:
    """Rows of dropped pictures, and the folder that they are in."""
    folder = paths[0].parent
    for path in paths[1:]:
        while not path.is_relative_to(folder):
            folder = folder.parent

    rows, _ = guess_rows(paths, folder)
    return rows, folder
