"""Use another renderer: pick its file or fill one in, see what it starts, prove it on a scene, and
begin with it."""

import math
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QPixmap
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.proving import Proving
from swift_sample.app.toning import to_image
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.files import written_whole
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.command.check import BAD, GOOD, Checked, command_line
from swift_sample.core.renderers.command.renderer import CommandRenderer
from swift_sample.core.renderers.command.starting import EXAMPLE, FormSetting, starting_file
from swift_sample.core.renderers.command.trust import confirm, is_confirmed
from swift_sample.core.renderers.registry import renderer_in
from swift_sample.ui.theme import NORMAL, SMALL, font
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.words import PlainLabel

TEST_SIZE = (192, 108)
SHOWN_SIZE = (320, 180)
SIGNS = {GOOD: "good", BAD: "wrong", "note": "note"}
COLUMNS = ("Setting", "Today", "Values to try", "Given to it as")
SUFFIXES = {
    ".exr": "EXR, light",
    ".png": "PNG, as shown",
    ".jpg": "JPEG, as shown",
    ".tif": "TIFF, as shown",
}


class OtherRenderer(QDialog):
    """The dialog; `chosen` has the renderer file and the scene to begin with."""

    chosen = pyqtSignal(str, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Use another renderer")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(980, 660)
        self._renderer: CommandRenderer | None = None
        self._proving = Proving(self)
        self._proving.told.connect(
            lambda words: self._state.setText(f"{words[0].upper()}{words[1:]} …")
        )
        self._proving.checked.connect(self._on_checked)
        self._proving.shown.connect(self._on_shown)
        self._proving.ended.connect(self._on_ended)
        self.file = QLineEdit()
        self.scene = QLineEdit()
        self.file.setPlaceholderText("A renderer file (.toml)")
        self.file.setAccessibleName("Renderer file")
        self.scene.setPlaceholderText("A scene that it renders")
        self.scene.setAccessibleName("Scene")
        for line in (self.file, self.scene):
            line.editingFinished.connect(self.refresh)

        choose_file = QPushButton("Choose …")
        choose_scene = QPushButton("Choose …")
        choose_file.setAccessibleName("Choose a renderer file")
        choose_scene.setAccessibleName("Choose a scene")
        choose_file.clicked.connect(self._choose_file)
        choose_scene.clicked.connect(self._choose_scene)
        self._fill = QPushButton("Fill one in …")
        self._fill.setCheckable(True)
        self._fill.setToolTip("For a program that no renderer file describes yet")
        self._fill.toggled.connect(self._show_form)
        top = QGridLayout()
        top.setColumnStretch(1, 1)
        rows: tuple[tuple[str, QLineEdit, tuple[QPushButton, ...]], ...] = (
            ("Renderer", self.file, (choose_file, self._fill)),
            ("Scene", self.scene, (choose_scene,)),
        )

        for row, (words, line, buttons) in enumerate(rows):
            top.addWidget(PlainLabel(words), row, 0)
            top.addWidget(line, row, 1)
            for place, button in enumerate(buttons):
                top.addWidget(button, row, 2 + place)

        self._form = self._make_form()
        self._form.hide()
        self._starts = quiet("")
        self._starts.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.may = QCheckBox("I have seen this, and it may be started")
        self.may.toggled.connect(self._on_may)
        self.test = QPushButton("Test it")
        self._state = quiet("")
        self.test.clicked.connect(self._test)
        self._results = QVBoxLayout()
        self._results.setSpacing(4)
        results = QWidget()
        column = QVBoxLayout(results)
        column.setContentsMargins(0, 0, 8, 0)
        column.addLayout(self._results)
        column.addStretch(1)
        self._picture = PlainLabel()
        self._picture.setMinimumSize(*SHOWN_SIZE)
        self._picture.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight)
        found = QHBoxLayout()
        found.addWidget(scrolled(results), 1)
        found.addWidget(self._picture)
        tested = QHBoxLayout()
        tested.addWidget(self.test)
        tested.addWidget(self._state, 1)
        self.begin = QPushButton("Begin with it")
        cancel = QPushButton("Cancel")
        self.begin.setProperty("main", True)
        self.begin.clicked.connect(self._begin)
        cancel.clicked.connect(self.reject)
        last = QHBoxLayout()
        last.addStretch(1)
        last.addWidget(cancel)
        last.addWidget(self.begin)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 16)
        whole.setSpacing(10)

        whole.addWidget(
            quiet(
                "Any program that renders from a command line can be measured and searched. A "
                "renderer file says how it is "
                "started and what can be set."
            )
        )
        whole.addLayout(top)
        whole.addWidget(self._form)
        whole.addWidget(self._starts)
        whole.addWidget(self.may)
        whole.addLayout(tested)
        whole.addLayout(found, 1)
        whole.addLayout(last)
        self.refresh()

    def _make_form(self) -> QWidget:
        form = QWidget()
        self.name = QLineEdit("mine")
        self.command = QLineEdit()
        self.suffix = QComboBox()
        self.name.setAccessibleName("Its name, in small letters")
        self.command.setAccessibleName("Its command line")
        self.command.setPlaceholderText(
            "program --scene {scene} --out {picture} --size {width} {height} --seed {seed} "
            "{arguments}"
        )
        for suffix, words in SUFFIXES.items():
            self.suffix.addItem(words, suffix)

        self.settings = QTableWidget(0, len(COLUMNS))
        self.settings.setHorizontalHeaderLabels(COLUMNS)
        self.settings.setAccessibleName("Its settings; the first one is its samples")
        header = self.settings.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.settings.setMinimumHeight(120)
        for one in EXAMPLE:
            self._add_setting(one)

        add = QPushButton("Add a setting")
        write = QPushButton("Write the file …")
        add.clicked.connect(lambda: self._add_setting(FormSetting("", "", "", "")))
        write.clicked.connect(lambda _: self.write_file())
        grid = QGridLayout(form)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setColumnStretch(1, 1)

        for row, (words, widget) in enumerate(
            (("Name", self.name), ("Command", self.command), ("Writes", self.suffix))
        ):
            grid.addWidget(PlainLabel(words), row, 0)
            grid.addWidget(widget, row, 1)

        grid.addWidget(quiet("Settings; the first is how many samples a pixel it takes."), 3, 1)
        grid.addWidget(self.settings, 4, 1)
        buttons = QHBoxLayout()
        buttons.addWidget(add)
        buttons.addStretch(1)
        buttons.addWidget(write)
        grid.addLayout(buttons, 5, 1)

        return form

    def _add_setting(self, one: FormSetting) -> None:
        row = self.settings.rowCount()
        self.settings.insertRow(row)
        for column, text in enumerate((one.label, one.today, one.tried, one.words)):
            self.settings.setItem(row, column, QTableWidgetItem(text))

    def _show_form(self, shown: bool) -> None:
        self._form.setVisible(shown)

    def _rows(self) -> list[FormSetting]:
        rows = []
        for row in range(self.settings.rowCount()):
            items = [self.settings.item(row, column) for column in range(len(COLUMNS))]
            label, today, tried, words = (item.text() if item is not None else "" for item in items)
            if label.strip():
                rows.append(FormSetting(label, today, tried, words, row == 0))

        return rows

    def write_file(self, path: str = "") -> None:
        """Write what was filled in as a renderer file, and use it."""
        try:
            text = starting_file(
                self.name.text(), self.command.text(), str(self.suffix.currentData()), self._rows()
            )
        except (SwiftSampleError, ValueError) as error:
            self._state.setText(one_line(error))
            return

        path = (
            path
            or QFileDialog.getSaveFileName(
                self, "Write the renderer file", f"{self.name.text()}.toml", "*.toml"
            )[0]
        )
        if not path:
            return

        try:
            with written_whole(Path(path)) as temporary:
                temporary.write_text(text, "utf-8")
        except OSError as error:
            self._state.setText(f"{path}: cannot be written ({error.strerror})")
            return

        self._fill.setChecked(False)
        self.file.setText(path)
        self.refresh()

    def _choose_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Renderer file", "", "Renderer files (*.toml)")
        if path:
            self.file.setText(path)
            self.refresh()

    def _choose_scene(self) -> None:
        suffixes = self._renderer.described.scene.suffixes if self._renderer is not None else []
        kinds = (
            f"Scenes ({' '.join('*' + suffix for suffix in suffixes)});;All files (*)"
            if suffixes
            else "All files (*)"
        )
        path, _ = QFileDialog.getOpenFileName(
            self, "Scene", str(Path(self.file.text()).parent), kinds
        )

        if path:
            self.scene.setText(path)
            self.refresh()

    def refresh(self) -> None:
        """Read the file, and show what it starts."""
        self._renderer = None
        words = ""
        path = Path(self.file.text().strip())
        scene = self.scene.text().strip()

        if self.file.text().strip():
            try:
                self._renderer = renderer_in(path)
                words = (
                    "It starts, for every render:  "
                    f"{command_line(self._renderer, scene or 'scene', TEST_SIZE)}"
                )
            except SwiftSampleError as error:
                words = one_line(error)

        self._starts.setText(words)
        known = self._renderer is not None and is_confirmed(self._renderer.seen)
        self.may.setVisible(self._renderer is not None)
        self.may.blockSignals(True)
        self.may.setChecked(known)
        self.may.blockSignals(False)
        self._enable()

    def _enable(self) -> None:
        ready = (
            self._renderer is not None
            and self.may.isChecked()
            and Path(self.scene.text().strip()).is_file()
        )
        self.test.setEnabled(ready)
        self.begin.setEnabled(ready)

    def _on_may(self, may: bool) -> None:
        if may and self._renderer is not None:
            confirm(self._renderer.seen)
        self._enable()

    def _test(self) -> None:
        if self.test.text() == "Stop":
            self._proving.stop()
            return

        while (item := self._results.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()

        self._picture.clear()
        self.test.setText("Stop")
        self._proving.start(Path(self.file.text().strip()), self.scene.text().strip(), TEST_SIZE)

    def _on_checked(self, one: Checked) -> None:
        if one.what == "command":
            return

        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        sign = PlainLabel(SIGNS[one.state])
        sign.setFont(font(SMALL, bold=one.state == BAD))
        sign.setFixedWidth(44)
        known = self._renderer.catalogue.get(one.what) if self._renderer is not None else None
        name = PlainLabel(known.label if known is not None else one.what.capitalize())
        name.setFont(font(NORMAL, bold=True))
        name.setFixedWidth(120)
        row.addWidget(sign, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(name, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(quiet(one.words), 1)
        self._results.addWidget(line)

    def _on_shown(self, light: np.ndarray) -> None:
        image = to_image(View().eight_bit(np.nan_to_num(light)))
        factor = min(SHOWN_SIZE[0] / image.width(), SHOWN_SIZE[1] / image.height())
        size = (math.floor(image.width() * factor), math.floor(image.height() * factor))
        self._picture.setPixmap(
            QPixmap.fromImage(image).scaled(
                *size, transformMode=Qt.TransformationMode.SmoothTransformation
            )
        )

    def _on_ended(self, problem: str) -> None:
        self.test.setText("Test it")
        self._state.setText(problem[:1].upper() + problem[1:] or "All was tried.")

    def _begin(self) -> None:
        self.chosen.emit(self.file.text().strip(), self.scene.text().strip())
        self.accept()

    def done(self, result: int) -> None:
        self._proving.close()
        super().done(result)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._proving.close()
        super().closeEvent(event)
