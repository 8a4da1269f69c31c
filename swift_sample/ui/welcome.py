"""What stands there before a study is open: the three ways to begin, and recent studies."""

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from swift_sample.ui.theme import LARGE, NORMAL, SMALL, Theme, font
from swift_sample.ui.verdict_strip import WingSign
from swift_sample.ui.widgets.words import PlainLabel, plain_tip


class Welcome(QWidget):
    """Start the demo, begin with a scene of one's own, or open a study."""

    demo_wanted = pyqtSignal()
    new_wanted = pyqtSignal()
    open_wanted = pyqtSignal()
    recent_wanted = pyqtSignal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._sign = WingSign(theme, "pick", 72)
        title = PlainLabel("Which settings give the shortest render you would still deliver?")
        title.setFont(font(LARGE - 4, bold=True))
        title.setWordWrap(True)
        text = PlainLabel(
            "Swift Sample renders your scene with many settings, times every render, measures what each did "
            "to the picture, and names the fastest one that keeps your limits."
        )
        text.setFont(font(NORMAL))
        text.setProperty("quiet", True)
        text.setWordWrap(True)
        buttons = QHBoxLayout()
        buttons.setSpacing(12)
        for words, signal, main, tip in (
            ("Measure the demo", self.demo_wanted, True, "A honey stall at dusk, measured in under ten minutes"),
            ("Begin with your scene …", self.new_wanted, False, "A .gltf or .glb file; or drop it on this window"),
            ("Open a study …", self.open_wanted, False, "A folder that ends in .study; or drop it on this window"),
        ):
            button = QPushButton(words)
            button.setProperty("main", main)
            button.setToolTip(tip)
            button.clicked.connect(signal)
            buttons.addWidget(button)
        buttons.addStretch(1)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(2)
        inner = QVBoxLayout()
        inner.setSpacing(14)
        inner.addWidget(self._sign)
        inner.addWidget(title)
        inner.addWidget(text)
        inner.addLayout(buttons)
        inner.addSpacing(12)
        inner.addLayout(self._recent)
        host = QWidget()
        host.setLayout(inner)
        host.setMaximumWidth(620)
        outer = QVBoxLayout(self)
        outer.addStretch(2)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(host, 4)
        row.addStretch(1)
        outer.addLayout(row)
        outer.addStretch(3)

    def set_theme(self, theme: Theme) -> None:
        self._sign.set_look(theme, "pick")

    def show_recent(self, paths: list[Path]) -> None:
        """List recent studies."""
        while (item := self._recent.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        if not paths:
            return
        heading = PlainLabel("Recent studies")
        heading.setFont(font(SMALL))
        heading.setProperty("quiet", True)
        self._recent.addWidget(heading)
        for path in paths:
            button = QPushButton(path.stem)
            button.setToolTip(plain_tip(str(path)))
            button.setStyleSheet("text-align: left; padding-left: 0;")
            button.clicked.connect(lambda _, chosen=path: self.recent_wanted.emit(chosen))
            self._recent.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)
