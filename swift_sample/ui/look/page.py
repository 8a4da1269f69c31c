"""Look: two to four trials, the reference or pictures from elsewhere at the same place and zoom:
side by side, under a wipe, in a blink, as their difference, or one blended from raw to denoised."""

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QIcon, QKeyEvent, QPixmap
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QInputDialog,
    QLabel,
    QMenu,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.any_settings import ANY_SETTINGS, knobs_of
from swift_sample.app.blending import Blending
from swift_sample.app.foreign import PREFIX, ForeignPictures
from swift_sample.app.pictures import PictureStore
from swift_sample.app.toning import (
    BEAUTY,
    BY_KEY,
    GAINS,
    LIGHT_PASSES,
    PASSES,
    RAW,
    Layers,
    Source,
    to_image,
)
from swift_sample.app.view_model import ViewModel
from swift_sample.core.picture.view import CURVES, MAX_EXPOSURE, View
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.dialogs.remark import RemarkDialog
from swift_sample.ui.look.blend_bar import BlendBar
from swift_sample.ui.look.head import HEAD_HEIGHT, REFERENCE, TrialHead
from swift_sample.ui.look.knobs import KnobsBar
from swift_sample.ui.look.words import (
    any_settings_line,
    any_settings_words,
    figures_line,
    foreign_line,
    measured_line,
    reference_words,
    value_words,
    worst_place,
)
from swift_sample.ui.page import Page
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.picture_canvas import PictureCanvas, Shown
from swift_sample.ui.widgets.scopes_panel import Scoped, ScopesPanel
from swift_sample.ui.widgets.words import PlainLabel

SIDE_BY_SIDE = "side by side"
WIPE = "wipe"
BLINK = "blink"
DIFFERENCE = "difference"
BLEND = "blend"
MODE_KEYS: dict[int, str] = {
    Qt.Key.Key_W: WIPE,
    Qt.Key.Key_B: BLINK,
    Qt.Key.Key_D: DIFFERENCE,
    Qt.Key.Key_R: BLEND,
}
PAIRED = {WIPE: ("left", "right"), DIFFERENCE: ("first", "less")}
"""Modes that show two pictures in one pane, and what the heads call them."""
PASS_KEYS: dict[int, str] = {
    Qt.Key.Key_1: BEAUTY,
    Qt.Key.Key_2: RAW,
    Qt.Key.Key_3: LIGHT_PASSES[0].key,
    Qt.Key.Key_4: "albedo",
    Qt.Key.Key_5: "normal",
    Qt.Key.Key_6: "depth",
    Qt.Key.Key_7: "samples",
    Qt.Key.Key_8: "time",
    Qt.Key.Key_9: "grain",
}
FIRST_GAIN = 8
BLINK_MILLISECONDS = 600
MOST_STOPS = 8.0
FOOT_HEIGHT = 26
MARGIN = 12
BLENDS = "blends"
"""Folder of a study in which blends are kept."""
WORST_PLACE = "worst place"
"""Under this name the place where a picture is worst is offered as a watch area."""
UNBLENDED = (REFERENCE, ANY_SETTINGS)
"""What stands in a pane and has no raw picture of its own to blend."""
MANY_PANES = 3
MOST_FIGURES = 3
"""With so many pictures beside one another only the figures closest to their limits stand under
each."""
POINT_AT = "Point at a picture to read its values."
PLACE_THUMBNAIL = QSize(112, 84)


class LookPage(Page):
    """The pictures of the selected trials; without a selection those of pick and base."""

    name = "Look"
    KEYS = (
        ("← →", "step along the frontier at the same spot"),
        ("Tab, then ← →", "turn a knob of any settings"),
        ("+ − 0", "zoom in, out, fit"),
        ("W, B, D, R", "wipe, blink, difference, blend; again: side by side"),
        ("1 to 9", "picture, raw, light passes, colour, direction, distance, samples, time, grain"),
        ("L", "loupe"),
        ("S", "scopes"),
        ("A, Delete", "draw a watch area, remove the chosen one"),
        ("P", "places worth watching"),
        ("N", "name and note of the first trial"),
    )

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self.setObjectName("lookPage")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._ids: list[str] = []
        self._pair = (0, 1)
        self._reference_samples = 0
        self._area = ""
        self._row = 0.5
        self._light_pass = 0
        self._blinks = 0
        self._shown_pictures: list[Shown] = []
        self._blend: Blending | None = None
        self._worst: tuple[int, int, int, int] | None = None
        """where the picture shown last is worst, as long as that is no watch area"""
        self.foreign = ForeignPictures(self)
        self.foreign.changed.connect(self.refresh)
        self.canvas = PictureCanvas(theme)
        self.canvas.head = HEAD_HEIGHT + 2
        self._heads: list[TrialHead] = []
        self._feet: list[QLabel] = []
        self._offers: list[QPushButton] = []
        self._blinking = QTimer(self)
        self._blinking.setInterval(BLINK_MILLISECONDS)
        self._blinking.timeout.connect(self._on_blink)
        self.blend_bar = BlendBar()
        self.blend_bar.hide()
        self.blend_bar.save_wanted.connect(self._save_blend)
        self.blend_bar.brush_changed.connect(self._take_brush)
        self._values = ElidedLabel()
        self._values.setFont(font(SMALL))
        self._values.setObjectName("card")
        self._values.setContentsMargins(8, 2, 8, 2)
        self._values.setText(POINT_AT)
        self.knobs = KnobsBar()
        self.knobs.hide()
        self.knobs.turned.connect(
            lambda key, value: self.ask(lambda session: session.turn_knob(key, value))
        )
        self.knobs.time_wanted.connect(self._time_settings)
        self.knobs.base_wanted.connect(self._make_settings_base)
        self.scopes = ScopesPanel(theme)
        self.scopes.hide()
        whole = QVBoxLayout(self)
        column = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self._make_controls())
        whole.addWidget(self.blend_bar)
        whole.addLayout(column, 1)
        column.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        column.setSpacing(4)
        column.addWidget(self.canvas, 1)
        column.addWidget(self.knobs)
        column.addWidget(self._values)
        column.addWidget(self.scopes)
        pictures.arrived.connect(self._on_picture)
        self.canvas.area_drawn.connect(self._on_area_drawn)
        self.canvas.area_clicked.connect(self.choose_area)
        self.canvas.area_opened.connect(self._rename_area)
        self.canvas.area_changed.connect(self._on_area_changed)
        self.canvas.laid_out.connect(self._place)
        self.canvas.pointed.connect(self._on_pointed)
        self.canvas.row_moved.connect(self._on_row)
        self.canvas.painted.connect(self._on_painted)

    def _make_controls(self) -> QWidget:
        controls = QWidget()
        flow = Flow()
        controls.setObjectName("tabBar")
        controls.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        controls.setLayout(flow)
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        controls.setSizePolicy(policy)
        flow.setContentsMargins(20, 0, MARGIN, 4)
        self._modes = QButtonGroup(self)

        for name, tip in (
            (SIDE_BY_SIDE, "Two to four pictures beside one another"),
            (WIPE, "One over the other, with an edge to drag (W)"),
            (BLINK, "One after the other at the same place (B)"),
            (DIFFERENCE, "What the first has more than the second, around mid-grey (D)"),
            (BLEND, "Between the raw picture and the denoised one, by a slider and a brush (R)"),
        ):
            button = _tab(name, tip)
            button.setCheckable(True)
            button.setObjectName(name)
            button.clicked.connect(lambda _, mode=name: self.set_mode(mode))
            self._modes.addButton(button)
            flow.addWidget(button)

        self._modes.buttons()[0].setChecked(True)
        self._gain = QComboBox()
        self._gain.addItems([f"× {gain}" for gain in GAINS])
        self._gain.setCurrentIndex(GAINS.index(FIRST_GAIN))
        self._gain.setToolTip("What the difference is multiplied by")
        self._gain.setAccessibleName("Gain of the difference")
        self._pass = QComboBox()
        for one in PASSES:
            self._pass.addItem(one.label, one.key)

        self._pass.setToolTip("What of the pictures is shown (1 to 9)")
        self._pass.setAccessibleName("Pass")
        self._curve = QComboBox()
        self._curve.addItem("study's curve", "")
        for curve in CURVES:
            self._curve.addItem(f"{curve} curve", curve)

        self._curve.setToolTip(
            "Tone curve, only for looking: errors are measured under the study's view"
        )
        self._curve.setAccessibleName("Tone curve for looking")

        for box, letters in ((self._gain, 2), (self._pass, 8), (self._curve, 7)):
            box.setFont(font(SMALL))
            box.setSizeAdjustPolicy(
                QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
            )
            box.setMinimumContentsLength(letters)
            box.activated.connect(lambda _: self._on_control())
            flow.addWidget(box)

        self._exposure = QDoubleSpinBox()
        self._exposure.setFont(font(SMALL))
        self._exposure.setRange(-MOST_STOPS, MOST_STOPS)
        self._exposure.setSingleStep(0.5)
        self._exposure.setDecimals(1)
        self._exposure.setPrefix("exposure ")
        self._exposure.setSuffix(" stops")
        self._exposure.setAccessibleName("Exposure for looking")
        self._exposure.setToolTip(
            "Brighter or darker, only for looking: errors are measured under the study's view"
        )
        self._exposure.valueChanged.connect(self.refresh)
        flow.addWidget(self._exposure)
        self._draw_area = _tab("area", "")

        self._draw_area.setToolTip(
            "Draw a rectangle that is measured and judged by itself (A).\n"
            "Click one for its figures; drag it or its corners, with Ctrl to copy it.\n"
            "Double-click renames it, Delete removes it"
        )
        self._places = _tab(
            "places", "Places worth watching: most grain, light lost, detail lost, stray pixels (P)"
        )
        self._scoped = _tab(
            "scopes", "Brightness of the same place in all shown pictures, and of one row (S)"
        )
        self._loupe = _tab(
            "loupe", "What is under the pointer eight times as large, in every picture (L)"
        )
        self._save = _tab("save …", "Save what is seen: PNG as on the screen, EXR in linear light")
        self._zoom = _tab("fit", "Show the whole pictures (0)")
        for button in (self._draw_area, self._scoped, self._loupe):
            button.setCheckable(True)

        self._draw_area.toggled.connect(self._set_drawing)
        self._scoped.toggled.connect(self.refresh)
        self._loupe.toggled.connect(self._set_loupe)
        self._places.clicked.connect(self.show_places)
        self._places_wanted = False  # asked for before the pictures were read
        self._save.clicked.connect(self._save_seen)
        self._zoom.clicked.connect(self.canvas.fit)
        for button in (
            self._draw_area,
            self._places,
            self._scoped,
            self._loupe,
            self._save,
            self._zoom,
        ):
            flow.addWidget(button)

        return controls

    # What is shown

    def start_anew(self) -> None:
        self._ids = []
        self._pair = (0, 1)
        self.foreign.clear()
        self._end_blend()
        self.canvas.fit()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.canvas.set_theme(theme)
        self.refresh()

    def finish(self) -> None:
        self._end_blend()
        self.foreign.close()

    def kept_state(self) -> dict[str, str]:
        return {
            "mode": self.mode,
            "pass": self.shown_pass,
            "scopes": "yes" if self._scoped.isChecked() else "",
        }

    def take_state(self, state: dict[str, str]) -> None:
        mode = state.get("mode", SIDE_BY_SIDE)
        for button in self._modes.buttons():
            button.setChecked(button.objectName() == (mode if mode != BLEND else SIDE_BY_SIDE))

        self._pass.setCurrentIndex(max(0, self._pass.findData(state.get("pass", BEAUTY))))
        self._scoped.setChecked(bool(state.get("scopes")))

    @property
    def mode(self) -> str:
        checked = self._modes.checkedButton()
        return checked.objectName() if checked is not None else SIDE_BY_SIDE

    def set_mode(self, name: str) -> None:
        """Show the pictures `side by side`, under a `wipe`, in a `blink`, their `difference`, or a
        `blend` of one."""
        for button in self._modes.buttons():
            button.setChecked(button.objectName() == name)

        if name != BLEND:
            self._end_blend()

        self._on_control()
        self._place()

    @property
    def shown_pass(self) -> str:
        return str(self._pass.currentData())

    def set_pass(self, key: str) -> None:
        """Show a pass of the pictures."""
        self._pass.setCurrentIndex(self._pass.findData(key))
        self._on_control()

    def show_scopes(self, wanted: bool) -> None:
        """Show the scopes under the pictures, or hide them."""
        self._scoped.setChecked(wanted)

    def _on_control(self) -> None:
        self.refresh()
        self.state_changed.emit()

    @property
    def trial_ids(self) -> list[str]:
        """The trials shown, REFERENCE for the reference, and pictures from elsewhere by PREFIX and
        path."""
        return list(self._ids)

    def add_picture(self, path: Path) -> None:
        """Show a picture from elsewhere beside what is shown, measured against the reference."""
        model = self.model
        if model is None or model.snapshot is None:
            return

        snapshot = model.snapshot
        reference = (snapshot.reference_path, snapshot.digest_of(snapshot.reference_path.name))
        name = self.foreign.add(
            path, model.study.view, reference if snapshot.reference is not None else None
        )
        self._compare([*[n for n in self._ids if n != name][:3], name])

    def refresh(self) -> None:
        """Show the model's selection."""
        model = self.model
        results = model.results if model is not None else None
        if model is None or results is None or not self.isVisible():
            return

        self._ids = self._what_to_show(model, results)
        self._pair = tuple(min(place, len(self._ids) - 1) for place in self._pair)  # type: ignore[assignment]
        if self.mode == BLEND:
            self._begin_blend(model)

        snapshot = model.snapshot
        samples = (
            snapshot.reference.samples
            if snapshot is not None and snapshot.reference is not None
            else 0
        )

        if snapshot is not None and samples != self._reference_samples:
            self._pictures.forget(snapshot.reference_path)
            self._reference_samples = samples

        self._shown_pictures = [self._picture_of(model, results, name) for name in self._ids]
        self._show(model, results)
        study = model.study

        if self._area not in {area.name for area in study.areas}:
            self._area = ""

        self._worst = (
            worst_place(results, self._ids)
            if all(a.name != WORST_PLACE for a in study.areas)
            else None
        )
        offered = (WatchArea(WORST_PLACE, *self._worst),) if self._worst is not None else ()
        self.canvas.show_areas((*study.areas, *offered), study.size, self._area)
        self._show_heads(model, results)
        self._show_knobs(model, results)
        self._show_scopes(model)
        self._place()

    def _what_to_show(self, model: ViewModel, results: Results) -> list[str]:
        """The selected trials; else the pick, or the trial closest to it, beside the base."""
        earlier = {t.id for t in model.snapshot.earlier} if model.snapshot is not None else set()
        known = (
            {t.id for t in results.trials if t.seconds is not None}
            | {REFERENCE}
            | earlier
            | self.foreign.pictures.keys()
            | ({ANY_SETTINGS} if model.any_settings is not None else set())
        )
        chosen = [n for n in model.selected if n in known]
        pick = results.pick()
        base = results.base
        first = pick.trial.id if pick is not None and not pick.trial.is_base else REFERENCE
        second = base.id if base is not None else REFERENCE

        if len(chosen) == 1:
            return [chosen[0], second if chosen[0] != second else first]

        return chosen or [first, second]

    @property
    def _seen_places(self) -> list[int]:
        """Which of the shown pictures have a head: all, the two of a pair, or the one that is
        blended."""
        if self._effective_mode in PAIRED:
            return list(self._pair)
        return (
            [self._blended_place] if self._effective_mode == BLEND else list(range(len(self._ids)))
        )

    @property
    def _effective_mode(self) -> str:
        """With one picture every mode but the blend shows that."""
        return self.mode if len(self._ids) > 1 or self.mode == BLEND else SIDE_BY_SIDE

    @property
    def _blended_place(self) -> int:
        """The first picture that can be blended: not the reference."""
        return next((k for k, name in enumerate(self._ids) if name not in UNBLENDED), 0)

    def _show(self, model: ViewModel, results: Results) -> None:
        """Give the canvas what the mode asks for."""
        mode = self._effective_mode
        shown = self._shown_pictures
        self._gain.setVisible(mode == DIFFERENCE)
        self.blend_bar.setVisible(mode == BLEND)

        if mode != BLINK:
            self._blinking.stop()
        elif not self._blinking.isActive():
            self._blinking.start()

        if mode == BLINK:
            self.canvas.show_pictures([shown[self._blinks % len(shown)]], wipe=False)
        elif mode == DIFFERENCE:
            self.canvas.show_pictures([self._difference()], wipe=False)
        elif mode == WIPE:
            self.canvas.show_pictures([shown[place] for place in self._pair], wipe=True)
        elif mode == BLEND:
            self.canvas.show_pictures([self._blended(model, results)], wipe=False)
        else:
            self.canvas.show_pictures(shown, wipe=False)

    def _difference(self) -> Shown:
        """The first of the pair less the second."""
        first, second = (self._shown_pictures[place] for place in self._pair)
        if first.source is None or second.source is None:
            return first if first.source is None else second
        if BY_KEY[self.shown_pass].kind != "light":
            return Shown(
                first.name,
                None,
                "Differences are shown of light: choose the picture or a light pass.",
            )

        gain = GAINS[self._gain.currentIndex()]
        return Shown(first.name, replace(first.source, other=second.source.layers, gain=gain), "")

    def _view(self, results: Results) -> View:
        """The study's view, brighter or darker and under another curve as is wanted for looking."""
        view = results.study.view
        stops = min(MAX_EXPOSURE, max(-MAX_EXPOSURE, view.exposure + self._exposure.value()))
        return View(stops, str(self._curve.currentData() or view.curve))

    def _path_of(self, model: ViewModel, name: str) -> Path | None:
        """The file of what is shown, of a light pass that beside it; None where there is none."""
        snapshot = model.snapshot
        if name.startswith(PREFIX):
            return Path(name.removeprefix(PREFIX))
        if snapshot is None:
            return None
        if name == REFERENCE:
            return snapshot.reference_path if snapshot.reference is not None else None

        path = snapshot.picture_of(name)
        if path is not None and self._is_light_pass:
            kept = snapshot.folder.passes / path.name
            return kept if kept.exists() else None

        return path

    @property
    def _is_light_pass(self) -> bool:
        return any(one.key == self.shown_pass for one in LIGHT_PASSES)

    def _picture_of(self, model: ViewModel, results: Results, name: str) -> Shown:
        settings = model.any_settings
        if name == ANY_SETTINGS and settings is not None:
            if settings.layers is None:
                return Shown(name, None, settings.words)

            source = Source(layers=settings.layers, view=self._view(results), shown=self.shown_pass)
            return Shown(name, source, "")

        path = self._path_of(model, name)
        if path is None:
            kept_apart = self._is_light_pass and model.trial(name) is not None
            return Shown(
                name,
                None,
                "Light passes are kept only where they were asked for."
                if kept_apart
                else "This is not rendered yet: Find the fastest or Measure makes it.",
            )

        layers = self._pictures.get(path, self.shown_pass)
        if layers is not None and layers.problem:
            layers = self._other_run(model, name, path) or layers
        if layers is None:
            return Shown(name, None, "Loading …")

        return Shown(
            name, Source(layers=layers, view=self._view(results), shown=self.shown_pass), ""
        )

    def _other_run(self, model: ViewModel, name: str, broken: Path) -> Layers | None:
        """Another run's picture of a trial whose own cannot be shown; None while it is read, or
        where there is none."""
        snapshot = model.snapshot
        trial = model.trial(name)
        if snapshot is None or trial is None:
            return None

        for other in snapshot.state.results.pictures.get(
            snapshot.state.trial_of(trial.configuration).appearance, ()
        ):
            path = snapshot.folder.picture(other)
            if path != broken:
                layers = self._pictures.get(path, self.shown_pass)
                if layers is None or not layers.problem:
                    return layers

        return None

    # Heads, feet, and what stands in the panes

    def _show_heads(self, model: ViewModel, results: Results) -> None:
        places = self._seen_places
        self._make_panes(len(places))
        others = [(f"file: {f.path.name}", f.name) for f in self.foreign.pictures.values()]

        if model.field_shown is not None or ANY_SETTINGS in self._ids:
            others.append((ANY_SETTINGS, ANY_SETTINGS))
        if model.snapshot is not None:
            others += [
                (f"earlier: {trial.called(model.study.base)}", trial.id)
                for trial in model.snapshot.earlier
                if trial.id in self._ids
            ]

        sides = PAIRED.get(self._effective_mode, ("", ""))
        floor = (
            model.snapshot.reference.floor if model.snapshot and model.snapshot.reference else None
        )
        current = self._blinks % len(self._ids) if self._effective_mode == BLINK else None

        for slot, (place, head, foot) in enumerate(
            zip(places, self._heads, self._feet, strict=True)
        ):
            name = self._ids[place]
            head.show_choice(results, name, self._theme, others)
            head.set_side(sides[slot] if self._effective_mode in PAIRED else "")
            head.set_current(place == current)
            head.set_line(place if self._scoped.isChecked() else None)
            foreign = self.foreign.pictures.get(name)

            if self._effective_mode == BLEND:
                foot.setText(self._blend_words(results))
            elif name == ANY_SETTINGS:
                foot.setText(any_settings_line(model, results, self._theme))
            elif foreign is not None:
                foot.setText(foreign_line(foreign, results, self._theme))
            else:
                most = None if len(places) < MANY_PANES else MOST_FIGURES
                foot.setText(
                    figures_line(
                        results, model.trial(name), name, floor, self._area, self._theme, most
                    )
                )

            foot.setToolTip(
                reference_words(model.study)
                if name == REFERENCE
                else figures_line(results, model.trial(name), name, floor, self._area, self._theme)
                if len(places) >= MANY_PANES and foreign is None
                else ""
            )
            self._offer(slot, model, name, self._shown_pictures[place])

    def _show_knobs(self, model: ViewModel, results: Results) -> None:
        """The knobs under the pictures, where one of those is of any settings."""
        settings = model.any_settings
        field = model.field_shown
        wanted = ANY_SETTINGS in self._ids and settings is not None and field is not None
        self.knobs.setVisible(wanted)
        if not wanted or settings is None or field is None:
            return

        self.knobs.show_knobs(
            knobs_of(model.study, field, settings.configuration, model.line),
            any_settings_words(model, results),
            "Pause measuring first" if model.activity.measuring else "",
            self._theme,
        )

    def _time_settings(self) -> None:
        """Make what the knobs are set to a trial, and look at that."""
        model = self.model
        if model is not None and model.any_settings is not None:
            changes = model.any_settings.configuration.effective().differences(model.study.base)
            self.ask(lambda session: session.try_changes(changes))

    def _make_settings_base(self) -> None:
        model = self.model
        if model is not None and model.any_settings is not None:
            configuration = model.any_settings.configuration.effective()
            self.ask(lambda session: session.edit(edits.set_base(configuration)))

    def _offer(self, slot: int, model: ViewModel, name: str, shown: Shown) -> None:
        """A button in a pane that has nothing to show, with what would change that."""
        button = self._offers[slot]
        trial = model.trial(name)
        measuring = model.activity.measuring
        words = ""

        if trial is not None and trial.runs and not shown.is_there and shown.words != "Loading …":
            if self._is_light_pass:
                run = typical_run(trial)
                seconds = (
                    run.result.seconds["total"]
                    if run is not None and run.result is not None
                    else 0.0
                )
                words = f"Render its light passes (about {show_seconds(seconds)})"
            elif self.shown_pass == BEAUTY:
                words = "Render it again"

        button.setVisible(bool(words) and self._effective_mode == SIDE_BY_SIDE)
        button.setText(words)
        button.setEnabled(not measuring)
        button.setToolTip("Pause measuring first" if measuring else "")
        button.setProperty("trial", name)

    def _take_offer(self, button: QPushButton) -> None:
        name = str(button.property("trial"))
        if self._is_light_pass:
            self.ask(lambda session: session.keep_passes(name))
        else:
            self.ask(lambda session: session.run_again(name))

    def _make_panes(self, count: int) -> None:
        while len(self._heads) < count:
            head = TrialHead(self._theme, parent=self.canvas)
            foot = PlainLabel(parent=self.canvas)
            offer = QPushButton(self.canvas)
            slot = len(self._heads)
            head.chosen.connect(lambda name, at=slot: self._choose(at, name))
            head.note_wanted.connect(lambda at=slot: self._ask_note(at))
            offer.setObjectName("card")
            offer.clicked.connect(lambda _, it=offer: self._take_offer(it))
            foot.setObjectName("card")
            foot.setTextFormat(Qt.TextFormat.RichText)
            foot.setFont(font(SMALL))
            foot.setWordWrap(True)
            foot.setContentsMargins(8, 3, 8, 3)
            head.show()
            foot.show()
            self._heads.append(head)
            self._feet.append(foot)
            self._offers.append(offer)

        while len(self._heads) > count:
            gone: tuple[QWidget, ...] = (self._heads.pop(), self._feet.pop(), self._offers.pop())
            for widget in gone:
                widget.hide()
                widget.deleteLater()

    def _place(self) -> None:
        """Put heads and feet into their panes, and leave the pictures the room between."""
        if not self._heads:
            return

        shares = len(self._heads) if self._effective_mode in (*PAIRED, BLINK) else 1

        def across(cell: QRectF) -> int:
            return max(60, int((cell.width() - 4 * (shares - 1)) / shares))

        cells = self.canvas.cells()
        tall = max(max(FOOT_HEIGHT, foot.heightForWidth(across(cells[0]))) for foot in self._feet)

        if tall + 2 != self.canvas.foot:
            self.canvas.foot = tall + 2
            cells = self.canvas.cells()

        for slot, (head, foot, offer) in enumerate(
            zip(self._heads, self._feet, self._offers, strict=True)
        ):
            cell = cells[0] if shares > 1 else cells[min(slot, len(cells) - 1)]
            width = across(cell)
            x = int(cell.x()) + (slot * (width + 4) if shares > 1 else 0)
            head.setGeometry(x, int(cell.y()), width, HEAD_HEIGHT)
            foot.setGeometry(x, int(cell.bottom()) - tall, width, tall)
            size = offer.sizeHint()
            offer.setGeometry(
                x + (width - size.width()) // 2,
                int(cell.center().y()) + 24,
                size.width(),
                size.height(),
            )

        self.canvas.update()

    def _choose(self, slot: int, name: str) -> None:
        """Show another trial in a pane; of a pair another one of those that are shown, where it is
        one."""
        place = self._seen_places[slot]
        if self._effective_mode in PAIRED and name in self._ids:
            pair = list(self._pair)
            pair[slot] = self._ids.index(name)
            if pair[0] == pair[1]:
                pair[1 - slot] = self._pair[slot]
            self._pair = (pair[0], pair[1])
            self.refresh()
            return

        self._end_blend()
        names = [name if k == place else n for k, n in enumerate(self._ids)]
        if name == ANY_SETTINGS and self.model is not None and self.model.any_settings is None:
            self._begin_with_knobs()

        self._compare(names)

    def _begin_with_knobs(self) -> None:
        """Set the knobs to the pick, else to the base."""
        model = self.model
        if model is None:
            return

        pick = model.pick()
        first = pick.trial.configuration if pick is not None else model.study.base
        self.ask(lambda session: session.show_settings(first))

    def _compare(self, names: list[str]) -> None:
        self.ask(lambda session: session.compare(names))

    def _ask_note(self, slot: int) -> RemarkDialog | None:
        model = self.model
        name = self._ids[self._seen_places[slot]]
        trial = model.trial(name) if model is not None else None

        if model is None or trial is None:
            return None

        dialog = RemarkDialog(
            trial.configuration.describe(model.study.base, most=8), trial.remark, self
        )
        dialog.left_out.setEnabled(not trial.is_base)
        dialog.remarked.connect(
            lambda remark: self.ask(lambda session: session.remark(name, remark))
        )
        dialog.open()

        return dialog

    def _on_pointed(self, point: QPointF | None) -> None:
        """Tell what every picture holds under the pointer."""
        if point is None or self.model is None:
            self._values.setText(POINT_AT)
            return

        x, y = int(point.x()), int(point.y())
        told = [f"{x}, {y}"]
        size = self.canvas.size_shown or (1, 1)

        for place, head in zip(self._seen_places, self._heads, strict=False):
            source = (
                self._shown_pictures[place].source
                if self._effective_mode != BLEND
                else self.canvas._shown[0].source
            )
            if source is not None and not source.problem:
                sx = source.size[0] / size[0]
                sy = source.size[1] / size[1]
                told.append(
                    f"{head.words.strip()}: {value_words(source, int(x * sx), int(y * sy))}"
                )

        self._values.setText("   ·   ".join(told))
        self._values.setToolTip("\n".join(told))

    def _on_picture(self, _: object) -> None:
        if not self.isVisible():
            return

        self.refresh()
        if self._places_wanted:
            self.show_places()

    def _on_blink(self) -> None:
        self._blinks += 1
        if self.isVisible():
            self.refresh()

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def hideEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        self._blinking.stop()
        super().hideEvent(event)

    # Areas and places

    def choose_area(self, name: str) -> None:
        """Show the figures of one watch area under the pictures; an empty name shows those of the
        whole. The worst place becomes a watch area by that."""
        if name == WORST_PLACE and self._worst is not None:
            self._area = name
            place = self._worst
            self.ask(lambda session: session.edit(edits.watch(WORST_PLACE, *place)))
        elif name != self._area:
            self._area = name
            self.refresh()

    def _set_drawing(self, wanted: bool) -> None:
        self.canvas.drawing_area = wanted

    def _set_loupe(self, wanted: bool) -> None:
        self.canvas.loupe = wanted
        self.canvas.update()

    def _free_name(self, wanted: str = "area") -> str:
        taken = {area.name for area in self.model.study.areas} if self.model is not None else set()
        return next(
            f"{wanted} {k}" for k in range(1, len(taken) + 2) if f"{wanted} {k}" not in taken
        )

    def _on_area_drawn(self, x: int, y: int, width: int, height: int) -> None:
        self._draw_area.setChecked(False)
        if self.model is not None:
            self._area = name = self._free_name()
            self.ask(lambda session: session.edit(edits.watch(name, x, y, width, height)))

    def _on_area_changed(
        self, name: str, x: int, y: int, width: int, height: int, copy: bool
    ) -> None:
        if self.model is None:
            return

        if copy or name == WORST_PLACE:
            self._on_area_drawn(x, y, width, height)
        else:
            self.ask(lambda session: session.edit(edits.watch(name, x, y, width, height)))

    def _rename_area(self, name: str) -> None:
        new, done = QInputDialog.getText(self, "Watch area", "Name", text=name)
        if done and self.model is not None and new.strip():
            self._area = new.strip()
            self.ask(lambda session: session.edit(edits.rename_area(name, new)))

    def show_places(self) -> QMenu | None:
        """Offer four places worth watching, with what they look like."""
        from swift_sample.core.measure.places import places_worth_watching

        model = self.model
        shown = next(
            (s for s in reversed(self._shown_pictures) if s.name != REFERENCE and s.is_there), None
        )
        path = self._path_of(model, REFERENCE) if model is not None else None
        true = self._pictures.get(path) if path is not None else None
        menu = QMenu(self)
        self._places_wanted = path is not None and (shown is None or true is None)

        if self._places_wanted:
            return None  # it opens by itself as soon as both pictures are read

        if model is None or shown is None or shown.source is None or true is None or true.problem:
            action = menu.addAction("Needs a picture and the reference.")
            assert action is not None
            action.setEnabled(False)
        else:
            source = replace(shown.source, shown=BEAUTY)
            reference = Source(layers=true, view=model.study.view)

            if source.size == reference.size:
                light = [each.light(0, 0, *each.size) for each in (source, reference)]
                for place in places_worth_watching(light[0], light[1], model.study.view):
                    pixels = to_image(source.pixels(0, place.x, place.y, place.width, place.height))
                    icon = QIcon(
                        QPixmap.fromImage(
                            pixels.scaled(PLACE_THUMBNAIL, Qt.AspectRatioMode.KeepAspectRatio)
                        )
                    )
                    action = menu.addAction(icon, place.what)
                    assert action is not None
                    box = (place.x, place.y, place.width, place.height)
                    action.triggered.connect(
                        lambda _=False, what=place.what, box=box: self._watch(what, box)
                    )

            menu.setStyleSheet(f"QMenu {{ icon-size: {PLACE_THUMBNAIL.width()}px; }}")

        menu.popup(self._places.mapToGlobal(self._places.rect().bottomLeft()))
        return menu

    def _watch(self, what: str, box: tuple[int, int, int, int]) -> None:
        """Make a place a watch area, and look at it."""
        model = self.model
        size = self.canvas.size_shown
        if model is None or size is None:
            return

        sx = model.study.size[0] / size[0]
        sy = model.study.size[1] / size[1]
        taken = {area.name for area in model.study.areas}
        self._area = name = what if what not in taken else self._free_name(what)
        x, y, width, height = box
        self.canvas.look_at(QRectF(x - width, y - height, 3 * width, 3 * height))

        self.ask(
            lambda session: session.edit(
                edits.watch(
                    name, round(x * sx), round(y * sy), round(width * sx), round(height * sy)
                )
            )
        )

    # Scopes

    def _on_row(self, share: float) -> None:
        self._row = share
        if self.model is not None:
            self._show_scopes(self.model)
        self.canvas.update()

    def _show_scopes(self, model: ViewModel) -> None:
        """Of the chosen watch area, else of the whole picture."""
        wanted = self._scoped.isChecked()
        self.scopes.setVisible(wanted)
        size = self.canvas.size_shown
        area = next((a for a in model.study.areas if a.name == self._area), None)
        place = None

        if area is not None:
            width, height = model.study.size
            place = QRectF(
                area.x / width, area.y / height, area.width / width, area.height / height
            )

        self.canvas.row = self._row if wanted else None
        self.canvas.row_place = (
            None
            if place is None or size is None
            else QRectF(
                place.x() * size[0],
                place.y() * size[1],
                place.width() * size[0],
                place.height() * size[1],
            )
        )
        if not wanted:
            return

        scoped = []
        for k in self._seen_places:
            source = self._shown_pictures[k].source
            if source is not None and not source.problem:
                scoped.append(Scoped(self._ids[k], k, source))

        self.scopes.show_pictures(self._theme, scoped, place, self._row)

    # Blending

    def _begin_blend(self, model: ViewModel) -> None:
        snapshot = model.snapshot
        name = self._ids[self._blended_place]
        trial = model.trial(name)
        path = snapshot.picture_of(name) if snapshot is not None and trial is not None else None

        if path is None or snapshot is None or trial is None:
            self._end_blend()
            return

        if self._blend is not None and self._blend.path == path:
            return

        self._end_blend()
        known = snapshot.reference is not None
        names = snapshot.state.results.pictures.get(
            snapshot.state.trial_of(trial.configuration).appearance, ()
        )
        others = [snapshot.folder.picture(other) for other in names if other != path.name]
        pieces = {snapshot.folder.picture(other): snapshot.piece_of(other) for other in names}
        samples = snapshot.reference.samples if snapshot.reference is not None else 0

        self._blend = Blending(
            [(file, snapshot.digest_of(file.name)) for file in (path, *others)],
            trial.configuration,
            snapshot.renderer,
            model.study.view,
            (snapshot.reference_path, snapshot.digest_of(snapshot.reference_path.name))
            if known
            else None,
            self,
            reference_samples=samples,
            pieces={file: piece for file, piece in pieces.items() if piece is not None},
        )
        self._blend.changed.connect(self._on_blend)
        self._blend.measured.connect(self._on_blend)
        self._blend.problem.connect(self._values.setText)
        self._blend.saved.connect(lambda where: self._values.setText(f"Saved as {where}"))
        self.blend_bar.show_blend(self._blend)

    def _end_blend(self) -> None:
        if self._blend is not None:
            self._blend.close()
            self._blend.deleteLater()
            self._blend = None

        self.canvas.brush = 0.0
        for button in (self.blend_bar.brush, self.blend_bar.erase):
            button.setChecked(False)

    @property
    def blend(self) -> Blending | None:
        """The blend in hand; None in every other mode."""
        return self._blend

    def _on_blend(self) -> None:
        model = self.model
        if self._blend is None or model is None or model.results is None or self.mode != BLEND:
            return

        self.blend_bar.show_blend(self._blend)
        self.canvas.show_pictures([self._blended(model, model.results)], wipe=False)

        if self._feet:
            self._feet[0].setText(self._blend_words(model.results))
            self._place()

    def _blended(self, model: ViewModel, results: Results) -> Shown:
        blend = self._blend
        if blend is None:
            return Shown(
                "", None, "Choose a trial that is rendered: the reference has nothing to blend."
            )
        if blend.layers is None:
            return Shown("", None, "Denoising …" if blend.is_busy else "This cannot be blended.")

        return Shown(
            "",
            Source(
                layers=blend.layers,
                view=self._view(results),
                strength=blend.strength,
                mask=blend.mask,
            ),
            "",
        )

    def _blend_words(self, results: Results) -> str:
        if self._blend is None or not self._blend.figures:
            return "figures of the blend follow"
        return measured_line(self._blend.figures, results, self._theme)

    def _take_brush(self) -> None:
        self.canvas.brush = self.blend_bar.brush_radius if self.mode == BLEND else 0.0
        self.canvas.update()

    def _on_painted(self, start: QPointF, end: QPointF, first: bool) -> None:
        if self._blend is not None:
            hardness = self.blend_bar.hardness.value() / 100
            erase = self.blend_bar.erase.isChecked()
            self._blend.stroke(start, end, first, self.canvas.brush, hardness, erase)

    def _save_blend(self) -> None:
        model = self.model
        blend = self._blend
        trial = model.trial(self._ids[self._blended_place]) if model is not None else None

        if model is None or blend is None or trial is None:
            return

        named = (
            trial.called(model.study.base)
            .replace("/", " ")
            .replace("·", "")
            .replace("  ", " ")[:80]
        )
        blend.save(
            model.path / BLENDS / f"{named}, {round(100 * blend.strength)} {blend.method}.exr"
        )

    # Saving what is seen, and keys

    def _save_seen(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Save what is seen", "look.png", "Pictures (*.png *.exr)"
        )
        if name:
            self.save_seen(Path(name))

    def save_seen(self, path: Path) -> None:
        """Save what is seen: a PNG as on the screen, an EXR of the part that is seen in linear
        light, the other pictures as layers beside the first."""
        from swift_sample.core.errors import SwiftSampleError, one_line
        from swift_sample.core.picture.exr import write_exr
        from swift_sample.core.picture.picture import Picture

        try:
            if path.suffix.lower() == ".exr":
                seen = self.canvas.seen()
                box = (
                    int(seen.x()),
                    int(seen.y()),
                    max(1, round(seen.width())),
                    max(1, round(seen.height())),
                )

                light = {
                    head.words: shown.source.light(*box)
                    for head, shown in zip(self._heads, self.canvas._shown, strict=False)
                    if shown.source is not None and not shown.source.problem
                }
                if not light:
                    raise OSError("there is no picture to save")

                first, *rest = light
                write_exr(
                    path,
                    Picture(
                        light[first],
                        {f"picture_{k}": light[name] for k, name in enumerate(rest, 2)},
                    ),
                )
            elif not self.canvas.grab().save(str(path)):
                raise OSError("it cannot be written")

            self._values.setText(f"Saved as {path}")
        except (OSError, SwiftSampleError) as error:
            self._values.setText(f"{path.name} was not saved: {one_line(error)}")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right step along the frontier at the same spot; plus, minus and 0 zoom; W, B, D
        and R change to wipe, blink, difference and blend; 1 to 9 choose the pass, 3 again the next
        light pass; S shows scopes, L the loupe, P places worth watching, A draws a watch area,
        Delete removes the chosen one."""
        if event is None:
            return

        key = event.key()
        toggled = {
            Qt.Key.Key_S: self._scoped,
            Qt.Key.Key_A: self._draw_area,
            Qt.Key.Key_L: self._loupe,
        }

        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._step_frontier(1 if key == Qt.Key.Key_Right else -1)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.canvas.zoom_by_step(key != Qt.Key.Key_Minus)
        elif key == Qt.Key.Key_0:
            self.canvas.fit()
        elif key in PASS_KEYS:
            self._on_pass_key(PASS_KEYS[key])
        elif key in toggled:
            toggled[Qt.Key(key)].toggle()
        elif key == Qt.Key.Key_P:
            self.show_places()
        elif key == Qt.Key.Key_N and self._heads:
            self._ask_note(0)
        elif key == Qt.Key.Key_Delete and self._area and self.model is not None:
            name = self._area
            self.ask(lambda session: session.edit(edits.remove_area(name)))
        elif key in MODE_KEYS:
            self.set_mode(MODE_KEYS[key] if self.mode != MODE_KEYS[key] else SIDE_BY_SIDE)
        else:
            super().keyPressEvent(event)

    def _on_pass_key(self, key: str) -> None:
        if key == LIGHT_PASSES[0].key:
            self._light_pass = (
                (self._light_pass + 1) % len(LIGHT_PASSES)
                if self._is_light_pass
                else self._light_pass
            )
            key = LIGHT_PASSES[self._light_pass].key
        self.set_pass(key)

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


def _tab(words: str, tip: str) -> QPushButton:
    button = QPushButton(words)
    button.setProperty("tab", True)
    button.setToolTip(tip)
    return button
