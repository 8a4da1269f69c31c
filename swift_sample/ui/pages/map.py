"""The map: time across, limit share up, both logarithmic; a mark for each trial, and one line that can be dragged."""

import math
from html import escape
from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QPixmap
from PyQt6.QtWidgets import QFrame, QGraphicsItem, QLabel, QPushButton, QVBoxLayout, QWidget

from swift_sample.app.ledger_model import trail_of
from swift_sample.app.pictures import PictureStore, thumbnail
from swift_sample.core.measure.knee import knee
from swift_sample.core.study.acceptance import RANKS, quantity
from swift_sample.core.study.pick_report import show_factor, show_phases, show_seconds
from swift_sample.core.study.results import Results, TrialResult, show_error
from swift_sample.ui.pages.page import Page
from swift_sample.ui.theme import NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.mark_layer import Look, MarkLayer
from swift_sample.ui.widgets.marks import OUTLINES, mark_role, shape_of
from swift_sample.ui.widgets.parts import dress
from swift_sample.ui.widgets.words import PlainLabel

if TYPE_CHECKING:
    from swift_sample.core.study.search import Outlook

MARK_PIXELS, PICK_PIXELS = 11, 30
DIM, BASE, PICK = 1, 2, 4
MARKS = tuple((bool(k & PICK), bool(k & BASE), bool(k & DIM)) for k in range(8))
"""Whether a mark of each verdict is that of the pick, of the base, and dimmed, in the order of these bits."""
REACH_PIXELS = 9.0
"""How near to a mark's middle the pointer must be."""
LEAST_SHARE = 2.0**-7
"""Limit shares below this stand at the bottom."""
LEAST_LINE, MOST_LINE = 2.0**-4, 2.0**6
HALF_STEPS_BELOW = 3.0
"""Ranges of fewer doublings than this have ticks half way as well."""
TRAIL_ANCHORS = ((-0.35, 0.95), (1.35, 0.95), (-0.35, 0.05), (1.35, 0.05), (0.5, 1.6))
"""Where a trail's labels may stand at their marks: above to the right, to the left, below, and on top."""
_INF = 1e6


class _LogAxis(pg.AxisItem):
    """Ticks at powers of two of the values, which are given as their logarithm to base two."""

    def __init__(self, side: str, unit: str) -> None:
        super().__init__(side)
        self._unit = unit
        self.enableAutoSIPrefix(False)  # values are logarithms, which have no thousandths

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        step = max(1, math.ceil((high - low) / max(2.0, size / 64)))
        whole = [float(v) for v in range(math.ceil(low), math.floor(high) + 1) if v % step == 0]
        if high - low < HALF_STEPS_BELOW:
            between = [v + math.log2(1.5) for v in range(math.floor(low), math.ceil(high) + 1)]
            whole = sorted([*whole, *(v for v in between if low <= v <= high)])
        return [(step, whole)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        return [(f"{round(2.0**v, 6):g}" if v >= -3 else f"{2.0**v:.2g}") + self._unit for v in values]


CARD_WIDTH = 300
SECONDS_WITHOUT_MARKS, SHARES_WITHOUT_MARKS = (-1.0, 4.0), (-3.0, 1.0)
"""What an empty map shows, as logarithms to base two."""


class _Card(QFrame):
    """What is known of the trial under the pointer."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._picture, self._title, self._text = PlainLabel(), PlainLabel(), QLabel()
        self._title.setFont(font(NORMAL, bold=True))
        self._text.setFont(font(SMALL))
        self._text.setTextFormat(Qt.TextFormat.RichText)
        self._text.setWordWrap(True)
        self._text.setFixedWidth(CARD_WIDTH)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.setSpacing(4)
        for label in (self._picture, self._title, self._text):
            column.addWidget(label)
        self.hide()

    def show_trial(self, trial: TrialResult, results: Results, picture: QPixmap | None, theme: Theme, at: QPoint) -> None:
        self._picture.setVisible(picture is not None)
        if picture is not None:
            self._picture.setPixmap(picture)
        assert trial.seconds is not None
        reach = (trial.seconds.high - trial.seconds.low) / 2
        self._title.setText(f"{show_seconds(trial.seconds.value)} ± {reach:.2g}" + (" · base" if trial.is_base else ""))
        lines = [trial.configuration.describe(None if trial.is_base else results.study.base, most=8)]
        if not trial.is_base:
            lines.append(show_factor(trial.times_faster))
        for key, share in trial.shares.items():
            text = escape(f"{quantity(key).label} {show_error(key, trial, results)}")
            lines.append(f"<span style='color:{theme.over}'>{text}</span>" if share.value > results.line else text)
        lines.append(f"<span style='color:{theme.quiet}'>{show_phases(trial)}</span>")
        forbidden = f", {trial.forbidden} must not be used" if trial.forbidden else ""
        lines.append(f"{trial.verdict}{escape(forbidden)}, measured {len(trial.runs)}×")
        self._stand(lines, at)

    def show_outlook(self, outlook: "Outlook", results: Results, theme: Theme, at: QPoint) -> None:
        """A prediction, in words that cannot be taken for a measurement."""
        self._picture.hide()
        self._title.setText("expected, not measured")
        seconds, share = outlook.seconds, outlook.share
        chance = "to beat the pick" if results.pick() is not None else "to be acceptable"
        self._stand(
            [
                escape(outlook.configuration.describe(results.study.base, most=8)),
                f"about {show_seconds(seconds.value)}, from {seconds.low:.2g} to {show_seconds(seconds.high)}",
                f"about {share.value:.2g} of the limits, from {share.low:.2g} to {share.high:.2g}",
                f"<span style='color:{theme.quiet}'>{outlook.chance:.0%} chance {chance}</span>",
            ],
            at,
        )

    def _stand(self, lines: list[str], at: QPoint) -> None:
        """Show these lines beside a place, inside the window."""
        self._text.setText("<br>".join(lines))
        layout, parent = self.layout(), self.parentWidget()
        assert layout is not None
        assert parent is not None
        layout.activate()
        self.resize(layout.sizeHint())
        x = at.x() + 18 if at.x() + 18 + self.width() < parent.width() else at.x() - 18 - self.width()
        y = min(max(4, at.y() - self.height() // 2), parent.height() - self.height() - 4)
        self.move(max(4, x), y)
        self.show()
        self.raise_()


LEAST_FLOOR_SHOWN = -2.5
"""The reference's own grain is kept in sight down to this logarithm of a limit share; further down it matters to nothing."""


class MapPage(Page):
    """Every trial as a mark: time across, limit share up, and the acceptance line to drag."""

    name = "Map"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._shown: list[TrialResult] = []
        self._hovered: str | None = None
        self._drawn: tuple[Any, ...] | None = None
        self._labelled: object = None
        self._trail_labels: list[tuple[str, float, float, str, tuple[tuple[float, float], ...]]] = []
        self._places = np.zeros((0, 2))
        self._fitted_to: tuple[float, ...] = ()
        self._plot = pg.PlotWidget(axisItems={"bottom": _LogAxis("bottom", " s"), "left": _LogAxis("left", "")})
        self._plot.setMenuEnabled(False)
        self._plot.hideButtons()
        self._plot.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._plot.setAccessibleName("Map of trials: time across, limit share up")
        self._view = self._plot.getPlotItem().getViewBox()
        self._ground = pg.LinearRegionItem((-_INF, 0), "horizontal", movable=False)
        self._frontier, self._trail = pg.PlotCurveItem(), pg.PlotCurveItem()
        self._bars = pg.PlotCurveItem(connect="pairs")
        self._bars.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self._marks = MarkLayer(OUTLINES)
        self._rings = pg.ScatterPlotItem(pxMode=True, antialias=True)
        self._predictions = pg.ScatterPlotItem(pxMode=True, antialias=True)
        self._line = pg.InfiniteLine(
            0,
            angle=0,
            movable=True,
            bounds=(math.log2(LEAST_LINE), math.log2(MOST_LINE)),
            label="acceptable below",
            labelOpts={"position": 0.985, "anchors": [(1, 0.5), (1, 0.5)], "movable": False},
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
                self._frontier,
                self._trail,
                self._bars,
                self._rings,
                self._predictions,
                self._marks,
            )
        ):
            item.setZValue(z)
            self._plot.addItem(item)
        self._labels: list[tuple[pg.TextItem, tuple[tuple[float, float], ...]]] = []
        self._line_words = PlainLabel()
        self._line_words.setProperty("quiet", True)
        self._keep_line, self._drop_line = QPushButton("Make these the limits"), QPushButton("Put the line back")
        self._keep_line.clicked.connect(lambda: self.asked.emit(lambda session: session.keep_line()))
        self._drop_line.clicked.connect(lambda: self._move_line(1.0))
        self._hint = PlainLabel("", self)
        self._hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._hint.setProperty("quiet", True)
        self._hint.setWordWrap(True)
        self._card = _Card(self)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 4, 16, 8)
        column.addWidget(self._plot)
        self._line.sigPositionChanged.connect(self._on_line_dragged)
        self._plot.scene().sigMouseMoved.connect(self._on_mouse_moved)
        self._plot.scene().sigMouseClicked.connect(self._on_mouse_clicked)
        self._pictures.arrived.connect(lambda _: self._show_card())
        self.set_theme(theme)

    def start_anew(self) -> None:
        self._fitted_to, self._drawn, self._labelled = (), None, None
        self._hovered = None
        self._card.hide()

    def tools(self) -> list[QWidget]:
        return [self._line_words, self._keep_line, self._drop_line]

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        dress(self._plot, theme, "time of a render", "limit share")
        for side in ("bottom", "left"):
            self._plot.getAxis(side).setGrid(70)
        self._ground.setBrush(theme.colour("acceptable", 16))
        for edge in self._ground.lines:
            edge.setPen(pg.mkPen(None))
        self._line.setPen(pg.mkPen(theme.acceptable, width=2))
        self._line.setHoverPen(pg.mkPen(theme.acceptable, width=4))
        self._line.label.setColor(theme.acceptable)
        self._line.label.fill = pg.mkBrush(theme.page)
        self._line.label.border = pg.mkPen(theme.acceptable)
        self._frontier.setPen(pg.mkPen(theme.quiet, width=1))
        self._trail.setPen(pg.mkPen(theme.ink, width=2))
        self.refresh()

    def refresh(self) -> None:
        """Draw what changed of the model's state since the last time: everything, or where the line was dragged or a chip
        hovered only what that concerns."""
        model = self.model
        results = model.results if model is not None else None
        asks = model is not None and model.line != 1.0
        self._keep_line.setVisible(asks)
        self._drop_line.setVisible(asks)
        self._line_words.setText(
            f"what if: {model.line:.2f} times the limits"
            if model is not None and asks
            else "drag the line: what if? · click marks: compare"
        )
        if results is None or model is None:
            self._shown, self._drawn = [], None
            self._show_hint(None)
            self._remove_labels()
            for item in (self._frontier, self._trail, self._bars, self._rings, self._predictions):
                item.setData([], [])
            self._marks.set_places([], np.zeros(0), np.zeros(0))
            return
        drawn, self._drawn = (
            self._drawn,
            (
                results.origin,
                model.selected_setting,
                self._theme.name,
                model.advice,
                model.activity.measuring,
                results,
                tuple(model.selected),
                model.lit,
            ),
        )
        if drawn is not None and drawn[0] is self._drawn[0] and drawn[1:5] == self._drawn[1:5]:
            if drawn[5] is self._drawn[5] and drawn[6:] == self._drawn[6:]:
                return
        else:
            self._draw_all(results)
        self._draw_line(results)
        self._draw_looks(results)
        self._draw_rings()
        self._draw_labels(results)

    def _draw_all(self, results: Results) -> None:
        """What stays as it is while the line is dragged."""
        self._shown = [t for t in results.trials if t.is_on_map]
        self._places = np.array([_place(t) for t in self._shown], float).reshape(-1, 2)
        self._marks.set_places([t.id for t in self._shown], self._places[:, 0], self._places[:, 1])
        self._show_hint(results)
        self._draw_bars()
        self._draw_predictions(results)
        self._draw_frontier(results)
        self._draw_trail(results)
        self._draw_floor(results)
        self._fit()

    def _draw_line(self, results: Results) -> None:
        level = math.log2(results.line)
        if abs(self._line.value() - level) > 1e-9:
            self._line.setValue(level)
        self._ground.setRegion((-_INF, level))

    def _draw_labels(self, results: Results) -> None:
        """Words at the base, the pick and the trail; made anew only where they have changed."""
        pick, wanted = results.pick(), list(self._trail_labels)
        for trial, words, role in ((results.base, "base", "ink"), (pick.trial if pick is not None else None, "", "pick")):
            if (
                trial is None
                or not trial.is_on_map
                or trial.seconds is None
                or (role == "ink" and pick is not None and pick.trial.id == trial.id)
            ):
                continue
            x, y = _place(trial)
            wanted.insert(0, (words or show_seconds(trial.seconds.value), x, y, role, ((0.5, -0.55), (0.5, 1.55))))
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
        """Up and down move the acceptance line, Home puts it back to 1."""
        if event is None or self.model is None:
            return
        step = {Qt.Key.Key_Up: 1.02, Qt.Key.Key_Down: 1 / 1.02}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Home:
            self._move_line(1.0)
        elif step is None:
            super().keyPressEvent(event)
        else:
            self._move_line(min(MOST_LINE, max(LEAST_LINE, self.model.line * step)))

    @property
    def acceptance_line(self) -> pg.InfiniteLine:
        """The line that can be dragged."""
        return self._line

    def place_of(self, trial_id: str) -> QPointF | None:
        """Where a trial's mark stands, in this widget's pixels."""
        place = self._marks.place_of(trial_id)
        return (
            None
            if place is None
            else QPointF(self._plot.mapToParent(self._plot.mapFromScene(self._view.mapViewToScene(place))))
        )

    def _draw_looks(self, results: Results) -> None:
        """The marks: their places hardly change, their looks follow verdicts, pick and what is hovered."""
        codes = results.ranks[results.on_map].astype(np.intp) * len(MARKS)
        lit = self.model.lit if self.model is not None else frozenset()
        if lit:
            codes += DIM * np.array([trial.id not in lit for trial in self._shown], np.intp)
        pick = results.pick()
        for trial, code in ((results.base, BASE), (pick.trial if pick is not None else None, PICK)):
            if trial is not None and trial.is_on_map:
                codes[np.searchsorted(results.on_map, results.places[trial.id])] += code
        looks = []
        for verdict in RANKS:
            for pick_too, base_too, dim in MARKS:
                role = "pick" if pick_too else mark_role(verdict, base_too)
                shape = "wing" if pick_too else shape_of(verdict, base_too)
                pixels = PICK_PIXELS if pick_too else MARK_PIXELS + (2 if base_too else 0)
                looks.append(Look(shape, pixels, self._theme.colour(role).name(), 60 if dim else 255))
        self._marks.set_looks(codes, looks)

    def _draw_bars(self) -> None:
        """The intervals of time and limit share."""
        ends = np.array(
            [
                (t.seconds.low, t.seconds.high, t.share.low, t.share.high)
                for t in self._shown
                if t.seconds is not None and t.share is not None
            ],
            float,
        ).reshape(-1, 4)
        x, y = self._places[:, 0], self._places[:, 1]
        shares = np.log2(np.maximum(ends[:, 2:], LEAST_SHARE))
        across = np.column_stack([np.log2(ends[:, :2]), x, x]).ravel()
        up = np.column_stack([y, y, shares]).ravel()
        self._bars.setData(across, up)
        self._bars.setPen(pg.mkPen(self._theme.colour("quiet", 110), width=1))

    def _draw_rings(self) -> None:
        assert self.model is not None
        chosen = [trial for name in self.model.selected if (trial := self._trial(name)) is not None and trial.is_on_map]
        self._rings.setData(
            [
                {
                    "pos": _place(t),
                    "symbol": "o",
                    "size": MARK_PIXELS + 9,
                    "brush": None,
                    "pen": pg.mkPen(self._theme.ink, width=1.5),
                }
                for t in chosen
            ]
        )

    def _draw_predictions(self, results: Results) -> None:
        """What a search expects of combinations that were not rendered: dotted outlines, which nothing else has."""
        advice = self.model.advice if self.model is not None else None
        known = {trial.configuration.effective() for trial in self._shown} if advice is not None else set()
        outlooks = [o for o in advice.outlooks if o.configuration.effective() not in known] if advice is not None else []
        dots = pg.mkPen(self._theme.colour("quiet"), width=1.4, style=Qt.PenStyle.DotLine)
        self._predictions.setData(
            [
                {
                    "pos": (math.log2(o.seconds.value), _log_share(o.share.value)),
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
        points = [_place(t) for t in results.frontier()]
        xs, ys = [], []
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
        trail = trail_of(results.study, results, key) if key is not None else []
        self._trail_labels = []
        if len(trail) < 2 or key is None:
            self._trail.setData([], [])
            return
        xs, ys = zip(*(_place(t) for t in trail), strict=True)
        self._trail.setData(np.array(xs, float), np.array(ys, float))
        spans = [t.seconds for t in trail if t.seconds is not None]
        bend = None
        if max(s.low for s in spans) > min(s.high for s in spans):  # else their times cannot be told apart
            bend = knee([(t.seconds.value, max(t.share.value, 1e-6)) for t in trail if t.seconds and t.share])
        for k, trial in enumerate(trail):
            x, y = _place(trial)
            words = trial.configuration.catalogue[key].show(trial.configuration[key])
            self._trail_labels.append((f"{words} · knee" if k == bend else words, x, y, "ink", TRAIL_ANCHORS))

    def _draw_floor(self, results: Results) -> None:
        """The reference's own grain as a share of the grain limit: nothing can be told from errors near it."""
        snapshot = self.model.snapshot if self.model is not None else None
        limit = results.limits.grain
        floor = snapshot.reference.floor if snapshot is not None and snapshot.reference is not None else None
        known = floor is not None and limit is not None
        self._floor.setVisible(known and bool(self._shown))
        if floor is not None and limit is not None:
            self._floor.setPos(_log_share(floor / limit))
            self._floor.setPen(pg.mkPen(self._theme.colour("quiet", 130), width=1, style=Qt.PenStyle.DotLine))
            self._floor.label.setColor(self._theme.colour("quiet"))

    def _label(self, text: str, x: float, y: float, role: str, *anchors: tuple[float, float]) -> None:
        """Words at a mark; `anchors` are the places they may take, the best first."""
        label = pg.TextItem(text, color=self._theme.colour(role), anchor=anchors[0])
        label.setFont(font(SMALL, bold=True))
        label.setPos(x, y)
        label.setZValue(20)
        self._plot.addItem(label)
        self._labels.append((label, anchors))

    def _untangle_labels(self) -> None:
        """Give every label the first of its places where it covers none of those before it."""
        taken: list[QRectF] = []
        for label, anchors in self._labels:
            size, at = label.boundingRect().size(), self._view.mapViewToScene(label.pos())
            places = [
                QRectF(at.x() - ax * size.width(), at.y() - ay * size.height(), size.width(), size.height())
                for ax, ay in anchors
            ]
            best = next((k for k, place in enumerate(places) if not any(place.intersects(other) for other in taken)), 0)
            label.setAnchor(anchors[best])
            taken.append(places[best])

    def _fit(self) -> None:
        """Frame everything whenever the outermost marks changed; in between the view stays where it was put."""
        if not self._shown:
            self._fitted_to = ()
            self._view.setXRange(*SECONDS_WITHOUT_MARKS, padding=0)
            self._view.setYRange(*SHARES_WITHOUT_MARKS, padding=0)
            return
        places = self._places
        floor = float(self._floor.value()) if self._floor.isVisible() else 0.0
        outer = tuple(round(v, 3) for v in (*places.min(axis=0), *places.max(axis=0), floor))
        if outer == self._fitted_to:
            return
        self._fitted_to = outer
        self._view.setXRange(outer[0] - 0.35, outer[2] + 0.45, padding=0)
        lowest = min(outer[1] - 0.6, -0.6, max(floor, LEAST_FLOOR_SHOWN) - 0.25)
        self._view.setYRange(lowest, max(outer[3], 0.0) + 0.6, padding=0)

    def _show_hint(self, results: Results | None) -> None:
        self._hint.setVisible(not self._shown)
        if results is not None and not self._shown:
            measuring = self.model is not None and self.model.activity.measuring
            self._hint.setText(
                "The first mark appears as soon as the reference and one trial are rendered."
                if measuring
                else "Here every trial becomes a mark: time across, error up. Press Measure to begin."
            )

    def resizeEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._hint.setGeometry(self.width() // 4, self.height() // 3, self.width() // 2, 60)
        self._hint.raise_()
        self._card.hide()
        super().resizeEvent(event)

    def _on_line_dragged(self) -> None:
        if self.model is not None and abs(math.log2(self.model.line) - float(self._line.value())) > 1e-9:
            self._move_line(2.0 ** float(self._line.value()))

    def _move_line(self, line: float) -> None:
        self.asked.emit(lambda session: session.set_line(line))

    def _trial_at(self, scene_point: QPointF) -> TrialResult | None:
        trial_id = self._marks.at(self._view.mapSceneToView(scene_point), REACH_PIXELS)
        return self._trial(trial_id)

    def _trial(self, trial_id: str | None) -> TrialResult | None:
        results = self.model.results if self.model is not None else None
        return results.by_id.get(trial_id) if results is not None and trial_id is not None else None

    def _on_mouse_moved(self, scene_point: QPointF) -> None:
        trial = self._trial_at(scene_point)
        name = trial.id if trial is not None else None
        outlooks = self._predictions.pointsAt(self._view.mapSceneToView(scene_point)) if trial is None else []
        results = self.model.results if self.model is not None else None
        if len(outlooks) and results is not None:
            self._hovered = None
            self._card.show_outlook(outlooks[0].data(), results, self._theme, scene_point.toPoint())
        elif name is None and self._hovered is None:
            self._card.hide()
        if name != self._hovered:
            self._hovered = name
            self._show_card()

    def _show_card(self) -> None:
        trial = self._trial(self._hovered)
        results = self.model.results if self.model is not None else None
        if trial is None or results is None or self.model is None:
            self._card.hide()
            return
        picture = None
        path = self.model.snapshot.picture_of(trial.id) if self.model.snapshot is not None else None
        if path is not None:
            shown = self._pictures.get(path, results.study.view)
            if shown is not None and shown.image is not None:
                picture = QPixmap.fromImage(thumbnail(shown.image))
        place = self.place_of(trial.id)
        if place is not None:
            self._card.show_trial(trial, results, picture, self._theme, place.toPoint())

    def _on_mouse_clicked(self, event) -> None:  # type: ignore[no-untyped-def]
        trial = self._trial_at(event.scenePos())
        if event.double() and trial is None and self.model is not None:
            self._move_line(1.0)
        if trial is not None:
            name = trial.id
            if event.double():
                base = self.model.results.base if self.model is not None and self.model.results is not None else None
                beside = [] if base is None or base.id == name else [base.id]
                self.asked.emit(lambda session: session.compare([name, *beside]))
                self.page_wanted.emit("Look")
            else:
                self.asked.emit(lambda session: session.toggle_selected(name))
            event.accept()


def _place(trial: TrialResult) -> tuple[float, float]:
    assert trial.seconds is not None
    assert trial.share is not None
    return math.log2(trial.seconds.value), _log_share(trial.share.value)


def _log_share(share: float) -> float:
    return math.log2(max(share, LEAST_SHARE))
