"""The ledger: every setting as a strip of chips that carry their results, so that the form is also
the chart."""

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from swift_sample.app.ledger_model import StripState, StripStates, group_words
from swift_sample.app.view_model import ViewModel
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.settings import Catalogue, Configuration, Setting, Value
from swift_sample.core.settings.typed import MOST_TYPED, ManyValuesError, read_values
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan.model import MAX_TRIALS, Study
from swift_sample.ui.theme import LEDGER_WIDTH, SMALL, Theme, font
from swift_sample.ui.widgets.chips import Chip
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.words import PlainLabel

_LABEL_STYLE = "text-align: left; padding: 0; border: none; font-weight: 600; color: {};"


class SettingStrip(QWidget):
    """One setting: its name, a remark, and its chips; `+` adds typed values."""

    values_changed = pyqtSignal(str, object)
    base_changed = pyqtSignal(str, object)
    selected = pyqtSignal(str)
    chip_hovered = pyqtSignal(str, object)
    forbidden_changed = pyqtSignal(str, object, bool)
    typed = pyqtSignal()
    """typing is over"""

    def __init__(self, declared: Setting, theme: Theme) -> None:
        super().__init__()
        self._declared = declared
        self._theme = theme
        self._state: StripState | None = None
        self._selected = False
        self._chips: dict[Value, Chip] = {}
        self._label = QPushButton(declared.full_label)
        self._label.setProperty("tab", True)
        self._label.setFont(font(SMALL, bold=True))
        self._label.setToolTip(
            f"{declared.help}\n{declared.key}\nClick to see its values as a trail on the map"
        )
        self._label.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._label.clicked.connect(self.choose)
        self._remark = ElidedLabel()
        self._remark.setFont(font(SMALL))
        self._remark.setProperty("quiet", True)
        self._remark.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._add = QPushButton("+")
        self._add.setFixedSize(20, 18)
        self._add.setStyleSheet("padding: 0;")
        self._add.setToolTip("Type values to try: 1 2 4 8, or 16..256 x2")
        self._add.setAccessibleName(f"Add values of {declared.label}")
        self._add.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._add.clicked.connect(lambda: self.begin_typing())
        self._field = QLineEdit()
        self._field.setPlaceholderText("1 2 4 8, or 16..256 x2")
        self._field.setAccessibleName(f"Values of {declared.label} to try")
        self._field.hide()
        self._field.installEventFilter(self)
        self._field.returnPressed.connect(lambda: self._end_typing(MOST_TYPED))
        self._problem = quiet("")
        self._problem.hide()
        self._add_all = QPushButton()
        self._add_all.setFont(font(SMALL))
        self._add_all.hide()
        self._add_all.clicked.connect(lambda: self._end_typing(MAX_TRIALS))
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
        self._bases = quiet("")
        self._bases.setToolTip(
            "What the bases that you kept have here; the plan switches between them"
        )
        self._bases.hide()
        self._opened = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 6)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self._reason)
        column.addWidget(self._bases)
        column.addWidget(self._flow_host)
        column.addWidget(self._field)
        column.addWidget(self._problem)
        column.addWidget(self._add_all)

    def show_state(self, state: StripState, theme: Theme, selected: bool) -> None:
        """Show a state; chips are made anew only when their values change."""
        if state is self._state and theme is self._theme and selected == self._selected:
            return

        self._state = state
        self._theme = theme
        self._selected = selected
        self._remark.setText("no effect" if state.idle_reason else state.remark)
        self._remark.setToolTip(state.idle_reason or state.remark)
        self._reason.setText(state.idle_reason)
        self._bases.setText(f"other bases: {state.in_other_bases}")
        self._bases.setVisible(bool(state.in_other_bases))
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
        self._add.setVisible(not folded and self._can_type())
        self._reason.setVisible(folded and bool(self._reason.text()))

        if folded:
            self._field.hide()

    def choose(self) -> None:
        """Show its values as a trail on the map; unfold it where it is folded."""
        if self._state is not None and self._state.folded:
            self._opened = not self._opened
            self._fold()

        self.selected.emit(self._declared.key)

    def point_at(self, value: Value | None) -> None:
        """Light up the chip of a value, and no other."""
        for own, chip in self._chips.items():
            chip.set_pointed(value is not None and own == value)

    @property
    def chips(self) -> list[Chip]:
        """In the order in which they stand."""
        return list(self._chips.values())

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
            chip.base_wanted.connect(
                lambda value: self.base_changed.emit(self._declared.key, value)
            )
            chip.hovered.connect(lambda value: self.chip_hovered.emit(self._declared.key, value))
            chip.forbidding.connect(
                lambda value, on: self.forbidden_changed.emit(self._declared.key, value, on)
            )
            self._chips[chip_state.value] = chip
            self._flow.addWidget(chip)

        self._flow_host.updateGeometry()

    def _planned(self) -> list[Value]:
        return [c.value for c in self._state.chips if c.planned] if self._state is not None else []

    def _toggle(self, value: Value) -> None:
        planned = self._planned()
        if self._chips[value].state.is_base or self._is_fixed():
            self.selected.emit(self._declared.key)
        elif value in planned:
            self.values_changed.emit(self._declared.key, tuple(v for v in planned if v != value))
        else:
            self.values_changed.emit(self._declared.key, (*planned, value))

    def begin_typing(self, text: str = "") -> None:
        """Open the field for values to try, where any can be typed."""
        if self._can_type():
            self._field.setText(text)
            self._field.show()
            self._field.setFocus()

    def _can_type(self) -> bool:
        return self._declared.kind in ("whole", "number") and not self._is_fixed()

    def _is_fixed(self) -> bool:
        return self._state is not None and any(chip.fixed for chip in self._state.chips)

    def _end_typing(self, most: int) -> None:
        """Take what was typed; nonsense is answered beneath the field, and a very long progression
        asks."""
        self._add_all.hide()
        try:
            values = read_values(self._declared, self._field.text(), most)
        except ManyValuesError as error:
            self._problem.setText(one_line(error))
            self._add_all.setText(f"Try all {error.count:,}")
            self._add_all.setVisible(error.count <= MAX_TRIALS)
            self._problem.show()
            return
        except SwiftSampleError as error:
            words = one_line(error).removeprefix(f"{self._declared.key}=")
            self._problem.setText(f"{words}; or a range such as 16..256 x2")
            self._problem.show()
            return

        self._close_field()
        if values:
            self.values_changed.emit(
                self._declared.key, tuple(dict.fromkeys((*self._planned(), *values)))
            )

    def _close_field(self) -> None:
        self._field.clear()
        for widget in (self._field, self._problem, self._add_all):
            widget.hide()
        self.typed.emit()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            watched is self._field
            and isinstance(event, QKeyEvent)
            and event.key() == Qt.Key.Key_Escape
        ):
            if event.type() == QEvent.Type.KeyPress:
                self._close_field()
            return True

        return super().eventFilter(watched, event)


class GroupHeading(QPushButton):
    """A group of settings in one line; a click unfolds those that do not stand above."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = name
        self.setProperty("group", True)
        self.setFont(font(SMALL, bold=True))
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._current = False

    def show_words(self, words: str, is_open: bool) -> None:
        text = f"{'▾' if is_open else '▸'} {self.name}   {words}"
        if text != self.text():
            self.setText(text)
            self.setAccessibleName(f"{self.name}, {words}, {'open' if is_open else 'folded'}")

    def set_current(self, current: bool) -> None:
        """Whether the keys stand at it."""
        if current != self._current:
            self._current = current
            self.setStyleSheet("text-decoration: underline;" if current else "")


class Ledger(QWidget):
    """What is tried and what was found to matter, then every group folded to a line; at the foot
    how many trials.

    One stop of the tab key: inside, up and down walk settings and groups, left and right a
    setting's values.
    """

    values_changed = pyqtSignal(str, object)
    base_changed = pyqtSignal(str, object)
    setting_selected = pyqtSignal(object)
    chip_hovered = pyqtSignal(str, object)
    forbidden_changed = pyqtSignal(str, object, bool)

    KEYS = (
        ("↑ ↓", "another setting or group"),
        ("← →", "another value"),
        ("Space", "try the value, or not; fold or unfold a group"),
        ("Return", "the setting's values as a trail on the map"),
        ("+ or a digit", "type values to try"),
        ("B", "make the value that of the base"),
        ("M", "what else can be done with the value"),
        ("Ctrl+F", "find a setting"),
    )

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("ledger")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(LEDGER_WIDTH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Settings; arrows walk them, Space tries a value")
        self._theme = theme
        self._by_leverage = False
        self._selected: str | None = None
        self._catalogue: Catalogue | None = None
        self._strips: dict[str, SettingStrip] = {}
        self._headings: dict[str, GroupHeading] = {}
        self._states_shown: list[StripState] = []
        self._open: set[str] = set()
        self._arranged: list[str] = []
        self._row = ""
        """where the keys stand: the key of a setting, or a group's name"""
        self._column_at = 0
        self._search = QLineEdit()
        self._search.setPlaceholderText("find a setting")
        self._search.setAccessibleName("Find a setting by its words")
        self._search.setClearButtonEnabled(True)
        self._search.setFont(font(SMALL))
        self._search.textChanged.connect(lambda _: self._rearrange())
        self._order = QPushButton("in groups")
        self._order.setFont(font(SMALL))
        self._order.setToolTip(
            "Order what is tried as the groups have it, or by how much time it can win within "
            "the limits"
        )
        self._order.clicked.connect(self._change_order)
        head = QHBoxLayout()
        head.setContentsMargins(16, 8, 10, 0)
        head.addWidget(self._search, 1)
        head.addWidget(self._order)
        self._column = QVBoxLayout()
        self._column.setContentsMargins(16, 4, 10, 8)
        self._column.setSpacing(4)
        self._nothing = quiet("No setting goes by these words.")
        self._nothing.hide()
        inner = QWidget()
        inner.setLayout(self._column)
        self._scroll = scrolled(inner)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._foot = PlainLabel()
        self._foot.setFont(font(SMALL))
        self._foot.setProperty("quiet", True)
        self._foot.setContentsMargins(16, 6, 12, 8)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 1, 0)
        column.setSpacing(0)
        column.addLayout(head)
        column.addWidget(self._nothing)
        column.addWidget(self._scroll, 1)
        column.addWidget(self._foot)

    def strip_of(self, key: str) -> SettingStrip:
        """The strip of a setting."""
        return self._strips[key]

    def set_theme(self, theme: Theme) -> None:
        """Change to day or dusk; drawn with the next view."""
        self._theme = theme

    def show_view(self, model: ViewModel) -> None:
        """Show a study's values to try with whatever is known of them."""
        study = model.study
        self._selected = model.selected_setting
        if study.catalogue is not self._catalogue:
            self._make_strips(study.catalogue)

        self._states_shown = self._states.of(study, model.results, model.facts, model.field_shown)
        for state in self._states_shown:
            self._strips[state.declared.key].show_state(
                state, self._theme, state.declared.key == self._selected
            )

        self._rearrange()
        self._foot.setText(_foot_words(study, model.snapshot))

    def point_at(self, configuration: Configuration | None) -> None:
        """Light up the chips of a configuration's values, of None none."""
        for key, strip in self._strips.items():
            strip.point_at(configuration[key] if configuration is not None else None)

    def open_group(self, name: str, is_open: bool = True) -> None:
        """Unfold a group of settings, or fold it."""
        (self._open.add if is_open else self._open.discard)(name)
        self._rearrange()

    def find_setting(self) -> None:
        """Let a setting be found by its words."""
        self._search.setFocus()
        self._search.selectAll()

    def _make_strips(self, catalogue: Catalogue) -> None:
        """A strip for every setting of the study's renderer."""
        for old in (*self._headings.values(), *self._strips.values()):
            self._column.removeWidget(old)
            old.deleteLater()

        self._catalogue = catalogue
        self._strips = {}
        self._headings = {}
        self._arranged = []
        self._open = set()
        self._states = StripStates()

        for group in catalogue.groups:
            heading = self._headings[group] = GroupHeading(group or "Others")
            heading.clicked.connect(
                lambda _, name=group: self.open_group(name, name not in self._open)
            )

        for key, declared in catalogue.items():
            strip = SettingStrip(declared, self._theme)
            strip.values_changed.connect(self.values_changed)
            strip.base_changed.connect(self.base_changed)
            strip.chip_hovered.connect(self.chip_hovered)
            strip.forbidden_changed.connect(self.forbidden_changed)
            strip.selected.connect(self._select)
            strip.typed.connect(self.setFocus)
            self._strips[key] = strip

    def _rows(self) -> list[str]:
        """What stands below one another: keys of settings, and names of groups."""
        states = self._states_shown
        text = self._search.text().strip()
        if text:
            return [state.declared.key for state in states if state.declared.is_found_by(text)]

        first = [state for state in states if state.matters or state.declared.key == self._selected]
        if self._by_leverage:
            first.sort(key=lambda state: -state.leverage)

        shown = {state.declared.key for state in first}
        rows = [state.declared.key for state in first]

        for group, heading in self._headings.items():
            own = [state for state in states if state.declared.group == group]
            rest = [state.declared.key for state in own if state.declared.key not in shown]
            heading.show_words(group_words(own), group in self._open)

            if rest:
                rows += [group, *(rest if group in self._open else [])]

        return rows

    def _rearrange(self) -> None:
        rows = self._rows()
        self._nothing.setVisible(not rows and bool(self._search.text().strip()))
        if rows == self._arranged:
            return

        self._arranged = rows
        while self._column.takeAt(0) is not None:
            pass

        for name in rows:
            self._column.addWidget(self._widget_of(name))

        shown = set(rows)
        for name, widget in (*self._headings.items(), *self._strips.items()):
            widget.setVisible(name in shown)

        self._column.addStretch(1)
        if self._row not in shown:
            self._stand_at("", 0)

    def _widget_of(self, name: str) -> QWidget:
        heading = self._headings.get(name)
        return heading if heading is not None else self._strips[name]

    def _select(self, key: str) -> None:
        self.setting_selected.emit(None if key == self._selected else key)

    @property
    def by_leverage(self) -> bool:
        """Whether what is tried comes in the order of the time that it can win."""
        return self._by_leverage

    @by_leverage.setter
    def by_leverage(self, wanted: bool) -> None:
        self._by_leverage = wanted
        self._order.setText("by leverage" if wanted else "in groups")
        self._rearrange()

    def _change_order(self) -> None:
        self.by_leverage = not self._by_leverage

    # The keyboard

    def _stand_at(self, row: str, column: int) -> None:
        """Put the keys' place at a value of a setting, or at a group."""
        chips: list[Chip] = []
        for name, strip in self._strips.items():
            for place, chip in enumerate(strip.chips):
                chip.set_current(name == row and place == column)
            if name == row:
                chips = strip.chips

        for name, heading in self._headings.items():
            heading.set_current(name == row)

        self._row = row
        self._column_at = column

        if row:
            widget = chips[column] if chips else self._widget_of(row)
            self._scroll.ensureWidgetVisible(widget, 10, 30)
            self.setAccessibleDescription(widget.accessibleName())

    def focusInEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().focusInEvent(event)
        if not self._row and self._arranged:
            self._stand_at(self._arranged[0], 0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self._arranged:
            return

        key = Qt.Key(event.key())
        strip = self._strips.get(self._row)
        chips = strip.chips if strip is not None and not strip.is_folded() else []
        chip = chips[self._column_at] if self._column_at < len(chips) else None
        place = self._arranged.index(self._row) if self._row in self._arranged else -1

        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if key == Qt.Key.Key_Down else -1
            self._stand_at(self._arranged[min(len(self._arranged) - 1, max(0, place + step))], 0)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and chips:
            step = 1 if key == Qt.Key.Key_Right else -1
            self._stand_at(self._row, min(len(chips) - 1, max(0, self._column_at + step)))
        elif key == Qt.Key.Key_Space and self._row in self._headings:
            self.open_group(self._row, self._row not in self._open)
        elif key == Qt.Key.Key_Space and chip is not None:
            chip.click()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and strip is not None:
            strip.choose()
        elif key == Qt.Key.Key_B and chip is not None and not chip.state.is_base:
            chip.base_wanted.emit(chip.state.value)
        elif key in (Qt.Key.Key_M, Qt.Key.Key_Menu) and chip is not None:
            chip.show_menu(chip.mapToGlobal(chip.rect().bottomLeft()))
        elif strip is not None and (key == Qt.Key.Key_Plus or event.text().isdigit()):
            strip.begin_typing(event.text() if event.text().isdigit() else "")
        elif key == Qt.Key.Key_F and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.find_setting()
        else:
            super().keyPressEvent(event)


def _foot_words(study: Study, snapshot: Snapshot | None) -> str:
    count = len(study.planned())
    if not study.catalogue.capabilities.starts:
        return "finished renders: no others can be made"

    runs = f"{study.repeats} runs each" if study.repeats > 1 else "1 run each"
    words = f"{count} trial{'s' if count > 1 else ''}, {runs}"
    if (
        snapshot is not None
        and snapshot.study == study
        and snapshot.to_come
        and snapshot.seconds_left is not None
    ):
        words += f" · {snapshot.time_left_words}"

    return words
