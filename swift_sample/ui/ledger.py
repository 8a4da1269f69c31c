"""The ledger: every setting as a strip of chips that carry their results, so that the form is also the chart."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from swift_sample.app.ledger_model import StripState, StripStates
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.settings import Catalogue, Configuration, Setting, Value
from swift_sample.core.settings.typed import read_values
from swift_sample.core.study.plan.model import Study
from swift_sample.core.study.results import Results
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.ui.theme import LEDGER_WIDTH, SMALL, Theme, font
from swift_sample.ui.widgets.chips import Chip
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import scrolled
from swift_sample.ui.widgets.words import PlainLabel

_LABEL_STYLE = "text-align: left; padding: 0; border: none; font-weight: 600; color: {};"


class SettingStrip(QWidget):
    """One setting: its name, a remark, and its chips; `+` adds typed values."""

    values_changed = pyqtSignal(str, object)
    base_changed = pyqtSignal(str, object)
    selected = pyqtSignal(str)
    chip_hovered = pyqtSignal(str, object)
    forbidden_changed = pyqtSignal(str, object, bool)
    problem = pyqtSignal(str)

    def __init__(self, declared: Setting, theme: Theme) -> None:
        super().__init__()
        self._declared, self._theme = declared, theme
        self._state: StripState | None = None
        self._selected = False
        self._chips: dict[Value, Chip] = {}
        self._label = QPushButton(declared.label)
        self._label.setProperty("tab", True)
        self._label.setFont(font(SMALL, bold=True))
        self._label.setToolTip(f"{declared.help}\n{declared.key}\nClick to see its values as a trail on the map")
        self._label.clicked.connect(self._on_label_clicked)
        self._remark = ElidedLabel()
        self._remark.setFont(font(SMALL))
        self._remark.setProperty("quiet", True)
        self._remark.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._add = QPushButton("+")
        self._add.setFixedSize(20, 18)
        self._add.setStyleSheet("padding: 0;")
        self._add.setToolTip("Type values to try: 1 2 4 8, or 16..256 x2")
        self._add.setAccessibleName(f"Add values of {declared.label}")
        self._add.clicked.connect(self._begin_typing)
        self._field = QLineEdit()
        self._field.setPlaceholderText("1 2 4 8, or 16..256 x2")
        self._field.setAccessibleName(f"Values of {declared.label} to try")
        self._field.hide()
        self._field.returnPressed.connect(self._end_typing)
        head = QHBoxLayout()
        head.setSpacing(4)
        head.addWidget(self._label)
        head.addWidget(self._remark, 1)
        head.addWidget(self._add)
        self._flow_host = QWidget()
        self._flow = Flow()
        self._flow_host.setLayout(self._flow)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self._flow_host.setSizePolicy(policy)
        self._reason = PlainLabel()
        self._reason.setFont(font(SMALL))
        self._reason.setProperty("quiet", True)
        self._reason.setWordWrap(True)
        self._reason.hide()
        self._opened = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 6)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self._reason)
        column.addWidget(self._flow_host)
        column.addWidget(self._field)

    def show_state(self, state: StripState, theme: Theme, selected: bool) -> None:
        """Show a state; chips are made anew only when their values change."""
        if state is self._state and theme is self._theme and selected == self._selected:
            return
        self._state, self._theme, self._selected = state, theme, selected
        self._remark.setText("no effect" if state.idle_reason else state.remark)
        self._remark.setToolTip(state.idle_reason or state.remark)
        self._reason.setText(state.idle_reason)
        self._fold()
        style = _LABEL_STYLE.format(theme.ink if selected else theme.text)
        if style != self._label.styleSheet():
            self._label.setStyleSheet(style)
        wanted = [chip.value for chip in state.chips]
        if wanted != list(self._chips):
            self._make_chips(state)
        for chip_state in state.chips:
            self._chips[chip_state.value].show_state(chip_state, theme)

    def is_folded(self) -> bool:
        """Whether its chips are hidden, since no value of it would change anything."""
        return self._state is not None and self._state.folded and not self._opened

    def _fold(self) -> None:
        folded = self.is_folded()
        self._flow_host.setVisible(not folded)
        self._add.setVisible(not folded and self._declared.kind in ("whole", "number"))
        self._reason.setVisible(folded and bool(self._reason.text()))
        if folded:
            self._field.hide()

    def _on_label_clicked(self) -> None:
        if self._state is not None and self._state.folded:
            self._opened = not self._opened
            self._fold()
        self.selected.emit(self._declared.key)

    def point_at(self, value: Value | None) -> None:
        """Light up the chip of a value, and no other."""
        for own, chip in self._chips.items():
            chip.set_pointed(value is not None and own == value)

    def chip(self, value: Value) -> Chip:
        """The chip of a value."""
        return self._chips[value]

    def _make_chips(self, state: StripState) -> None:
        while (item := self._flow.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self._chips = {}
        for chip_state in state.chips:
            chip = Chip(self._declared, chip_state, self._theme)
            chip.toggled_value.connect(self._toggle)
            chip.base_wanted.connect(lambda value: self.base_changed.emit(self._declared.key, value))
            chip.hovered.connect(lambda value: self.chip_hovered.emit(self._declared.key, value))
            chip.forbidding.connect(lambda value, on: self.forbidden_changed.emit(self._declared.key, value, on))
            self._chips[chip_state.value] = chip
            self._flow.addWidget(chip)
        self._flow_host.updateGeometry()

    def _planned(self) -> list[Value]:
        return [c.value for c in self._state.chips if c.planned] if self._state is not None else []

    def _toggle(self, value: Value) -> None:
        planned = self._planned()
        if self._chips[value].state.is_base:
            self.selected.emit(self._declared.key)
        elif value in planned:
            self.values_changed.emit(self._declared.key, tuple(v for v in planned if v != value))
        else:
            self.values_changed.emit(self._declared.key, (*planned, value))

    def _begin_typing(self) -> None:
        self._field.show()
        self._field.setFocus()

    def _end_typing(self) -> None:
        try:
            values = read_values(self._declared, self._field.text())
        except SwiftSampleError as error:
            self.problem.emit(one_line(error))
            return
        self._field.clear()
        self._field.hide()
        if values:
            self.values_changed.emit(self._declared.key, tuple(dict.fromkeys((*self._planned(), *values))))


class Ledger(QWidget):
    """All settings in their groups, and at the foot how many trials and how long."""

    values_changed = pyqtSignal(str, object)
    base_changed = pyqtSignal(str, object)
    setting_selected = pyqtSignal(object)
    chip_hovered = pyqtSignal(str, object)
    forbidden_changed = pyqtSignal(str, object, bool)
    problem = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("ledger")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(LEDGER_WIDTH)
        self._theme = theme
        self._by_leverage = False
        self._selected: str | None = None
        self._catalogue: Catalogue | None = None
        self._strips: dict[str, SettingStrip] = {}
        self._headings: dict[str, QLabel] = {}
        self._arranged: list[str] = []
        title = PlainLabel("Settings")
        title.setFont(font(SMALL))
        title.setProperty("quiet", True)
        self._order = QPushButton("in groups")
        self._order.setFont(font(SMALL))
        self._order.setToolTip("Order by group, or by how much time a setting can win within the limits")
        self._order.clicked.connect(self._change_order)
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 10, 0)
        head.addWidget(title)
        head.addStretch(1)
        head.addWidget(self._order)
        self._column = QVBoxLayout()
        self._column.setContentsMargins(16, 4, 10, 8)
        self._column.setSpacing(4)
        inner = QWidget()
        inner.setLayout(self._column)
        self._foot = PlainLabel()
        self._foot.setFont(font(SMALL))
        self._foot.setProperty("quiet", True)
        self._foot.setContentsMargins(16, 6, 12, 8)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 1, 0)
        column.setSpacing(0)
        column.addLayout(head)
        column.addWidget(scrolled(inner), 1)
        column.addWidget(self._foot)

    def strip_of(self, key: str) -> SettingStrip:
        """The strip of a setting."""
        return self._strips[key]

    def show_state(
        self,
        study: Study,
        results: Results | None,
        snapshot: Snapshot | None,
        theme: Theme,
        selected: str | None,
        facts: SceneFacts | None = None,
    ) -> None:
        """Show a study's values to try with whatever is known of them."""
        self._theme, self._selected = theme, selected
        if study.catalogue is not self._catalogue:
            self._make_strips(study.catalogue)
        states = self._states.of(study, results, facts)
        for state in states:
            self._strips[state.declared.key].show_state(state, theme, state.declared.key == selected)
        self._arrange(states)
        self._foot.setText(_foot_words(study, snapshot))

    def point_at(self, configuration: Configuration | None) -> None:
        """Light up the chips of a configuration's values, of None none."""
        for key, strip in self._strips.items():
            strip.point_at(configuration[key] if configuration is not None else None)

    def _make_strips(self, catalogue: Catalogue) -> None:
        """A strip for every setting of the study's renderer."""
        for old in (*self._headings.values(), *self._strips.values()):
            self._column.removeWidget(old)
            old.deleteLater()
        self._catalogue, self._strips, self._headings, self._arranged = catalogue, {}, {}, []
        self._states = StripStates()
        for group in catalogue.groups:
            heading = PlainLabel(group)
            heading.setProperty("heading", True)
            heading.setFont(font(SMALL, bold=True))
            self._headings[group] = heading
        for key, declared in catalogue.items():
            strip = SettingStrip(declared, self._theme)
            strip.values_changed.connect(self.values_changed)
            strip.base_changed.connect(self.base_changed)
            strip.chip_hovered.connect(self.chip_hovered)
            strip.forbidden_changed.connect(self.forbidden_changed)
            strip.problem.connect(self.problem)
            strip.selected.connect(self._select)
            self._strips[key] = strip

    def _arrange(self, states: list[StripState]) -> None:
        if self._by_leverage:
            order = [s.declared.key for s in sorted(states, key=lambda s: -s.leverage)]
        else:
            order = [s.declared.key for s in sorted(states, key=lambda s: list(self._headings).index(s.declared.group))]
        wanted = [str(self._by_leverage), *order]
        if wanted == self._arranged:
            return
        self._arranged = wanted
        while self._column.takeAt(0) is not None:
            pass
        last = ""
        for key in order:
            group = self._catalogue[key].group if self._catalogue is not None else ""
            if not self._by_leverage and group != last:
                self._column.addWidget(self._headings[group])
                last = group
            self._column.addWidget(self._strips[key])
        for heading in self._headings.values():
            heading.setVisible(not self._by_leverage)
        self._column.addStretch(1)

    def _select(self, key: str) -> None:
        self.setting_selected.emit(None if key == self._selected else key)

    def _change_order(self) -> None:
        self._by_leverage = not self._by_leverage
        self._order.setText("by leverage" if self._by_leverage else "in groups")
        self.setting_selected.emit(self._selected)


def _foot_words(study: Study, snapshot: Snapshot | None) -> str:
    count = len(study.planned())
    words = f"{count} trial{'s' if count > 1 else ''}, {study.repeats} runs each"
    if snapshot is not None and snapshot.study == study and snapshot.to_come and snapshot.seconds_left is not None:
        words += f" · {snapshot.time_left_words}"
    return words
