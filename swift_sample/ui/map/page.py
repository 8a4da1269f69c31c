"""The map: time across, limit share up, both logarithmic; a mark for each trial, and one line that
can be dragged. Another quantity can be chosen on either axis."""

import math
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QContextMenuEvent, QCursor, QKeyEvent, QPixmap
from PyQt6.QtWidgets import QGraphicsItem, QMenu, QPushButton, QVBoxLayout, QWidget

from swift_sample.app.axes import SHARE, TIME, Axis, axis_named, lower_axes, upper_axes
from swift_sample.app.ledger_model import trail_of
from swift_sample.app.pictures import PictureStore
from swift_sample.app.toning import Source, thumbnail
from swift_sample.core.measure.knee import knee
from swift_sample.core.study.answers.acceptance import RANKS
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.plan import edits
from swift_sample.ui.dialogs.remark import RemarkDialog
from swift_sample.ui.map.field import FieldLayer
from swift_sample.ui.page import Page
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.log_axis import LogAxis
from swift_sample.ui.widgets.mark_layer import Look, MarkLayer
from swift_sample.ui.widgets.marks import OUTLINES, mark_role, shape_of
from swift_sample.ui.widgets.parts import dress
from swift_sample.ui.widgets.trial_card import TrialCard
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

MARK_PIXELS, PICK_PIXELS, EARLIER_PIXELS = 11, 30, 9
LEFT_OUT_ALPHA, EARLIER_ALPHA, DIM_ALPHA = 70, 90, 60
DIM, BASE, PICK = 1, 2, 4
MARKS = tuple((bool(k & PICK), bool(k & BASE), bool(k & DIM)) for k in range(8))
"""Whether a mark of each verdict is that of the pick, of the base, and dimmed, in the order of
these bits."""
REACH_PIXELS = 9.0
"""How near to a mark's middle the pointer must be."""
LEAST_LINE = 2.0**-4
MOST_LINE = 2.0**6
OWN_ANCHORS = ((0.5, -0.55), (0.5, 1.55), (-0.35, 0.95), (-0.35, 0.05))
"""Where the names of base and pick may stand: below, above, and to the right."""
TRAIL_ANCHORS = ((-0.35, 0.95), (1.35, 0.95), (-0.35, 0.05), (1.35, 0.05), (0.5, 1.6))
"""Where a trail's labels may stand at their marks: above to the right, to the left, below, and on
top."""
_INF = 1e6


SECONDS_WITHOUT_MARKS = (-1.0, 4.0)
SHARES_WITHOUT_MARKS = (-3.0, 1.0)
"""What an empty map shows, as logarithms to base two."""


DIRECTIONS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, 1),
    Qt.Key.Key_Down: (0, -1),
}
ROOM_FOR_WORDS = 860
"""Pixels of the page under which its hint beside the tabs makes way."""
MOST_KEPT_CLEAR = 400
"""Marks that labels keep clear of; among more of them there is no room anyway."""
LEAST_FLOOR_SHOWN = -2.5
"""The reference's own grain is kept in sight down to this logarithm of a limit share; further down
it matters to nothing."""


class MapPage(Page):
    """Every trial as a mark: time across, limit share up, and the acceptance line to drag."""

    name = "Map"
    KEYS = (
        ("← → ↑ ↓", "walk the marks, from the pick"),
        ("Shift with ← → ↑ ↓", "walk the dots: what was derived and not timed"),
        ("Space", "compare the mark, or not"),
        ("Return", "look at it, render it once more, name it, leave it out"),
        ("Page Up, Page Down", "move the acceptance line; Home puts it back"),
        ("X, Y", "what stands on the axes"),
        ("F", "frame everything"),
    )

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._shown: list[TrialResult] = []
        self._hovered: str | None = None
        self._drawn: tuple[Any, ...] | None = None
        self._labelled: object = None
        self._trail_labels: list[
            tuple[str, float, float, str, tuple[tuple[float, float], ...]]
        ] = []
        self._places = np.zeros((0, 2))
        self._at: dict[str, int] = {}
        """where each trial stands among those that are shown"""
        self._among_trials = np.zeros(0, np.intp)
        """where each that is shown stands among all trials"""
        self._left_out = np.zeros(0, bool)
        self._fitted_to: tuple[float, ...] = ()
        self._upper = self._lower = ""
        self._axes = (Axis(TIME, "time of a render", "s"), Axis(SHARE, "limit share", "", 1.0))
        """what stands across and up"""
        self._current: str | None = None
        """the mark that the keys walk from"""
        self._dot: FieldPoint | None = None
        """and the dot"""
        self._earlier: tuple[TrialResult, ...] = ()
        self._across = LogAxis("bottom", "s", lambda: self._choose_axis(0))
        self._up = LogAxis("left", "", lambda: self._choose_axis(1))
        self._plot = pg.PlotWidget(axisItems={"bottom": self._across, "left": self._up})
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._plot.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._plot.setFocusProxy(self)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Map of trials: time across, limit share up")
        self._view = self._plot.getPlotItem().getViewBox()
        self._ground = pg.LinearRegionItem((-_INF, 0), "horizontal", movable=False)
        self._frontier = pg.PlotCurveItem()
        self._trail = pg.PlotCurveItem()
        self._bars = pg.PlotCurveItem(connect="pairs")
        self._bars.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self._field = FieldLayer()
        self._marks = MarkLayer(OUTLINES)
        self._quiet_marks = MarkLayer(OUTLINES)
        self._walker = pg.ScatterPlotItem(pxMode=True, antialias=True)
        self._rings = pg.ScatterPlotItem(pxMode=True, antialias=True)
        self._predictions = pg.ScatterPlotItem(pxMode=True, antialias=True)

        self._line = pg.InfiniteLine(
            0,
            angle=0,
            movable=True,
            bounds=(math.log2(LEAST_LINE), math.log2(MOST_LINE)),
            label="acceptable below",
            labelOpts={"position": 0.01, "anchors": [(0, 0), (0, 0)], "movable": False},
        )
        self._floor = pg.InfiniteLine(
            0,
            angle=0,
            movable=False,
            label="the reference's own grain",
            labelOpts={"position": 0.985, "anchors": [(1, 1), (1, 1)], "movable": False},
        )

        for z, item in enumerate(
            (
                self._ground,
                self._floor,
                self._line,
                *self._field.items,
                self._frontier,
                self._trail,
                self._bars,
                self._quiet_marks,
                self._rings,
                self._walker,
                self._predictions,
                self._marks,
            )
        ):
            item.setZValue(z)
            self._plot.addItem(item)

        self._labels: list[tuple[pg.TextItem, tuple[tuple[float, float], ...]]] = []
        self._line_words = PlainLabel()
        self._line_words.setProperty("quiet", True)
        self._keep_line = QPushButton("Make these the limits")
        self._drop_line = QPushButton("Reset the line")
        self._keep_line.clicked.connect(lambda: self.ask(lambda session: session.keep_line()))
        self._drop_line.clicked.connect(lambda: self._move_line(1.0))
        self._derive_rest = QPushButton("Derive the rest", self)
        self._derive_rest.setToolTip(
            "Figures of every combination of the values that the study tries, out of recordings"
        )
        self._derive_rest.clicked.connect(lambda: self.ask(lambda session: session.derive_field()))
        self._hint = PlainLabel("", self)
        self._hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._hint.setProperty("quiet", True)
        self._hint.setWordWrap(True)
        self._card = TrialCard(self)
        self._frame_all = QPushButton("Frame everything", self)
        self._frame_all.setToolTip("Show all marks again (F)")
        self._frame_all.clicked.connect(self.frame_everything)
        self._frame_all.hide()
        self._derive_rest.hide()
        self._view.sigRangeChangedManually.connect(lambda *_: self._frame_all.show())
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 4, 16, 8)
        column.addWidget(self._plot)
        self._line.sigPositionChanged.connect(self._on_line_dragged)
        self._plot.scene().sigMouseMoved.connect(self._on_mouse_moved)
        self._plot.scene().sigMouseClicked.connect(self._on_mouse_clicked)
        self._pictures.arrived.connect(lambda _: self._show_card())
        self.set_theme(theme)

    def start_anew(self) -> None:
        self._fitted_to = ()
        self._drawn = None
        self._labelled = None
        self._hovered = self._current = self._dot = None
        self._frame_all.hide()
        self._card.hide()

    def kept_state(self) -> dict[str, str]:
        return {"across": self._lower, "up": self._upper}

    def take_state(self, state: dict[str, str]) -> None:
        self._lower = state.get("across", "")
        self._upper = state.get("up", "")

    def tools(self) -> list[QWidget]:
        return [self._line_words, self._keep_line, self._drop_line]

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        across, up = self._axes
        dress(self._plot, theme, _axis_words(across), _axis_words(up))
        for side in ("bottom", "left"):
            self._plot.getAxis(side).setGrid(70)

        self._ground.setBrush(theme.colour("acceptable", 16))
        for edge in self._ground.lines:
            edge.setPen(pg.mkPen(None))

        self._line.setPen(pg.mkPen(theme.acceptable, width=2))
        self._line.setHoverPen(pg.mkPen(theme.acceptable, width=4))
        self._line.label.setColor(theme.acceptable)
        self._frontier.setPen(pg.mkPen(theme.quiet, width=1))
        self._trail.setPen(pg.mkPen(theme.ink, width=2))
        self.refresh()

    def refresh(self) -> None:
        """Draw what changed of the model's state since the last time: everything, or where the line
        was dragged or a chip hovered only what that concerns."""
        model = self.model
        results = model.results if model is not None else None
        asks = model is not None and model.line != 1.0
        self._keep_line.setVisible(asks)
        self._drop_line.setVisible(asks)

        field = model.field_shown if model is not None else None
        busy = model is not None and model.activity.measuring
        self._derive_rest.setVisible(field is not None and not field.is_whole and not busy)
        self._line_words.setText(self._words_beside_tabs())
        if results is None or model is None:
            self._shown = []
            self._drawn = None
            self._show_hint(None)
            self._remove_labels()
            self._field.show(None, self._axes, self._theme)
            for item in (self._frontier, self._trail, self._bars, self._rings, self._predictions):
                item.setData([], [])

            for marks in (self._marks, self._quiet_marks):
                marks.set_places([], np.zeros(0), np.zeros(0))

            self._walker.setData([], [])
            return

        self._take_axes(results)
        drawn = self._drawn

        self._drawn = (
            results.origin,
            model.selected_setting,
            self._theme.name,
            model.advice,
            (model.activity.measuring, id(field), *self._axes),
            results,
            tuple(model.selected),
            model.lit,
        )
        if drawn is not None and drawn[0] is self._drawn[0] and drawn[1:5] == self._drawn[1:5]:
            if drawn[5] is self._drawn[5] and drawn[6:] == self._drawn[6:]:
                return
        else:
            self._draw_all(results)

        self._draw_line(results)
        self._draw_looks(results)
        self._draw_rings()
        self._draw_walker()
        self._draw_labels(results)

    def _words_beside_tabs(self) -> str:
        """What the line asks, else how much of the field is known, else what can be done here."""
        model = self.model
        if model is not None and model.line != 1.0:
            return f"what if the limits were {model.line:.2f}×"
        if model is not None and model.field_shown is not None:
            return model.field_shown.words
        if self._axes[1].key == SHARE:
            return "drag the line: what if? · click marks: compare"

        return "click an axis: show something else"

    def _draw_all(self, results: Results) -> None:
        """What stays as it is while the line is dragged."""
        self._shown = [t for t in results.trials if self._is_placed(t)]
        self._places = self._places_of(self._shown)
        self._at = {t.id: k for k, t in enumerate(self._shown)}
        self._among_trials = np.array([results.places[t.id] for t in self._shown], np.intp)
        self._left_out = np.array([bool(t.remark.left_out) for t in self._shown], bool)
        self._marks.set_places([t.id for t in self._shown], self._places[:, 0], self._places[:, 1])
        snapshot = self.model.snapshot if self.model is not None else None
        self._earlier = (
            tuple(t for t in snapshot.earlier if self._is_placed(t)) if snapshot is not None else ()
        )
        places = self._places_of(self._earlier)
        self._quiet_marks.set_places([t.id for t in self._earlier], places[:, 0], places[:, 1])
        looks = [
            Look(shape_of(v, False), EARLIER_PIXELS, self._theme.quiet, EARLIER_ALPHA)
            for v in RANKS
        ]
        self._quiet_marks.set_looks(
            np.array([RANKS.index(t.verdict) for t in self._earlier], np.intp), looks
        )
        field = self.model.field_shown if self.model is not None else None
        self._field.show(field, self._axes, self._theme)
        self._show_hint(results)
        self._draw_bars()
        self._draw_predictions(results)
        self._draw_frontier(results)
        self._draw_trail(results)
        self._draw_floor(results)
        self._fit()

    def _draw_line(self, results: Results) -> None:
        """The acceptance line, which can be dragged; over another quantity than the limit share its
        limit, which cannot."""
        up = self._axes[1]
        self._line.setMovable(up.key == SHARE)
        self._line.setVisible(up.limit is not None)
        self._ground.setVisible(up.limit is not None)
        self._line.label.setFormat(
            "acceptable below"
            if up.key == SHARE
            else f"limit {up.limit or 0:.3g} {up.unit}".strip()
        )
        level = math.log2(results.line if up.key == SHARE else up.limit or 1.0)

        if abs(self._line.value() - level) > 1e-9:
            self._line.setValue(level)

        self._ground.setRegion((-_INF, level))
        self._field.judge(results.line, self._theme)

    def _draw_labels(self, results: Results) -> None:
        """Words at the base, the pick and the trail, one label a mark; made anew only where they
        have changed."""
        pick = results.pick()
        wanted = list(self._trail_labels)

        for trial, words, role in (
            (results.base, "base", "ink"),
            (pick.trial if pick is not None else None, "", "pick"),
        ):
            if (
                trial is None
                or not self._is_placed(trial)
                or trial.seconds is None
                or (role == "ink" and pick is not None and pick.trial.id == trial.id)
            ):
                continue

            x, y = self._place(trial)
            told = [
                words or show_seconds(trial.seconds.value),
                *(label[0] for label in wanted if label[1:3] == (x, y)),
            ]
            wanted = [label for label in wanted if label[1:3] != (x, y)]
            wanted.insert(0, (" · ".join(told), x, y, role, OWN_ANCHORS))

        for trial in self._shown if results.study.remarks else ():
            if trial.remark.name:
                wanted.append((trial.remark.name, *self._place(trial), "text", TRAIL_ANCHORS))

        state = (wanted, self._theme.name, self._fitted_to)
        if state != self._labelled:
            self._labelled = state
            self._remove_labels()
            for text, x, y, role, anchors in wanted:
                self._label(text, x, y, role, *anchors)

            self._untangle_labels()

    def _remove_labels(self) -> None:
        for label, _ in self._labels:
            self._plot.removeItem(label)
        self._labels = []

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk the marks, Space compares, Return opens a mark's menu; Page Up and Page Down
        move the acceptance line, Home puts it back to 1; F frames everything; X and Y choose what
        stands on the axes."""
        if event is None or self.model is None:
            return

        key = Qt.Key(event.key())
        step = {Qt.Key.Key_PageUp: 1.02, Qt.Key.Key_PageDown: 1 / 1.02}.get(key)
        current = self._current

        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in DIRECTIONS and shift:
            self._walk_dots(*DIRECTIONS[key])
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._dot is not None:
            there = self._in_widget(self._field.place_of(self._dot))
            if there is not None:
                self.show_dot_menu(self._dot, self.mapToGlobal(there))
        elif key in DIRECTIONS:
            self._walk(*DIRECTIONS[key])
        elif key == Qt.Key.Key_Home:
            self._move_line(1.0)
        elif key == Qt.Key.Key_F:
            self.frame_everything()
        elif key in (Qt.Key.Key_X, Qt.Key.Key_Y):
            self._choose_axis(int(key == Qt.Key.Key_Y))
        elif key == Qt.Key.Key_Space and current is not None:
            self.ask(lambda session: session.toggle_selected(current))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Menu) and current is not None:
            place = self.place_of(current)
            self.show_menu(
                current, self.mapToGlobal(place.toPoint() if place is not None else QPoint(0, 0))
            )
        elif key == Qt.Key.Key_Escape and current is not None:
            self._stand_at(None)
        elif step is not None and self._axes[1].key == SHARE:
            self._move_line(min(MOST_LINE, max(LEAST_LINE, self.model.line * step)))
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if self._current is not None:
            self._card.hide()
        super().focusOutEvent(event)

    def _walk(self, across: int, up: int) -> None:
        """Go to the nearest mark in a direction; at first to the pick, else the base, else any."""
        if not self._shown:
            return

        results = self.model.results if self.model is not None else None
        pick = results.pick() if results is not None else None

        if self._current is None or self._marks.place_of(self._current) is None:
            first: TrialResult | None = None
            if pick is not None:
                first = pick.trial
            elif results is not None:
                first = results.base

            if first is not None and self._marks.place_of(first.id) is not None:
                name = first.id
            else:
                name = self._shown[0].id
        else:
            name = self._marks.towards(self._current, across, up) or self._current

        self._stand_at(name)

    def _walk_dots(self, across: int, up: int) -> None:
        """Go to the nearest dot in a direction; at first to the fastest acceptable one."""
        results = self.model.results if self.model is not None else None
        dot = self._field.towards(self._dot, across, up, results.line if results else 1.0)
        place = self._in_widget(self._field.place_of(dot)) if dot is not None else None
        if dot is None or place is None or results is None:
            return

        self._stand_at(None)
        self._dot = dot
        self._card.show_point(dot, results, self._theme, place)
        assert dot.seconds is not None
        words = dot.configuration.describe(results.study.base, most=8)
        verdict = dot.standing.verdict(results.line)
        told = f"{words}, about {show_seconds(dot.seconds.value)}, foreseen, {verdict}"
        self.setAccessibleDescription(told)

    def _in_widget(self, place: QPointF | None) -> QPoint | None:
        """A place of the plot in this widget's pixels."""
        if place is None:
            return None

        at = self._plot.mapFromScene(self._view.mapViewToScene(place))
        return self._plot.mapToParent(at)

    def _stand_at(self, name: str | None) -> None:
        self._dot = None
        self._current = self._hovered = name
        self._draw_walker()
        self._show_card()
        trial = self._trial(name)

        if trial is not None and self.model is not None and trial.seconds is not None:
            called = trial.called(self.model.study.base)
            self.setAccessibleDescription(
                f"{called}, {show_seconds(trial.seconds.value)}, {trial.verdict}"
            )

        self.ask(lambda session: session.point_at(name))

    def frame_everything(self) -> None:
        """Show all marks."""
        self._fitted_to = ()
        self._fit()
        self._frame_all.hide()

    def show_menu(self, trial_id: str, at: QPoint) -> None:
        """What can be done with a trial."""
        trial = self._trial(trial_id)
        if trial is None or self.model is None:
            return

        measuring = self.model.activity.measuring
        planned = self.model.results is not None and trial_id in self.model.results.by_id
        menu = QMenu(self)
        compared = "Take out of the comparison" if trial_id in self.model.selected else "Compare"

        for words, do, why_not in (
            ("Look at it", lambda: self._look_at(trial_id), ""),
            (compared, lambda: self.ask(lambda session: session.toggle_selected(trial_id)), ""),
            (
                "Render it once more",
                lambda: self.ask(lambda session: session.run_again(trial_id)),
                "Pause measuring first" if measuring else "",
            ),
            ("Name and note …", lambda: self.ask_remark(trial_id), ""),
            (
                "Count it again" if trial.remark.left_out else "Leave it out …",
                lambda: (
                    self._take_back(trial_id)
                    if trial.remark.left_out
                    else self.ask_remark(trial_id, leave_out=True)
                ),
                "It is the base"
                if trial.is_base
                else ""
                if planned
                else "It is not planned any more",
            ),
            (
                "Make it the base",
                lambda: self.ask(lambda session: session.edit(edits.set_base(trial.configuration))),
                "It is the base" if trial.is_base else "",
            ),
        ):
            action = menu.addAction(words)
            assert action is not None
            action.setEnabled(not why_not)
            action.setToolTip(plain_tip(why_not))
            action.triggered.connect(lambda _=False, do=do: do())

        menu.setToolTipsVisible(True)
        menu.popup(at)

    def _dot_at(self, scene_point: QPointF) -> FieldPoint | None:
        """The combination of the field under the pointer."""
        return self._field.at(self._view.mapSceneToView(scene_point), REACH_PIXELS)

    def show_dot_menu(self, point: FieldPoint, at: QPoint) -> None:
        """What can be done with a combination that nobody has timed."""
        if self.model is None:
            return

        base = self.model.study.base
        changes = point.configuration.differences(base)
        measuring = self.model.activity.measuring
        menu = QMenu(self)
        menu.addSection(point.configuration.describe(base, most=6))
        action = menu.addAction("Time it")
        assert action is not None
        action.setEnabled(not measuring)
        action.setToolTip("Pause measuring first" if measuring else "Render it, and keep it")
        action.triggered.connect(lambda: self.ask(lambda session: session.try_changes(changes)))
        look = menu.addAction("Look at it, and turn its knobs")
        assert look is not None
        look.triggered.connect(lambda: self._look_at_dot(point))
        menu.setToolTipsVisible(True)
        menu.popup(at)

    def _look_at_dot(self, point: FieldPoint) -> None:
        """Show the derived picture of a combination in Look."""
        self.ask(lambda session: session.show_settings(point.configuration))
        self.page_wanted.emit("Look")

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None and self._hovered is not None:
            self.show_menu(self._hovered, event.globalPos())

    def ask_remark(self, trial_id: str, leave_out: bool = False) -> RemarkDialog | None:
        """Ask for a trial's name, note, and whether it is left out."""
        trial = self._trial(trial_id)
        if trial is None or self.model is None:
            return None

        dialog = RemarkDialog(
            trial.configuration.describe(self.model.study.base, most=8), trial.remark, self
        )
        dialog.left_out.setEnabled(not trial.is_base)

        dialog.remarked.connect(
            lambda remark: self.ask(lambda session: session.remark(trial_id, remark))
        )
        dialog.open()
        (dialog.left_out if leave_out else dialog.name).setFocus()

        return dialog

    def _take_back(self, trial_id: str) -> None:
        trial = self._trial(trial_id)
        if trial is not None:
            self.ask(lambda session: session.remark(trial_id, replace(trial.remark, left_out="")))

    def _choose_axis(self, which: int) -> None:
        """Offer what can stand on an axis: 0 across, 1 up."""
        results = self.model.results if self.model is not None else None
        if results is None:
            return

        menu = QMenu(self)
        for axis in (lower_axes, upper_axes)[which](results):
            action = menu.addAction(axis.label)
            assert action is not None
            action.setCheckable(True)
            action.setChecked(axis.key == self._axes[which].key)
            action.triggered.connect(lambda _=False, key=axis.key: self.show_axis(which, key))

        menu.popup(
            QCursor.pos() if self.underMouse() else self.mapToGlobal(QPoint(60, self.height() // 2))
        )

    def show_axis(self, which: int, key: str) -> None:
        """Put a quantity on an axis: 0 across, 1 up."""
        if which:
            self._upper = key
        else:
            self._lower = key

        self._fitted_to = ()
        self.refresh()
        self.state_changed.emit()

    def _take_axes(self, results: Results) -> None:
        axes = (
            axis_named(lower_axes(results), self._lower),
            axis_named(upper_axes(results), self._upper),
        )
        if axes != self._axes:
            self._axes = axes
            self._across.unit = axes[0].unit
            self._up.unit = axes[1].unit
            dress(self._plot, self._theme, _axis_words(axes[0]), _axis_words(axes[1]))
            self.setAccessibleName(f"Map of trials: {axes[0].label} across, {axes[1].label} up")

    def _is_placed(self, trial: TrialResult) -> bool:
        across, up = self._axes
        return trial.is_on_map and across.figure(trial) is not None and up.figure(trial) is not None

    def _place(self, trial: TrialResult) -> tuple[float, float]:
        x, y = ((axis, axis.figure(trial)) for axis in self._axes)
        assert x[1] is not None
        assert y[1] is not None
        return math.log2(max(x[1].value, x[0].least)), math.log2(max(y[1].value, y[0].least))

    def _places_of(self, trials: Iterable[TrialResult]) -> np.ndarray:
        return np.array([self._place(t) for t in trials], float).reshape(-1, 2)

    @property
    def acceptance_line(self) -> pg.InfiniteLine:
        """The line that can be dragged."""
        return self._line

    def place_of(self, trial_id: str) -> QPointF | None:
        """Where a trial's mark stands, in this widget's pixels."""
        place = self._marks.place_of(trial_id) or self._quiet_marks.place_of(trial_id)
        found = self._in_widget(place)
        return QPointF(found) if found is not None else None

    @property
    def dots(self) -> dict[str, tuple[float, float]]:
        """Where the dots of the field stand, in logarithms to base two of what the axes show."""
        return self._field.where

    def _draw_looks(self, results: Results) -> None:
        """The marks: their places hardly change, their looks follow verdicts, pick and what is
        hovered."""
        codes = results.ranks[self._among_trials].astype(np.intp) * len(MARKS)
        lit = self.model.lit if self.model is not None else frozenset()

        if lit:
            faint = np.ones(len(codes), np.intp)
            faint[[self._at[name] for name in lit if name in self._at]] = 0
            codes += DIM * faint

        codes |= DIM * self._left_out.astype(np.intp)
        pick = results.pick()

        for trial, code in ((results.base, BASE), (pick.trial if pick is not None else None, PICK)):
            if trial is not None and trial.id in self._at:
                codes[self._at[trial.id]] += code

        looks = []
        for verdict in RANKS:
            for pick_too, base_too, dim in MARKS:
                role = "pick" if pick_too else mark_role(verdict, base_too)
                shape = "wing" if pick_too else shape_of(verdict, base_too)
                pixels = PICK_PIXELS if pick_too else MARK_PIXELS + (2 if base_too else 0)
                looks.append(
                    Look(shape, pixels, self._theme.colour(role).name(), DIM_ALPHA if dim else 255)
                )

        self._marks.set_looks(codes, looks)

    def _draw_bars(self) -> None:
        """The intervals on both axes."""
        x, y = self._places[:, 0], self._places[:, 1]
        ends = []

        for axis in self._axes:
            figures = [axis.figure(t) for t in self._shown]
            both = np.array([(f.low, f.high) for f in figures if f is not None], float).reshape(
                -1, 2
            )
            ends.append(np.log2(np.maximum(both, axis.least)))

        across = np.column_stack([ends[0], x, x]).ravel()
        up = np.column_stack([y, y, ends[1]]).ravel()
        self._bars.setData(across, up)
        self._bars.setPen(pg.mkPen(self._theme.colour("quiet", 110), width=1))

    def _draw_rings(self) -> None:
        assert self.model is not None
        found = (self._trial(name) for name in self.model.selected)
        chosen = [trial for trial in found if trial is not None and self._is_placed(trial)]

        self._rings.setData(
            [
                {
                    "pos": self._place(t),
                    "symbol": "o",
                    "size": MARK_PIXELS + 9,
                    "brush": None,
                    "pen": pg.mkPen(self._theme.ink, width=1.5),
                }
                for t in chosen
            ]
        )

    def _draw_walker(self) -> None:
        """A broken ring around the mark that the keys stand at."""
        trial = self._trial(self._current)
        if trial is None or not self._is_placed(trial):
            self._walker.setData([], [])
            return

        pen = pg.mkPen(self._theme.text, width=1.5, style=Qt.PenStyle.DashLine)
        self._walker.setData(
            [
                {
                    "pos": self._place(trial),
                    "symbol": "o",
                    "size": MARK_PIXELS + 15,
                    "brush": None,
                    "pen": pen,
                }
            ]
        )

    def _draw_predictions(self, results: Results) -> None:
        """What a search expects of combinations that were not rendered: dotted outlines, which
        nothing else has."""
        usual = (self._axes[0].key, self._axes[1].key) == (TIME, SHARE)
        advice = self.model.advice if self.model is not None and usual else None
        known = (
            {trial.configuration.effective() for trial in self._shown}
            if advice is not None
            else set()
        )
        outlooks = (
            [o for o in advice.outlooks if o.configuration.effective() not in known]
            if advice is not None
            else []
        )
        dots = pg.mkPen(self._theme.colour("quiet"), width=1.4, style=Qt.PenStyle.DotLine)

        self._predictions.setData(
            [
                {
                    "pos": (
                        math.log2(o.seconds.value),
                        math.log2(max(o.share.value, self._axes[1].least)),
                    ),
                    "symbol": "o",
                    "size": MARK_PIXELS + 1,
                    "brush": None,
                    "pen": dots,
                    "data": o,
                }
                for o in outlooks
            ]
        )

    def _draw_frontier(self, results: Results) -> None:
        if (self._axes[0].key, self._axes[1].key) == (TIME, SHARE):
            points = [self._place(t) for t in results.frontier() if self._is_placed(t)]
        else:
            points = []
            for x, y in sorted(map(tuple, self._places.tolist())):
                if not points or y < points[-1][1]:
                    points.append((x, y))

        xs = []
        ys = []

        for k, (x, y) in enumerate(points):
            if k:
                xs.append(x)
                ys.append(points[k - 1][1])

            xs.append(x)
            ys.append(y)

        self._frontier.setData(np.array(xs, float), np.array(ys, float))

    def _draw_trail(self, results: Results) -> None:
        assert self.model is not None
        key = self.model.selected_setting
        trail = (
            [t for t in trail_of(results.study, results, key) if self._is_placed(t)]
            if key is not None
            else []
        )
        self._trail_labels = []

        if len(trail) < 2 or key is None:
            self._trail.setData([], [])
            return

        xs, ys = zip(*(self._place(t) for t in trail), strict=True)
        self._trail.setData(np.array(xs, float), np.array(ys, float))
        spans = [t.seconds for t in trail if t.seconds is not None]
        bend = None

        if max(s.low for s in spans) > min(
            s.high for s in spans
        ):  # else their times cannot be told apart
            bend = knee(
                [
                    (t.seconds.value, max(t.share.value, 1e-6))
                    for t in trail
                    if t.seconds and t.share
                ]
            )

        for k, trial in enumerate(trail):
            x, y = self._place(trial)
            words = trial.configuration.catalogue[key].show(trial.configuration[key])
            self._trail_labels.append(
                (f"{words} · knee" if k == bend else words, x, y, "ink", TRAIL_ANCHORS)
            )

    def _draw_floor(self, results: Results) -> None:
        """The reference's own grain as a share of the grain limit: nothing can be told from errors
        near it."""
        snapshot = self.model.snapshot if self.model is not None else None
        limit = results.limits.grain
        floor = (
            snapshot.reference.floor
            if snapshot is not None and snapshot.reference is not None
            else None
        )
        known = floor is not None and limit is not None and self._axes[1].key == SHARE
        self._floor.setVisible(known and bool(self._shown))

        if floor is not None and limit is not None:
            self._floor.setPos(math.log2(max(floor / limit, self._axes[1].least)))
            self._floor.setPen(
                pg.mkPen(self._theme.colour("quiet", 130), width=1, style=Qt.PenStyle.DotLine)
            )
            self._floor.label.setColor(self._theme.colour("quiet"))

    def _label(
        self, text: str, x: float, y: float, role: str, *anchors: tuple[float, float]
    ) -> None:
        """Words at a mark; `anchors` are the places they may take, the best first."""
        label = pg.TextItem(text, color=self._theme.colour(role), anchor=anchors[0])
        label.setFont(font(SMALL, bold=True))
        label.setPos(x, y)
        label.setZValue(20)
        self._plot.addItem(label)
        self._labels.append((label, anchors))

    def _untangle_labels(self) -> None:
        """Give every label the first of its places where it covers none of those before it and no
        mark, or as few as can be: a mark that is covered shows through, two words on each other
        cannot be read."""
        reach = MARK_PIXELS / 2
        at = [
            self._view.mapViewToScene(QPointF(x, y))
            for x, y in self._places[:MOST_KEPT_CLEAR].tolist()
        ]
        marks = [QRectF(p.x() - reach, p.y() - reach, MARK_PIXELS, MARK_PIXELS) for p in at]
        taken: list[QRectF] = []

        for label, anchors in self._labels:
            size = label.boundingRect().size()
            at = self._view.mapViewToScene(label.pos())
            places = [
                QRectF(
                    at.x() - ax * size.width(),
                    at.y() - ay * size.height(),
                    size.width(),
                    size.height(),
                )
                for ax, ay in anchors
            ]

            covered = [
                tuple(sum(map(place.intersects, others)) for others in (taken, marks))
                for place in places
            ]
            best = covered.index(min(covered))
            label.setAnchor(anchors[best])
            taken.append(places[best])

    def _fit(self) -> None:
        """Frame everything whenever the outermost marks changed; in between the view stays where it
        was put."""
        if not self._shown:
            self._fitted_to = ()
            self._view.setXRange(*SECONDS_WITHOUT_MARKS, padding=0)
            self._view.setYRange(*SHARES_WITHOUT_MARKS, padding=0)
            return

        places = np.vstack([self._places, self._field.places])
        floor = float(self._floor.value()) if self._floor.isVisible() else 0.0
        outer = tuple(round(v, 3) for v in (*places.min(axis=0), *places.max(axis=0), floor))

        if outer == self._fitted_to:
            return

        self._fitted_to = outer
        self._view.setXRange(outer[0] - 0.35, outer[2] + 0.45, padding=0)
        limit = self._axes[1].limit
        line = math.log2(limit) if limit is not None else outer[1]
        lowest = min(outer[1], line) - 0.6

        if self._floor.isVisible():
            lowest = min(lowest, max(floor, LEAST_FLOOR_SHOWN) - 0.25)

        self._view.setYRange(lowest, max(outer[3], line) + 0.6, padding=0)

    def _show_hint(self, results: Results | None) -> None:
        self._hint.setVisible(not self._shown)
        if results is not None and not self._shown:
            measuring = self.model is not None and self.model.activity.measuring
            there = [trial for trial in results.trials if trial.is_on_map]
            unknown = [
                axis.label
                for axis in self._axes
                if all(axis.figure(trial) is None for trial in there)
            ]
            lacking = unknown[0] if there and unknown else ""

            self._hint.setText(
                f"No trial has its {lacking} measured yet. Click an axis to show something else."
                if lacking
                else "The first mark appears as soon as the reference and one trial are rendered."
                if measuring
                else (
                    "This page shows every trial as a mark: time across, error up. Find the "
                    "fastest begins."
                )
            )

    def resizeEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._line_words.setMaximumWidth(16_777_215 if self.width() >= ROOM_FOR_WORDS else 0)
        self._hint.setGeometry(self.width() // 4, self.height() // 3, self.width() // 2, 60)
        self._hint.raise_()
        right = self.width() - 28
        for button in (self._derive_rest, self._frame_all):
            button.adjustSize()
            button.move(right - button.width(), 10)
            button.raise_()
            right -= button.width() + 8

        self._card.hide()
        super().resizeEvent(event)

    def _on_line_dragged(self) -> None:
        if (
            self.model is not None
            and self._axes[1].key == SHARE
            and abs(math.log2(self.model.line) - float(self._line.value())) > 1e-9
        ):
            self._move_line(2.0 ** float(self._line.value()))

    def _move_line(self, line: float) -> None:
        self.ask(lambda session: session.set_line(line))

    def _trial_at(self, scene_point: QPointF) -> TrialResult | None:
        place = self._view.mapSceneToView(scene_point)
        return self._trial(
            self._marks.at(place, REACH_PIXELS) or self._quiet_marks.at(place, REACH_PIXELS)
        )

    def _trial(self, trial_id: str | None) -> TrialResult | None:
        return (
            self.model.trial(trial_id) if self.model is not None and trial_id is not None else None
        )

    def _on_mouse_moved(self, scene_point: QPointF) -> None:
        trial = self._trial_at(scene_point)
        name = trial.id if trial is not None else None
        outlooks = (
            self._predictions.pointsAt(self._view.mapSceneToView(scene_point))
            if trial is None
            else []
        )
        results = self.model.results if self.model is not None else None

        dot = self._dot_at(scene_point) if trial is None and not len(outlooks) else None
        if dot is not None and results is not None:
            self._hovered = None
            self._card.show_point(dot, results, self._theme, scene_point.toPoint())
        elif len(outlooks) and results is not None:
            self._hovered = None
            self._card.show_outlook(outlooks[0].data(), results, self._theme, scene_point.toPoint())
        elif name is None and self._hovered is None:
            self._card.hide()

        if name != self._hovered:
            self._hovered = name
            self._show_card()
            self.ask(lambda session: session.point_at(name))

    def _show_card(self) -> None:
        trial = self._trial(self._hovered)
        results = self.model.results if self.model is not None else None

        if trial is None or results is None or self.model is None:
            self._card.hide()
            return

        picture = None
        path = self.model.snapshot.picture_of(trial.id) if self.model.snapshot is not None else None

        if path is not None:
            layers = self._pictures.get(path)
            if layers is not None and not layers.problem:
                picture = QPixmap.fromImage(
                    thumbnail(Source(layers=layers, view=results.study.view))
                )

        place = self.place_of(trial.id)
        if place is not None:
            earlier = trial.id not in results.by_id
            self._card.show_trial(trial, results, picture, self._theme, place.toPoint(), earlier)

    def _on_mouse_clicked(self, event) -> None:  # type: ignore[no-untyped-def]
        trial = self._trial_at(event.scenePos())
        if event.double() and trial is None and self.model is not None:
            self._move_line(1.0)

        dot = self._dot_at(event.scenePos()) if trial is None and not event.double() else None
        if dot is not None:
            self.show_dot_menu(dot, QCursor.pos())
            event.accept()

        if trial is not None and event.button() == Qt.MouseButton.LeftButton:
            name = trial.id
            if event.double():
                self._look_at(name)
            else:
                self.ask(lambda session: session.toggle_selected(name))

            event.accept()

    def _look_at(self, name: str) -> None:
        """Show a trial beside the base in Look."""
        base = (
            self.model.results.base
            if self.model is not None and self.model.results is not None
            else None
        )
        beside = [] if base is None or base.id == name else [base.id]
        self.ask(lambda session: session.compare([name, *beside]))
        self.page_wanted.emit("Look")


def _axis_words(axis: Axis) -> str:
    return (
        f"{axis.label} ▾"
        if not axis.unit or axis.unit in ("s", "MiB", "%")
        else f"{axis.label}, {axis.unit} ▾"
    )
