"""Machines: who has joined and what each does, and the answer on every kind of machine side by
side."""

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.pictures import PictureStore
from swift_sample.core.machines.engine import HOW_TO_GET, is_here
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import common_spread, factor
from swift_sample.core.study.answers.kinds import HERE, Kind, shared_sentences, side_by_side
from swift_sample.core.study.measuring.notices import Member
from swift_sample.ui.page import Page
from swift_sample.ui.theme import NORMAL, Theme, font
from swift_sample.ui.widgets.log_axis import LogAxis
from swift_sample.ui.widgets.mark_layer import Look, MarkLayer
from swift_sample.ui.widgets.marks import OUTLINES, mark_role, shape_of
from swift_sample.ui.widgets.parts import beside, dress, quiet
from swift_sample.ui.widgets.words import PlainLabel

EMPTY = (
    "Other computers can measure this study: more of one kind share its trials, and of another "
    "kind each gets an answer "
    "of its own. On one of them type <b>swift-sample machines start</b>, on the others "
    "<b>swift-sample machines join</b> with the address that it says; then enter that address "
    "above. The guide says how "
    "computers in one network trust each other."
)
MOST_MAPS = 3
"""Kinds of machines that are drawn; all of them stand in the table."""
MARK_PIXELS = 9
PICK_PIXELS = 15
LONG_PIXELS, MOST_ROWS, ROOM_PIXELS = 280, 6, 20
"""How wide descriptions of machines are, rows of a table that are seen at once, and room for what
scrolls it sideways."""
THERE = ("Machine", "Kind", "Does", "Runs", "Beside this one", "Last words")


class MachinesPage(Page):
    """Who measures, and how the answers of different machines compare."""

    name = "Machines"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._kinds: tuple[Kind, ...] = ()
        self._drawn: object = None
        self._address = QLineEdit()
        self._address.setPlaceholderText("127.0.0.1:8786")
        self._address.setAccessibleName("Address where machines meet")
        self._address.setFixedWidth(190)
        self._keys = QPushButton("Keys …")
        self._keys.setToolTip("The folder of keys by which computers in a network know each other")
        self._keys.clicked.connect(self._choose_keys)
        self._use = QCheckBox("Measure there")
        self._use.setToolTip(
            "What is measured from now on is done by the machines that meet there, not by this "
            "computer"
        )
        self._use.toggled.connect(lambda _: self._ask())
        self._look = QPushButton("Who is there?")
        self._look.clicked.connect(lambda: self._ask(look=True))
        head = beside(
            PlainLabel("Machines meet at"),
            self._address,
            self._keys,
            self._use,
            self._look,
            stretch=True,
        )
        self._words = quiet("")
        self._hint = quiet(EMPTY)
        self._hint.setTextFormat(Qt.TextFormat.RichText)
        self._there = _table(THERE, "Machines that have joined", 1)
        self._answers = _table(("",), "Answers side by side", 0)
        self._answers.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self._answers.customContextMenuRequested.connect(self._on_menu)
        self._answers.cellDoubleClicked.connect(lambda row, _: self._look_at(row))
        self._answers.itemSelectionChanged.connect(self._on_selected)
        self._show = QPushButton("Look at its times")
        self._show.setToolTip("Map, Cost and the ledger then show the times of this machine")
        self._show.clicked.connect(lambda: self._look_at(self._answers.currentRow()))
        self._shared = quiet("")
        self._side = PlainLabel("Side by side")
        self._side.setFont(font(NORMAL, bold=True))
        self._maps = QWidget()
        maps = QHBoxLayout(self._maps)
        maps.setContentsMargins(0, 0, 0, 0)
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 8, 16, 12)
        for widget in (
            head,
            self._words,
            self._hint,
            self._there,
            beside(self._side, self._show, stretch=True),
        ):
            column.addWidget(widget)

        for widget in (self._answers, self._shared):
            column.addWidget(widget)

        column.addWidget(self._maps, 1)
        column.addStretch(0)
        self.set_theme(theme)

    def start_anew(self) -> None:
        self._drawn = None

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._drawn = None
        self.refresh()

    def kept_state(self) -> dict[str, str]:
        return {"address": self._address.text()}

    def take_state(self, state: dict[str, str]) -> None:
        self._address.setText(state.get("address", ""))

    def refresh(self) -> None:
        """Show who is there, and the answers that there are."""
        model = self.model
        shown = model.machines if model is not None else None
        members = shown.members if shown is not None else ()
        measuring = model is not None and model.activity.measuring

        if shown is not None and self._use.isChecked() != shown.in_use:
            self._use.blockSignals(True)
            self._use.setChecked(shown.in_use)
            self._use.blockSignals(False)

        can = is_here()
        for widget in (self._address, self._keys, self._use, self._look):
            widget.setEnabled(can and model is not None and not measuring)

        self._words.setText(
            HOW_TO_GET[0].upper() + HOW_TO_GET[1:]
            if not can
            else shown.words
            if shown is not None
            else ""
        )
        self._words.setVisible(bool(self._words.text()))
        kinds = model.snapshot.kinds if model is not None and model.snapshot is not None else ()
        self._show_members(members, kinds)
        several = len(kinds) > 1 or (bool(kinds) and not kinds[0].is_here)
        self._hint.setVisible(not members and not several)
        for part in (self._answers, self._shared, self._maps, self._side, self._show):
            part.setVisible(several)

        looked = (
            model.snapshot.state.machine if model is not None and model.snapshot is not None else ""
        )
        state = (kinds, looked, self._theme.name)

        if state != self._drawn and several:
            self._drawn = state
            self._kinds = kinds
            self._show_answers(kinds, looked)
            self._draw_maps(kinds)

    def _show_members(self, members: tuple[Member, ...], kinds: tuple[Kind, ...]) -> None:
        self._there.setVisible(bool(members))
        rows = [
            (m.host, m.label, m.state, str(m.runs), _beside_this(m.machine, kinds), m.said)
            for m in members
        ]
        _fill(self._there, rows)

    def _show_answers(self, kinds: tuple[Kind, ...], looked: str) -> None:
        heads, rows = side_by_side(kinds)
        self._answers.setColumnCount(len(heads))
        self._answers.setHorizontalHeaderLabels(heads)
        marks = [" · looked at" if kind.machine == looked else "" for kind in kinds]
        named = [(f"{row[0]}{mark}", *row[1:]) for row, mark in zip(rows, marks, strict=True)]
        _fill(self._answers, named)
        self._shared.setText("\n".join(shared_sentences(kinds)))
        self._on_selected()

    def _draw_maps(self, kinds: tuple[Kind, ...]) -> None:
        """Time and limit share of every trial on each kind, on the same axes."""
        layout = self._maps.layout()
        assert layout is not None

        while layout.count():
            item = layout.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()

        shown = kinds[:MOST_MAPS]
        points = [[t for t in kind.results.trials if t.is_on_map] for kind in shown]
        flat = [t for trials in points for t in trials]

        if not flat:
            return

        xs = np.log2([t.seconds.value for t in flat if t.seconds is not None])
        ys = np.log2([max(t.share.value, 1e-3) for t in flat if t.share is not None])

        for kind, trials in zip(shown, points, strict=True):
            plot = pg.PlotWidget(
                axisItems={
                    "bottom": LogAxis("bottom", "s", _nothing),
                    "left": LogAxis("left", "", _nothing),
                }
            )
            plot.setMenuEnabled(False)
            plot.hideButtons()
            plot.setMouseEnabled(False, False)
            plot.setAccessibleName(f"Trials on {kind.label}")
            dress(
                plot,
                self._theme,
                f"seconds on {HERE if kind.is_here else kind.label}",
                "limit share",
            )
            plot.setXRange(xs.min() - 0.25, xs.max() + 0.25, padding=0)
            plot.setYRange(min(ys.min(), 0) - 0.25, max(ys.max(), 0) + 0.25, padding=0)
            plot.addItem(pg.InfiniteLine(0.0, 0, pen=pg.mkPen(self._theme.line, width=1)))
            marks = MarkLayer(OUTLINES)
            pick = kind.results.pick()

            marks.set_places(
                [t.id for t in trials],
                np.log2([t.seconds.value for t in trials if t.seconds is not None]),
                np.log2([max(t.share.value, 1e-3) for t in trials if t.share is not None]),
            )
            looks = []

            for t in trials:
                is_pick = pick is not None and t.id == pick.trial.id
                shape, role = (
                    ("wing", "pick")
                    if is_pick
                    else (shape_of(t.verdict, t.is_base), mark_role(t.verdict, t.is_base))
                )
                looks.append(
                    Look(
                        shape,
                        PICK_PIXELS if is_pick else MARK_PIXELS,
                        self._theme.colour(role).name(),
                    )
                )

            marks.set_looks(np.arange(len(looks)), looks)
            plot.addItem(marks)
            layout.addWidget(plot)

    def _ask(self, look: bool = False) -> None:
        address = self._address.text().strip()
        in_use = self._use.isChecked()
        keys = self._folder

        if not address:
            address = self._address.placeholderText()

        self.state_changed.emit()
        self.ask(lambda session: session.use_machines(address, keys, in_use))
        if look:
            self.ask(lambda session: session.look_for_machines())

    @property
    def _folder(self) -> str:
        return str(self._keys.property("folder") or "")

    def _choose_keys(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "The folder of the machines' keys")
        self._keys.setProperty("folder", folder)
        self._keys.setText("Keys chosen" if folder else "Keys …")

    def _on_selected(self) -> None:
        self._show.setEnabled(self._answers.currentRow() >= 0)

    def _on_menu(self, at: QPoint) -> None:
        row = self._answers.rowAt(at.y())
        viewport = self._answers.viewport()

        if row >= 0 and viewport is not None:
            menu = QMenu(self)
            menu.addAction("Look at its times", lambda: self._look_at(row))
            menu.popup(viewport.mapToGlobal(at))

    def _look_at(self, row: int) -> None:
        if 0 <= row < len(self._kinds):
            machine = self._kinds[row].machine
            self.ask(lambda session: session.look_at_machine(machine))


def _beside_this(machine: str, kinds: tuple[Kind, ...]) -> str:
    """How fast a machine renders the base, beside this computer."""
    own = next((kind for kind in kinds if kind.is_here), None)
    other = next((kind for kind in kinds if kind.machine == machine), None)
    if (
        own is None
        or other is None
        or own.results.base is None
        or other.results.base is None
        or own is other
    ):
        return ""

    here = own.results.base.times
    there = other.results.base.times
    gain: Figure = factor(here, there, common_spread([here, there]))

    return f"{gain.value:.2f} times as fast"


def _table(heads: tuple[str, ...], name: str, long: int) -> QTableWidget:
    """A table; the column `long` has descriptions of machines, which are cut short where they are
    too long."""
    table = QTableWidget(0, len(heads))
    table.setHorizontalHeaderLabels(heads)
    table.setAccessibleName(name)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    table.setShowGrid(False)
    table.setFrameShape(QFrame.Shape.NoFrame)
    table.setWordWrap(False)
    rows, columns = table.verticalHeader(), table.horizontalHeader()
    assert rows is not None
    assert columns is not None
    rows.hide()
    columns.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    columns.setSectionResizeMode(long, QHeaderView.ResizeMode.Interactive)
    table.setColumnWidth(long, LONG_PIXELS)
    columns.setStretchLastSection(True)
    columns.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)

    return table


def _fill(table: QTableWidget, rows: Sequence[tuple[str, ...]]) -> None:
    """Show these rows, as high as they are, no higher than a few."""
    table.setRowCount(len(rows))
    for row, told in enumerate(rows):
        for column, words in enumerate(told):
            old = table.item(row, column)
            if old is None or old.text() != words:
                item = QTableWidgetItem(words)
                item.setToolTip(words)
                table.setItem(row, column, item)

    header = table.horizontalHeader()
    heads = header.sizeHint().height() if header is not None else 0
    table.setFixedHeight(
        heads + sum(table.rowHeight(row) for row in range(min(MOST_ROWS, len(rows)))) + ROOM_PIXELS
    )


def _nothing() -> None:
    """Axes of small maps are not clicked."""
