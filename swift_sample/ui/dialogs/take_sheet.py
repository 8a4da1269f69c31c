"""The sheet on which settings are taken away: in four forms, with the evidence beneath."""

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QFontDatabase
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from swift_sample.core.settings.forms import FORMS, told_as
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.pick_report import pick_sentences
from swift_sample.core.study.answers.results import Results
from swift_sample.ui.theme import NORMAL, font
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import PlainLabel

FILES = {
    "reading list": ("settings.txt", "Text (*.txt)"),
    "preset": ("settings.toml", "Presets (*.toml)"),
    "JSON": ("settings.json", "JSON (*.json)"),
    "command line": ("render.sh", "Shell scripts (*.sh)"),
}


class TakeSheet(QDialog):
    """The pick's settings: copy, save, or make them the base."""

    base_wanted = pyqtSignal()
    said = pyqtSignal(str)

    def __init__(self, results: Results, pick: Pick, command: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        study = results.study
        trial = pick.trial
        self.setWindowTitle("Take these settings")
        self.resize(620, 560)
        self._texts = {
            form: told_as(form, trial.configuration, study.base, command) for form in FORMS
        }
        self._form = FORMS[0]
        title = PlainLabel("Take these settings")
        title.setFont(font(NORMAL + 3, bold=True))
        forms = QHBoxLayout()
        forms.setSpacing(16)
        group = QButtonGroup(self)

        for form in FORMS:
            button = QPushButton(form)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setChecked(form == self._form)
            button.clicked.connect(lambda _, chosen=form: self.show_form(chosen))
            group.addButton(button)
            forms.addWidget(button)

        forms.addStretch(1)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setAccessibleName("The settings")
        evidence = quiet("\n".join(line.strip() for line in pick_sentences(results, pick)))
        copy, save, base, close = (
            QPushButton(words) for words in ("Copy", "Save …", "Make it the base", "Close")
        )
        copy.setProperty("main", True)
        copy.setDefault(True)
        copy.clicked.connect(self.copy)
        save.clicked.connect(self._choose_file)
        base.setEnabled(not trial.is_base)
        base.clicked.connect(self._take_as_base)
        close.clicked.connect(self.reject)
        row = QHBoxLayout()
        for button in (copy, save, base):
            row.addWidget(button)

        row.addStretch(1)
        row.addWidget(close)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 16, 20, 16)
        column.setSpacing(10)
        column.addWidget(title)
        column.addLayout(forms)
        column.addWidget(self.text, 1)
        column.addWidget(quiet("Why these"))
        column.addWidget(evidence)
        column.addLayout(row)
        self.show_form(self._form)

    def show_form(self, form: str) -> None:
        """Show one of FORMS."""
        self._form = form
        fixed = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        self.text.setFont(font(NORMAL) if form == "reading list" else fixed)
        self.text.setPlainText(self._texts[form])

    def copy(self) -> None:
        """Put what is shown on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._texts[self._form])
            self.said.emit(f"Copied as {self._form}")

    def save(self, path: Path) -> None:
        """Write what is shown into a file; what goes wrong is said."""
        try:
            path.write_text(self._texts[self._form] + "\n", encoding="utf-8")
            self.said.emit(f"Saved in {path}")
        except OSError as error:
            self.said.emit(f"{path}: cannot be written ({error.strerror})")

    def _choose_file(self) -> None:
        name, kinds = FILES[self._form]
        chosen, _ = QFileDialog.getSaveFileName(self, "Save these settings", name, kinds)
        if chosen:
            self.save(Path(chosen))

    def _take_as_base(self) -> None:
        self.base_wanted.emit()
        self.accept()
