"""What a person says of a trial: its name, a note, and why it is left out."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from swift_sample.core.study.plan.model import LONGEST_NAME, LONGEST_NOTE, Remark
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import PlainLabel


class RemarkDialog(QDialog):
    """Fields for one trial. `remarked` gives what was said once it is taken."""

    remarked = pyqtSignal(object)

    def __init__(self, what: str, remark: Remark, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Name and note")
        self.setMinimumWidth(360)
        self.name = QLineEdit(remark.name)
        self.left_out = QLineEdit(remark.left_out)
        self.note = QPlainTextEdit(remark.note)
        self.name.setMaxLength(LONGEST_NAME)
        self.left_out.setMaxLength(LONGEST_NOTE)
        self.left_out.setPlaceholderText("counts; write a reason to leave it out")
        self.note.setFixedHeight(84)
        self.note.setTabChangesFocus(True)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.setSpacing(4)
        column.addWidget(quiet(what))

        for words, field in (
            ("Name", self.name),
            ("Note", self.note),
            ("Left out because", self.left_out),
        ):
            column.addSpacing(6)
            label = PlainLabel(words)
            label.setBuddy(field)
            field.setAccessibleName(words)
            column.addWidget(label)
            column.addWidget(field)

        column.addWidget(
            quiet(
                "A trial that is left out is not rendered any more and never the pick; what "
                "was measured stays."
            )
        )
        column.addWidget(buttons)

    def accept(self) -> None:
        """Give what was said, and close."""
        note = self.note.toPlainText().strip()[:LONGEST_NOTE]
        self.remarked.emit(Remark(self.name.text().strip(), note, self.left_out.text().strip()))
        super().accept()
