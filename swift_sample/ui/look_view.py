"""Look: two to four trials, or the reference, at the same place and zoom, side by side or under a wipe."""

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from swift_sample.core.study.pick_report import show_seconds
from swift_sample.core.study.results import Results, TrialResult, quantity, show_limit
from swift_sample.ui.marks import mark_of, mark_role, paint_mark, wing
from swift_sample.ui.pictures import PictureStore
from swift_sample.ui.session import Session
from swift_sample.ui.theme import SMALL, Theme, font

REFERENCE = -1
"""Stands for the reference where a trial's number is expected."""

ZOOMS = (0.25, 1 / 3, 0.5, 1.0, 2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0, 24.0, 32.0)
"""Screen pixels for a pixel of the picture: whole steps above one."""
HEAD_HEIGHT, FOOT_HEIGHT, GAP, MARGIN = 32, 28, 12, 12
GRAB_PIXELS = 8


@dataclass
class Viewport:
    """What part of the pictures is seen, shared by all panes: the picture point in the middle, and the zoom."""

    centre: QPointF | None = None
    zoom: float | None = None
    """None: as large as fits in whole steps"""


@dataclass(frozen=True)
class Shown:
    """One picture to draw."""

    number: int
    image: QImage | None
    message: str


class PictureCanvas(QWidget):
    """Draws one to four pictures under one viewport. Drag moves, the wheel zooms, the wipe's edge can be dragged."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._shown: list[Shown] = []
        self._wipe = False
        self.wipe_share = 0.5
        self.viewport = Viewport()
        self._dragging: QPointF | None = None
        self._dragging_wipe = False
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Pictures; drag to move, wheel or plus and minus to zoom, 0 fits")

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def show_pictures(self, shown: list[Shown], wipe: bool) -> None:
        self._shown, self._wipe = shown, wipe and len(shown) >= 2
        self.update()

    def panes(self) -> list[QRectF]:
        """Where each picture's pane lies; one pane for all under a wipe."""
        count = 1 if self._wipe else max(1, len(self._shown))
        columns = count if count <= 2 else 2
        rows = (count + columns - 1) // columns
        width = (self.width() - GAP * (columns - 1)) / columns
        height = (self.height() - GAP * (rows - 1)) / rows
        return [QRectF((k % columns) * (width + GAP), (k // columns) * (height + GAP), width, height)
                for k in range(count)]

    def zoom(self) -> float:
        """Screen pixels for a pixel of the picture."""
        if self.viewport.zoom is not None:
            return self.viewport.zoom
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return 1.0
        pane = self.panes()[0]
        fit = min(pane.width() / image.width(), pane.height() / image.height())
        return fit

    def zoom_by_step(self, up: bool, at: QPointF | None = None) -> None:
        """Zoom one whole step in or out, keeping the picture point under `at` in place."""
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return
        now = self.zoom()
        steps = [z for z in ZOOMS if (z > now * 1.001 if up else z < now * 0.999)]
        if not steps:
            return
        pane = next((p for p in self.panes() if at is not None and p.contains(at)), self.panes()[0])
        target = self._target(pane, image)
        anchor = at if at is not None else pane.center()
        point = QPointF((anchor.x() - target.x()) / now, (anchor.y() - target.y()) / now)
        self.viewport.zoom = steps[0] if up else steps[-1]
        z = self.viewport.zoom
        self.viewport.centre = QPointF(point.x() + (pane.center().x() - anchor.x()) / z,
                                       point.y() + (pane.center().y() - anchor.y()) / z)
        self.update()

    def fit(self) -> None:
        """Show the whole pictures."""
        self.viewport.zoom = self.viewport.centre = None
        self.update()

    def _target(self, pane: QRectF, image: QImage) -> QRectF:
        """Where the whole picture lies on the screen for a pane."""
        z = self.zoom()
        centre = self.viewport.centre or QPointF(image.width() / 2, image.height() / 2)
        left, top = pane.center().x() - centre.x() * z, pane.center().y() - centre.y() * z
        return QRectF(round(left), round(top), image.width() * z, image.height() * z)

    def paintEvent(self, _: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), self._theme.colour("surround"))
            panes = self.panes()
            if not self._wipe:
                for shown, pane in zip(self._shown, panes, strict=False):
                    self._paint_picture(painter, shown, pane, pane)
                return
            pane = panes[0]
            edge = pane.x() + pane.width() * self.wipe_share
            left, right = QRectF(pane), QRectF(pane)
            left.setRight(edge)
            right.setLeft(edge)
            self._paint_picture(painter, self._shown[0], pane, left)
            self._paint_picture(painter, self._shown[1], pane, right)
            painter.setPen(QPen(self._theme.colour("page"), 2))
            painter.drawLine(QPointF(edge, pane.top()), QPointF(edge, pane.bottom()))

    def _paint_picture(self, painter: QPainter, shown: Shown, pane: QRectF, clip: QRectF) -> None:
        painter.save()
        painter.setClipRect(clip)
        if shown.image is None:
            painter.setPen(self._theme.colour("page"))
            painter.setFont(font())
            painter.drawText(clip.adjusted(20, 0, -20, 0), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                             shown.message)
        else:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.zoom() < 1)
            painter.drawImage(self._target(pane, shown.image), shown.image)
        painter.restore()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self._dragging_wipe = self._wipe and abs(event.position().x() - self._wipe_edge()) <= GRAB_PIXELS
        self._dragging = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        near = self._wipe and abs(event.position().x() - self._wipe_edge()) <= GRAB_PIXELS
        self.setCursor(Qt.CursorShape.SplitHCursor if near or self._dragging_wipe else Qt.CursorShape.OpenHandCursor)
        if self._dragging is None:
            return
        if self._dragging_wipe:
            pane = self.panes()[0]
            self.wipe_share = min(0.98, max(0.02, (event.position().x() - pane.x()) / max(1.0, pane.width())))
        else:
            self._move_by(event.position() - self._dragging)
        self._dragging = event.position()
        self.update()

    def mouseReleaseEvent(self, _: QMouseEvent | None) -> None:
        self._dragging, self._dragging_wipe = None, False

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.angleDelta().y():
            self.zoom_by_step(event.angleDelta().y() > 0, event.position())

    def _wipe_edge(self) -> float:
        pane = self.panes()[0]
        return pane.x() + pane.width() * self.wipe_share

    def _move_by(self, delta: QPointF) -> None:
        image = next((s.image for s in self._shown if s.image is not None), None)
        if image is None:
            return
        z = self.zoom()
        centre = self.viewport.centre or QPointF(image.width() / 2, image.height() / 2)
        self.viewport.zoom = z
        self.viewport.centre = QPointF(min(float(image.width()), max(0.0, centre.x() - delta.x() / z)),
                                       min(float(image.height()), max(0.0, centre.y() - delta.y() / z)))


class TrialHead(QWidget):
    """Which trial a pane shows: its mark, time and settings, and a list to choose another one."""

    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme = theme
        self._trial: TrialResult | None = None
        self._is_pick = False
        self._list = QComboBox()
        self._list.setFont(font(SMALL))
        self._list.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._list.setStyleSheet("border: none;")
        self._list.setAccessibleName("Trial shown")
        self._list.activated.connect(lambda _: self.chosen.emit(self._list.currentData()))
        row = QHBoxLayout(self)
        row.setContentsMargins(34, 0, 28, 0)
        row.addWidget(self._list, 1)
        self.setFixedHeight(HEAD_HEIGHT)

    def show_choice(self, results: Results, number: int, theme: Theme) -> None:
        self._theme = theme
        pick = results.pick()
        self._trial = next((t for t in results.trials if t.number == number), None)
        self._is_pick = pick is not None and pick.trial.number == number
        wanted = [("reference", REFERENCE)]
        for trial in sorted((t for t in results.trials if t.seconds is not None),
                            key=lambda t: t.seconds.value if t.seconds else 0):
            assert trial.seconds is not None
            words = "base" if trial.is_base else trial.configuration.describe(results.study.base)
            prefix = "pick: " if pick is not None and trial.number == pick.trial.number else ""
            wanted.append((f"{show_seconds(trial.seconds.value)}   {prefix}{words}", trial.number))
        if [(self._list.itemText(k), self._list.itemData(k)) for k in range(self._list.count())] != wanted:
            self._list.clear()
            for words, value in wanted:
                self._list.addItem(words, value)
        self._list.setCurrentIndex(self._list.findData(number))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            painter.setPen(self._theme.colour("quiet"))
            painter.drawText(self.rect().adjusted(0, 0, -12, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                             "▾")
        if self._trial is not None:
            path = wing() if self._is_pick else mark_of(self._trial.verdict, self._trial.is_base)
            role = "pick" if self._is_pick else mark_role(self._trial.verdict, self._trial.is_base)
            with QPainter(self) as painter:
                paint_mark(painter, path, QPointF(20, self.height() / 2), 22 if self._is_pick else 12, self._theme, role)


class LookView(QWidget):
    """Reads a session's selection; without one it shows the pick beside the base."""

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__()
        self.setObjectName("lookPage")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme, self._pictures = theme, pictures
        self._session: Session | None = None
        self._numbers: list[int] = []
        self._reference_samples = 0
        self.canvas = PictureCanvas(theme)
        self._heads: list[TrialHead] = []
        self._feet: list[QLabel] = []
        self._head_row, self._foot_row = QHBoxLayout(), QHBoxLayout()
        for row in (self._head_row, self._foot_row):
            row.setSpacing(GAP)
        self._modes = QButtonGroup(self)
        self.controls = QWidget()
        bar = QHBoxLayout(self.controls)
        bar.setContentsMargins(0, 0, 0, 0)
        for name, tip in (("side by side", "Two to four pictures beside one another"),
                          ("wipe", "One over the other, with an edge to drag")):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setToolTip(tip)
            button.setObjectName(name)
            button.clicked.connect(self.refresh)
            self._modes.addButton(button)
            bar.addWidget(button)
        self._modes.buttons()[0].setChecked(True)
        self._zoom = QPushButton("fit")
        self._zoom.setToolTip("Show the whole pictures (0)")
        self._zoom.clicked.connect(self._fit)
        bar.addWidget(self._zoom)
        column = QVBoxLayout(self)
        column.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        column.setSpacing(4)
        column.addLayout(self._head_row)
        column.addWidget(self.canvas, 1)
        column.addLayout(self._foot_row)
        pictures.arrived.connect(self._on_picture)

    def set_session(self, session: Session | None) -> None:
        self._session = session
        self._numbers = []
        self.canvas.fit()
        self.refresh()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.canvas.set_theme(theme)
        self.refresh()

    @property
    def mode(self) -> str:
        checked = self._modes.checkedButton()
        return checked.objectName() if checked is not None else "side by side"

    def set_mode(self, name: str) -> None:
        """Show the pictures `side by side` or under a `wipe`."""
        for button in self._modes.buttons():
            button.setChecked(button.objectName() == name)
        self.refresh()

    @property
    def numbers(self) -> list[int]:
        """The trials shown, REFERENCE for the reference."""
        return list(self._numbers)

    def refresh(self) -> None:
        """Show the session's selection."""
        session = self._session
        results = session.results if session is not None else None
        if session is None or results is None or not self.isVisible():
            return
        self._numbers = _what_to_show(session, results)
        self._make_panes(len(self._numbers))
        snapshot = session.snapshot
        samples = snapshot.reference.samples if snapshot is not None and snapshot.reference is not None else 0
        if snapshot is not None and samples != self._reference_samples:
            self._pictures.forget(snapshot.reference_path)
            self._reference_samples = samples
        shown = []
        for number, head, foot in zip(self._numbers, self._heads, self._feet, strict=True):
            head.show_choice(results, number, self._theme)
            foot.setText(_figures_line(results, number, snapshot.reference.floor if snapshot and snapshot.reference
                                       else None, self._theme))
            shown.append(self._picture_of(session, results, number))
        self.canvas.show_pictures(shown, self.mode == "wipe")

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right step along the frontier at the same spot; plus, minus and 0 zoom; W changes to the wipe."""
        if event is None:
            return
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._step_frontier(1 if key == Qt.Key.Key_Right else -1)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.canvas.zoom_by_step(key != Qt.Key.Key_Minus)
        elif key == Qt.Key.Key_0:
            self._fit()
        elif key == Qt.Key.Key_W:
            self.set_mode("wipe" if self.mode != "wipe" else "side by side")
        else:
            super().keyPressEvent(event)

    def _fit(self) -> None:
        self.canvas.fit()

    def _step_frontier(self, step: int) -> None:
        session = self._session
        results = session.results if session is not None else None
        if session is None or results is None or not self._numbers:
            return
        frontier = [t.number for t in results.frontier()]
        if not frontier:
            return
        here = frontier.index(self._numbers[0]) if self._numbers[0] in frontier else 0
        place = min(len(frontier) - 1, max(0, here + step))
        session.compare([frontier[place], *self._numbers[1:]])

    def _make_panes(self, count: int) -> None:
        while len(self._heads) < count:
            head, foot, place = TrialHead(self._theme), QLabel(), len(self._heads)
            head.chosen.connect(lambda number, pane=place: self._choose(pane, number))
            foot.setObjectName("card")
            foot.setTextFormat(Qt.TextFormat.RichText)
            foot.setFont(font(SMALL))
            foot.setFixedHeight(FOOT_HEIGHT)
            foot.setContentsMargins(8, 0, 8, 0)
            foot.setMinimumWidth(40)
            self._head_row.addWidget(head, 1)
            self._foot_row.addWidget(foot, 1)
            self._heads.append(head)
            self._feet.append(foot)
        while len(self._heads) > count:
            for widget in (self._heads.pop(), self._feet.pop()):
                widget.hide()
                widget.deleteLater()

    def _choose(self, pane: int, number: int) -> None:
        if self._session is not None:
            self._session.compare([number if k == pane else n for k, n in enumerate(self._numbers)])

    def _picture_of(self, session: Session, results: Results, number: int) -> Shown:
        path: Path | None = None
        if number == REFERENCE and session.snapshot is not None:
            path = session.snapshot.reference_path if session.snapshot.reference is not None else None
        else:
            trial = next((t for t in results.trials if t.number == number), None)
            name = trial.runs[0].picture if trial is not None and trial.runs else None
            path = session.path / "pictures" / name if name is not None else None
        if path is None:
            return Shown(number, None, "This is not rendered yet: Measure makes it.")
        found = self._pictures.get(path, results.study.view)
        if found is None:
            return Shown(number, None, "Loading …")
        return Shown(number, found.image, found.problem or "")

    def _on_picture(self, _: object) -> None:
        if self.isVisible():
            self.refresh()


def _what_to_show(session: Session, results: Results) -> list[int]:
    """The selected trials; else the pick, or the trial closest to it, beside the base."""
    known = {t.number for t in results.trials if t.seconds is not None} | {REFERENCE}
    chosen = [n for n in session.selected if n in known]
    pick, base = results.pick(), results.base
    first = pick.trial.number if pick is not None and not pick.trial.is_base else REFERENCE
    second = base.number if base is not None else REFERENCE
    if len(chosen) == 1:
        return [chosen[0], second if chosen[0] != second else first]
    return chosen or [first, second]


def _figures_line(results: Results, number: int, floor: float | None, theme: Theme) -> str:
    if number == REFERENCE:
        return "what errors are measured against" + (f"; its own grain is {floor:.2f} levels" if floor is not None else "")
    trial = next((t for t in results.trials if t.number == number), None)
    if trial is None or not trial.shares:
        return "not measured yet"
    parts = []
    for key, share in trial.shares.items():
        figure = trial.figures[key]
        if figure is not None:
            name = quantity(key).label.removesuffix(" kept").removesuffix(" pixels")
            text = f"{name} {show_limit(key, figure, results, short=True)}"
            parts.append(f"<b style='color:{theme.over}'>{text}</b>" if share.value > results.line else text)
    return "&nbsp;&nbsp; ".join(parts)
