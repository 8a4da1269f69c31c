"""Look: two to four trials, or the reference, at the same place and zoom, side by side or under a wipe, in a blink, or as
their difference."""

from collections.abc import Sequence
from dataclasses import replace
from html import escape
from pathlib import Path

from PyQt6.QtCore import QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.pictures import GAINS, PictureStore
from swift_sample.app.view_model import ViewModel
from swift_sample.core.measure.kinds import WORST_MARK
from swift_sample.core.picture.view import MAX_EXPOSURE, View
from swift_sample.core.study.acceptance import quantity
from swift_sample.core.study.pick_report import show_seconds
from swift_sample.core.study.plan.model import AREA_MARK, Study, WatchArea
from swift_sample.core.study.results import Results, TrialResult, show_error
from swift_sample.ui.pages.page import Page
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.marks import mark_of, mark_role, paint_mark, wing
from swift_sample.ui.widgets.picture_canvas import GAP, PictureCanvas, Shown
from swift_sample.ui.widgets.scopes_panel import DASHES, ROLES, ScopesPanel
from swift_sample.ui.widgets.words import PlainLabel

REFERENCE = "reference"
"""Stands for the reference where the name of a trial is expected."""

SIDE_BY_SIDE, WIPE, BLINK, DIFFERENCE = "side by side", "wipe", "blink", "difference"
MODE_KEYS: dict[int, str] = {Qt.Key.Key_W: WIPE, Qt.Key.Key_B: BLINK, Qt.Key.Key_D: DIFFERENCE}
FIRST_GAIN = 8
BLINK_MILLISECONDS = 600
MOST_STOPS = 8.0

HEAD_HEIGHT, FOOT_HEIGHT, MARGIN = 32, 28, 12


class TrialHead(QWidget):
    """Which trial a pane shows: its mark, time and settings, and a list to choose another one."""

    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme, with_reference: bool = True) -> None:
        super().__init__()
        self._with_reference = with_reference
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme = theme
        self._trial: TrialResult | None = None
        self._is_pick = self._is_current = False
        self._line: int | None = None
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

    def show_choice(self, results: Results, trial_id: str, theme: Theme) -> None:
        self._theme = theme
        pick = results.pick()
        self._trial = results.by_id.get(trial_id)
        self._is_pick = pick is not None and pick.trial.id == trial_id
        wanted = [("reference", REFERENCE)] if self._with_reference else []
        for trial in sorted(
            (t for t in results.trials if t.seconds is not None), key=lambda t: t.seconds.value if t.seconds else 0
        ):
            assert trial.seconds is not None
            words = "base" if trial.is_base else trial.configuration.describe(results.study.base)
            prefix = "pick: " if pick is not None and trial.id == pick.trial.id else ""
            wanted.append((f"{show_seconds(trial.seconds.value)}   {prefix}{words}", trial.id))
        if [(self._list.itemText(k), self._list.itemData(k)) for k in range(self._list.count())] != wanted:
            self._list.clear()
            for words, value in wanted:
                self._list.addItem(words, value)
        self._list.setCurrentIndex(self._list.findData(trial_id))
        self.update()

    def set_line(self, place: int | None) -> None:
        """Say which line of the scopes is this picture's; None while there are none."""
        if place != self._line:
            self._line = place
            self.update()

    def set_current(self, current: bool) -> None:
        """Underline the one that blinks up now."""
        if current != self._is_current:
            self._is_current = current
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            if self._line is not None and self._line < len(ROLES):
                painter.setPen(QPen(self._theme.colour(ROLES[self._line]), 2.5, DASHES[self._line]))
                painter.drawLine(8, self.height() - 4, 64, self.height() - 4)
            if self._is_current:
                painter.fillRect(0, self.height() - 3, self.width(), 3, self._theme.colour("ink"))
            painter.setPen(self._theme.colour("quiet"))
            painter.drawText(
                self.rect().adjusted(0, 0, -12, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, "▾"
            )
        if self._trial is not None:
            path = wing() if self._is_pick else mark_of(self._trial.verdict, self._trial.is_base)
            role = "pick" if self._is_pick else mark_role(self._trial.verdict, self._trial.is_base)
            with QPainter(self) as painter:
                paint_mark(painter, path, QPointF(20, self.height() / 2), 22 if self._is_pick else 12, self._theme, role)


WORST_PLACE = "worst place"
"""Under this name the place where a picture is worst is offered as a watch area."""


class LookPage(Page):
    """The pictures of the selected trials; without a selection those of pick and base."""

    name = "Look"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self.setObjectName("lookPage")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._ids: list[str] = []
        self._reference_samples = 0
        self.canvas = PictureCanvas(theme)
        self._heads: list[TrialHead] = []
        self._feet: list[QLabel] = []
        self._head_row, self._foot_row = QHBoxLayout(), QHBoxLayout()
        for row in (self._head_row, self._foot_row):
            row.setSpacing(GAP)
        self._modes = QButtonGroup(self)
        controls = QWidget()
        controls.setObjectName("tabBar")
        controls.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        bar = QHBoxLayout(controls)
        bar.setContentsMargins(24, 0, MARGIN, 4)
        bar.setSpacing(14)
        for name, tip in (
            (SIDE_BY_SIDE, "Two to four pictures beside one another"),
            (WIPE, "One over the other, with an edge to drag (W)"),
            (BLINK, "One after the other at the same place (B)"),
            (DIFFERENCE, "What the first has more than the second, around mid-grey (D)"),
        ):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.setToolTip(tip)
            button.setObjectName(name)
            button.clicked.connect(self.refresh)
            self._modes.addButton(button)
            bar.addWidget(button)
        self._modes.buttons()[0].setChecked(True)
        self._gain = QComboBox()
        self._gain.setFont(font(SMALL))
        self._gain.addItems([f"× {gain}" for gain in GAINS])
        self._gain.setCurrentIndex(GAINS.index(FIRST_GAIN))
        self._gain.setToolTip("What the difference is multiplied by")
        self._gain.setAccessibleName("Gain of the difference")
        self._gain.activated.connect(lambda _: self.refresh())
        bar.addWidget(self._gain)
        bar.addStretch(1)
        self._blinks = 0
        self._blinking = QTimer(self)
        self._blinking.setInterval(BLINK_MILLISECONDS)
        self._blinking.timeout.connect(self._blink)
        self._draw_area = QPushButton("watch area")
        self._draw_area.setCheckable(True)
        self._draw_area.setProperty("tab", True)
        self._draw_area.setToolTip(
            "Draw a rectangle that is measured and judged by itself (A).\n"
            "Click one for its figures, double-click to rename, Delete removes it"
        )
        self._draw_area.toggled.connect(self._set_drawing)
        bar.addWidget(self._draw_area)
        self._area = ""
        self._worst: tuple[int, int, int, int] | None = None
        """where the picture shown last is worst, as long as that is no watch area"""
        self._scoped = QPushButton("scopes")
        self._scoped.setCheckable(True)
        self._scoped.setProperty("tab", True)
        self._scoped.setToolTip(
            "Brightness of the same place in all shown pictures: histogram, waveform, middle row (S).\n"
            "Of the chosen watch area, else of the whole picture"
        )
        self._scoped.toggled.connect(self.refresh)
        bar.addWidget(self._scoped)
        self._exposure = QDoubleSpinBox()
        self._exposure.setFont(font(SMALL))
        self._exposure.setRange(-MOST_STOPS, MOST_STOPS)
        self._exposure.setSingleStep(0.5)
        self._exposure.setDecimals(1)
        self._exposure.setPrefix("exposure ")
        self._exposure.setSuffix(" stops")
        self._exposure.setFixedWidth(140)
        self._exposure.setAccessibleName("Exposure for looking")
        self._exposure.setToolTip("Brighter or darker, only for looking: errors are measured under the study's view")
        self._exposure.valueChanged.connect(self.refresh)
        bar.addWidget(self._exposure)
        self._zoom = QPushButton("fit")
        self._zoom.setToolTip("Show the whole pictures (0)")
        self._zoom.clicked.connect(self._fit)
        bar.addWidget(self._zoom)
        whole, column = QVBoxLayout(self), QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(controls)
        whole.addLayout(column, 1)
        column.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        column.setSpacing(4)
        column.addLayout(self._head_row)
        column.addWidget(self.canvas, 1)
        column.addLayout(self._foot_row)
        self.scopes = ScopesPanel(theme)
        self.scopes.hide()
        column.addWidget(self.scopes)
        pictures.arrived.connect(self._on_picture)
        self.canvas.area_drawn.connect(self._on_area_drawn)
        self.canvas.area_clicked.connect(self.choose_area)
        self.canvas.area_opened.connect(self._rename_area)

    def choose_area(self, name: str) -> None:
        """Show the figures of one watch area under the pictures; an empty name shows those of the whole. The worst place
        becomes a watch area by that."""
        if name == WORST_PLACE and self._worst is not None:
            self._area, place = name, self._worst
            self.asked.emit(lambda session: session.add_area(WORST_PLACE, *place))
        elif name != self._area:
            self._area = name
            self.refresh()

    def _set_drawing(self, wanted: bool) -> None:
        self.canvas.drawing_area = wanted

    def _on_area_drawn(self, x: int, y: int, width: int, height: int) -> None:
        self._draw_area.setChecked(False)
        if self.model is not None:
            taken = {area.name for area in self.model.study.areas}
            self._area = name = next(f"area {k}" for k in range(1, len(taken) + 2) if f"area {k}" not in taken)
            self.asked.emit(lambda session: session.add_area(name, x, y, width, height))

    def _rename_area(self, name: str) -> None:
        new, done = QInputDialog.getText(self, "Watch area", "Name", text=name)
        if done and self.model is not None and new.strip():
            self._area = new.strip()
            self.asked.emit(lambda session: session.rename_area(name, new))

    def start_anew(self) -> None:
        self._ids = []
        self.canvas.fit()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.canvas.set_theme(theme)
        self.refresh()

    @property
    def mode(self) -> str:
        checked = self._modes.checkedButton()
        return checked.objectName() if checked is not None else SIDE_BY_SIDE

    def set_mode(self, name: str) -> None:
        """Show the pictures `side by side`, under a `wipe`, in a `blink`, or their `difference`."""
        for button in self._modes.buttons():
            button.setChecked(button.objectName() == name)
        self.refresh()

    def show_scopes(self, wanted: bool) -> None:
        """Show the scopes under the pictures, or hide them."""
        self._scoped.setChecked(wanted)

    @property
    def trial_ids(self) -> list[str]:
        """The trials shown, REFERENCE for the reference."""
        return list(self._ids)

    def refresh(self) -> None:
        """Show the model's selection."""
        model = self.model
        results = model.results if model is not None else None
        if model is None or results is None or not self.isVisible():
            return
        self._ids = _what_to_show(model, results)
        self._make_panes(len(self._ids))
        snapshot = model.snapshot
        samples = snapshot.reference.samples if snapshot is not None and snapshot.reference is not None else 0
        if snapshot is not None and samples != self._reference_samples:
            self._pictures.forget(snapshot.reference_path)
            self._reference_samples = samples
        shown = []
        for trial_id, head, foot in zip(self._ids, self._heads, self._feet, strict=True):
            head.show_choice(results, trial_id, self._theme)
            foot.setText(
                _figures_line(
                    results,
                    trial_id,
                    snapshot.reference.floor if snapshot and snapshot.reference else None,
                    self._area,
                    self._theme,
                )
            )
            foot.setToolTip(_reference_words(model.study) if trial_id == REFERENCE else "")
            shown.append(self._picture_of(model, results, trial_id))
        self._show(shown, model, results)
        study = model.study
        if self._area not in {area.name for area in study.areas}:
            self._area = ""
        self._worst = _worst_place(results, self._ids) if all(a.name != WORST_PLACE for a in study.areas) else None
        offered = (WatchArea(WORST_PLACE, *self._worst),) if self._worst is not None else ()
        self.canvas.show_areas((*study.areas, *offered), study.size, self._area)
        self._show_scopes(shown, study)

    def _show_scopes(self, shown: list[Shown], study: Study) -> None:
        """Of the chosen watch area, else of the whole picture."""
        self.scopes.setVisible(self._scoped.isChecked())
        for pane, head in enumerate(self._heads):
            head.set_line(pane if self._scoped.isChecked() else None)
        if not self._scoped.isChecked():
            return
        area = next((a for a in study.areas if a.name == self._area), None)
        width, height = study.size
        place = (area.x / width, area.y / height, area.width / width, area.height / height) if area is not None else None
        pictures = [(picture.name, picture.image) for picture in shown if picture.image is not None]
        self.scopes.show_pictures(self._theme, pictures, place)

    def _view(self, results: Results) -> View:
        """The study's view, brighter or darker as is wanted for looking."""
        view = results.study.view
        stops = min(MAX_EXPOSURE, max(-MAX_EXPOSURE, view.exposure + self._exposure.value()))
        return replace(view, exposure=stops)

    def _show(self, shown: list[Shown], model: ViewModel, results: Results) -> None:
        """Give the canvas what the mode asks for; with one picture every mode shows that."""
        mode = self.mode if len(shown) > 1 else SIDE_BY_SIDE
        self._gain.setVisible(mode == DIFFERENCE)
        if mode != BLINK:
            self._blinking.stop()
        elif not self._blinking.isActive():
            self._blinking.start()
        current = self._blinks % len(shown) if mode == BLINK else None
        for place, head in enumerate(self._heads):
            head.set_current(place == current)
        if current is not None:
            self.canvas.show_pictures([shown[current]], wipe=False)
        elif mode == DIFFERENCE:
            self.canvas.show_pictures([self._difference_of(model, results)], wipe=False)
        else:
            self.canvas.show_pictures(shown, mode == WIPE)

    def _blink(self) -> None:
        self._blinks += 1
        if self.isVisible():
            self.refresh()

    def _difference_of(self, model: ViewModel, results: Results) -> Shown:
        """The first picture less the second."""
        first, second = (self._path_of(model, results, trial_id) for trial_id in self._ids[:2])
        if first is None or second is None:
            return Shown(self._ids[0], None, "One of them is not rendered yet: Measure makes it.")
        gain = GAINS[self._gain.currentIndex()]
        difference = self._pictures.get(first, self._view(results), other=second, gain=gain)
        return Shown(
            self._ids[0],
            difference.image if difference is not None else None,
            "Loading …" if difference is None else difference.problem or "",
        )

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def hideEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._blinking.stop()
        super().hideEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right step along the frontier at the same spot; plus, minus and 0 zoom; W, B and D change to wipe, blink
        and difference; S shows scopes, A draws a watch area, Delete removes the chosen one."""
        if event is None:
            return
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._step_frontier(1 if key == Qt.Key.Key_Right else -1)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.canvas.zoom_by_step(key != Qt.Key.Key_Minus)
        elif key == Qt.Key.Key_0:
            self._fit()
        elif key == Qt.Key.Key_S:
            self._scoped.toggle()
        elif key == Qt.Key.Key_A:
            self._draw_area.toggle()
        elif key == Qt.Key.Key_Delete and self._area and self.model is not None:
            name = self._area
            self.asked.emit(lambda session: session.remove_area(name))
        elif key in MODE_KEYS:
            self.set_mode(MODE_KEYS[key] if self.mode != MODE_KEYS[key] else SIDE_BY_SIDE)
        else:
            super().keyPressEvent(event)

    def _fit(self) -> None:
        self.canvas.fit()

    def _step_frontier(self, step: int) -> None:
        model = self.model
        results = model.results if model is not None else None
        if model is None or results is None or not self._ids:
            return
        frontier = [t.id for t in results.frontier()]
        if not frontier:
            return
        here = frontier.index(self._ids[0]) if self._ids[0] in frontier else 0
        place = min(len(frontier) - 1, max(0, here + step))
        self._compare([frontier[place], *self._ids[1:]])

    def _make_panes(self, count: int) -> None:
        while len(self._heads) < count:
            head, foot, place = TrialHead(self._theme), PlainLabel(), len(self._heads)
            head.chosen.connect(lambda trial_id, pane=place: self._choose(pane, trial_id))
            foot.setObjectName("card")
            foot.setTextFormat(Qt.TextFormat.RichText)
            foot.setFont(font(SMALL))
            foot.setWordWrap(True)
            foot.setMinimumHeight(FOOT_HEIGHT)
            foot.setContentsMargins(8, 3, 8, 3)
            foot.setMinimumWidth(40)
            self._head_row.addWidget(head, 1)
            self._foot_row.addWidget(foot, 1)
            self._heads.append(head)
            self._feet.append(foot)
        while len(self._heads) > count:
            for widget in (self._heads.pop(), self._feet.pop()):
                widget.hide()
                widget.deleteLater()

    def _choose(self, pane: int, trial_id: str) -> None:
        self._compare([trial_id if k == pane else n for k, n in enumerate(self._ids)])

    def _compare(self, trial_ids: list[str]) -> None:
        self.asked.emit(lambda session: session.compare(trial_ids))

    def _path_of(self, model: ViewModel, results: Results, trial_id: str) -> Path | None:
        if trial_id == REFERENCE and model.snapshot is not None:
            return model.snapshot.reference_path if model.snapshot.reference is not None else None
        return model.snapshot.picture_of(trial_id) if model.snapshot is not None else None

    def _picture_of(self, model: ViewModel, results: Results, trial_id: str) -> Shown:
        path = self._path_of(model, results, trial_id)
        if path is None:
            return Shown(trial_id, None, "This is not rendered yet: Measure makes it.")
        picture = self._pictures.get(path, self._view(results))
        if picture is None:
            return Shown(trial_id, None, "Loading …")
        return Shown(trial_id, picture.image, picture.problem or "")

    def _on_picture(self, _: object) -> None:
        if self.isVisible():
            self.refresh()


def _what_to_show(model: ViewModel, results: Results) -> list[str]:
    """The selected trials; else the pick, or the trial closest to it, beside the base."""
    known = {t.id for t in results.trials if t.seconds is not None} | {REFERENCE}
    chosen = [n for n in model.selected if n in known]
    pick, base = results.pick(), results.base
    first = pick.trial.id if pick is not None and not pick.trial.is_base else REFERENCE
    second = base.id if base is not None else REFERENCE
    if len(chosen) == 1:
        return [chosen[0], second if chosen[0] != second else first]
    return chosen or [first, second]


def _reference_words(study: Study) -> str:
    """What the reference opens, what it keeps of the base, and where that is changed."""
    opened = (
        ", ".join(
            f"{study.catalogue[key].label.lower()} {study.catalogue[key].show(value)}"
            for key, value in study.reference_opens().items()
        )
        or "nothing that the base limits"
    )
    kept = ", ".join(study.catalogue[key].label.lower() for key in study.reference_keeps) or "every other choice"
    return f"Opens: {opened}\nKeeps from the base: {kept}\nChange it on the Plan page"


def _worst_place(results: Results, shown: Sequence[str]) -> tuple[int, int, int, int] | None:
    """Where the trial that is shown last comes closest to a limit of its worst place, or is furthest over it."""
    trials = [trial for name in shown if (trial := results.by_id.get(name)) is not None and trial.shares]
    if not trials:
        return None
    keys = [key for key in trials[-1].shares if key.endswith(WORST_MARK)]
    if not keys:
        return None
    figure = trials[-1].figures[max(keys, key=lambda key: trials[-1].shares[key].value)]
    return figure.place if figure is not None else None


def _figures_line(results: Results, trial_id: str, floor: float | None, area: str, theme: Theme) -> str:
    """A trial's figures beside their limits, of the whole picture or of a watch area."""
    if trial_id == REFERENCE:
        return "what errors are measured against" + (f"; its own grain is {floor:.2f} levels" if floor is not None else "")
    trial = results.by_id.get(trial_id)
    if trial is None or not trial.shares:
        return "not measured yet"
    parts = [f"<b>{escape(area)}:</b>"] if area else []
    for key, share in trial.shares.items():
        figure, (measure, _, place) = trial.figures[key], key.partition(AREA_MARK)
        if figure is not None and place == area:
            name = quantity(measure).short.removesuffix(" kept").removesuffix(" pixels")
            text = escape(f"{name} {show_error(key, trial, results, short=True)}").replace(" ", "&nbsp;")
            parts.append(f"<b style='color:{theme.over}'>{text}</b>" if share.value > results.line else text)
    if area and len(parts) == 1:
        return f"{escape(area)}: being measured from the stored pictures …"
    return "&nbsp;&nbsp; ".join(parts)
