"""The tools of a blend: how much of the denoised picture, a brush for where, and figures that
follow."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QPushButton, QSizePolicy, QSlider, QWidget

from swift_sample.app.blending import Blending
from swift_sample.ui.theme import SMALL, font
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import beside, quiet

BRUSHES = (2, 200)
FIRST_BRUSH = 24
FIRST_HARDNESS = 50


class BlendBar(QWidget):
    """Shows the blend in hand and asks for changes of it."""

    save_wanted = pyqtSignal()
    brush_changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("tabBar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._blend: Blending | None = None
        self.strength, self.brush_size, self.hardness = (
            QSlider(Qt.Orientation.Horizontal) for _ in range(3)
        )
        self.method = QComboBox()
        self.brush, self.erase, self.undo, self.clear, self.save = (
            QPushButton(words) for words in ("brush", "back to raw", "undo", "no mask", "save …")
        )
        self._shown = quiet("100 %", wrap=False)
        flow = Flow()
        self.setLayout(flow)
        flow.setContentsMargins(24, 0, 12, 4)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.strength.setRange(0, 100)
        self.strength.setPageStep(10)
        self.strength.setFixedWidth(110)
        self.strength.setAccessibleName("How much of the denoised picture")
        self.strength.sliderPressed.connect(self._keep)
        self.strength.valueChanged.connect(self._on_strength)
        self.brush_size.setRange(*BRUSHES)
        self.brush_size.setValue(FIRST_BRUSH)
        self.hardness.setRange(0, 99)
        self.hardness.setValue(FIRST_HARDNESS)

        for slider, name in (
            (self.brush_size, "Size of the brush in pixels"),
            (self.hardness, "Hardness of the brush"),
        ):
            slider.setFixedWidth(62)
            slider.setAccessibleName(name)
            slider.setToolTip(name)
            slider.valueChanged.connect(self.brush_changed)

        for button, tip in (
            (
                self.brush,
                (
                    "Paint where the denoised picture shall be seen; the right button moves the "
                    "picture"
                ),
            ),
            (self.erase, "The brush paints the raw picture back"),
        ):
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setToolTip(tip)
            button.clicked.connect(self._on_brush)

        self.method.setAccessibleName("Denoised with")
        self.method.setFont(font(SMALL))
        self.method.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.method.textActivated.connect(
            lambda words: self._blend.choose(words) if self._blend is not None else None
        )
        self.undo.setToolTip("Take the last stroke back")
        self.undo.clicked.connect(lambda: self._blend.undo() if self._blend is not None else None)
        self.clear.setToolTip("The same strength everywhere")
        self.clear.clicked.connect(
            lambda: self._blend.clear_mask() if self._blend is not None else None
        )
        self.save.setToolTip(
            "Save the blend as EXR, with its mask, the raw and the denoised picture as layers"
        )
        self.save.clicked.connect(self.save_wanted)

        for widget in (
            beside(
                quiet("raw", wrap=False),
                self.strength,
                quiet("denoised", wrap=False),
                self._shown,
                spacing=6,
            ),
            self.method,
            self.brush,
            self.erase,
            beside(quiet("size", wrap=False), self.brush_size, spacing=6),
            beside(quiet("hard", wrap=False), self.hardness, spacing=6),
            self.undo,
            self.clear,
            self.save,
        ):
            flow.addWidget(widget)

    def show_blend(self, blend: Blending | None) -> None:
        """Show a blend as it stands."""
        self._blend = blend
        there = blend is not None and blend.layers is not None and not blend.is_busy
        for widget in (self.strength, self.brush, self.erase, self.clear, self.save, self.undo):
            widget.setEnabled(there)

        if blend is None:
            return

        methods = blend.methods
        if [self.method.itemText(k) for k in range(self.method.count())] != methods:
            self.method.clear()
            self.method.addItems(methods)

        self.method.setCurrentText(blend.method)
        self.undo.setEnabled(there and blend.can_undo)
        self.clear.setEnabled(there and blend.mask is not None)

        if not self.strength.isSliderDown():
            self.strength.blockSignals(True)
            self.strength.setValue(round(100 * blend.strength))
            self.strength.blockSignals(False)

        self._shown.setText(f"{100 * blend.strength:.0f} %")

    @property
    def brush_radius(self) -> float:
        """In pixels of the picture; 0 while nothing is painted."""
        return (
            float(self.brush_size.value())
            if self.brush.isChecked() or self.erase.isChecked()
            else 0.0
        )

    def _on_brush(self) -> None:
        """One of the two brushes at a time."""
        sender = self.sender()
        other = self.erase if sender is self.brush else self.brush
        other.setChecked(False)
        self.brush_changed.emit()

    def _keep(self) -> None:
        if self._blend is not None:
            self._blend.keep_for_undo()

    def _on_strength(self, value: int) -> None:
        if self._blend is not None:
            if not self.strength.isSliderDown():
                self._blend.keep_for_undo()
            self._blend.set_strength(value / 100)
