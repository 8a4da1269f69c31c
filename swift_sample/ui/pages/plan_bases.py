"""Bases of a study by name: kept, loaded from presets, used and dropped."""

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from swift_sample.core.settings.presets import read_preset
from swift_sample.core.study.answers.comparing import show_differences
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.plan.model import LONGEST_NAME, Study
from swift_sample.ui.pages.plan_parts import Listed, Section
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import plain_tip


class BasesSection(Section):
    """A row for each name, with what differs from the base."""

    edited = pyqtSignal(str, object)
    """what is done, in words, and the change of the plan"""

    def __init__(self) -> None:
        super().__init__(
            "Bases",
            (
                "Settings to start from, by name. What was measured with another base stays on the "
                "map, in grey."
            ),
        )
        self._bases = Listed()
        self._results: Results | None = None
        self._compared = ""
        self._differences = quiet("")
        self._differences.setVisible(False)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name")
        self.name.setAccessibleName("A name for today's settings")
        keep = QPushButton("Keep")
        load = QPushButton("From a preset …")
        self.name.returnPressed.connect(self._keep)
        keep.clicked.connect(self._keep)
        load.clicked.connect(self._choose)
        self.rows.addWidget(self._bases)
        self.rows.addWidget(self._differences)
        self.add_row(self.name, keep, load)

    def show_study(self, study: Study, results: Results | None) -> None:
        """List what a study keeps, and what the differences of the one that is compared did."""
        self._results = results
        self._show_differences(study)
        items = [(name, kept, study.base) for name, kept in study.bases.items()]
        self._bases.show_items(items, self._row, "None is kept under a name yet.")

    def load(self, path: Path) -> None:
        """Keep a preset under its file's name."""

        def change(study: Study) -> Study:
            return study.with_base_kept(
                path.stem[:LONGEST_NAME], read_preset(path, study.catalogue)
            )

        self.edited.emit(f"Keep {path.stem}", change)

    def compare(self, name: str) -> None:
        """Show how what is kept under a name differs from the base; once more hides it."""
        self._compared = "" if name == self._compared else name
        if self._results is not None:
            self._show_differences(self._results.study)

    def _show_differences(self, study: Study) -> None:
        there = study.bases.get(self._compared)
        self._differences.setVisible(there is not None and self._results is not None)

        if there is not None and self._results is not None:
            lines = show_differences(self._results, study.base, there)
            self._differences.setText("\n".join([f"from the base to {self._compared}:", *lines]))

    def _row(self, item: object) -> QWidget:
        assert isinstance(item, tuple)
        name, kept, base = item
        is_base = kept == base
        use = QPushButton("the base" if is_base else "use")
        drop = QPushButton("drop")
        compare = QPushButton("compare")
        compare.setEnabled(not is_base)
        compare.setAccessibleName(f"Compare {name} with the base")
        compare.clicked.connect(lambda: self.compare(name))
        use.setEnabled(not is_base)
        use.setAccessibleName(f"Use {name} as the base")
        drop.setAccessibleName(f"Drop {name}")
        use.clicked.connect(
            lambda: self.edited.emit(f"Base {name}", lambda study: study.with_base_of(name))
        )
        drop.clicked.connect(
            lambda: self.edited.emit(
                f"No base {name}", lambda study: study.with_base_kept(name, None)
            )
        )
        label = ElidedLabel(name if is_base else f"{name}: {kept.describe(base, most=4)}")
        label.setToolTip(plain_tip(f"{name}: {kept.describe(base, most=30)}"))
        label.setMinimumWidth(120)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(label, 1)
        line.addWidget(compare)
        line.addWidget(use)
        line.addWidget(drop)

        return row

    def _keep(self) -> None:
        name = self.name.text().strip()
        if name:
            self.edited.emit(
                f"Keep the base as {name}", lambda study: study.with_base_kept(name, study.base)
            )
            self.name.clear()

    def _choose(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "A preset", "", "Presets (*.toml)")
        if chosen:
            self.load(Path(chosen))
