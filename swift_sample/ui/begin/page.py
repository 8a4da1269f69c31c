"""Begin: what a dropped scene opens. Its picture, live; what is rendered; today's settings; what is
worth trying; what would still be delivered; and how long it may take."""

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QPixmap, QResizeEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QColorDialog,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.beginning import Beginning
from swift_sample.app.toning import to_image
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.measure.kinds import WORST_MARK
from swift_sample.core.picture.view import CURVES, MAX_EXPOSURE, View
from swift_sample.core.scene.lighting import SOFT_SKY
from swift_sample.core.scene.staging import NO_CAMERA_NOTE, NO_LIGHT_NOTE
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.settings.typed import read_values
from swift_sample.core.study.answers.acceptance import quantity, small_picture_words
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.plan.model import MOST_FRAMES
from swift_sample.ui.begin.parts import (
    Choices,
    CropButton,
    beside,
    choice,
    clear,
    following,
    heading,
    row_of,
    span_words,
)
from swift_sample.ui.begin.stage import Stage
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

SIZES = (
    (640, 360),
    (960, 540),
    (1280, 720),
    (1920, 1080),
    (1080, 1080),
    (2560, 1440),
    (3840, 2160),
)
STARTING_SAMPLES = {"quick look": 32, "usual": 128, "careful": 512}
PICTURES_OF_LIGHT = "Pictures of the sky (*.exr *.hdr)"
SIDE_WIDTH = 488
LEAST_SIDE_WIDTH = 400
SIDE_SHARE = 0.4
MOST_REASONS = 3
VALUES_WIDTH = 104
MUCH_MEMORY = 1e9
"""Bytes from which it is worth saying what building takes."""
SPANS = (("10 min", 600.0), ("an hour", 3600.0), ("all of it", None))


def limits_words(limits: Mapping[str, float], as_base: bool) -> str:
    """The limits in force, those of the worst place behind those of the picture."""
    told = [
        f"{quantity(key).label} {value:g}"
        for key, value in limits.items()
        if not key.endswith(WORST_MARK)
    ]
    worst = [
        f"{quantity(key.removesuffix(WORST_MARK)).label} {value:g}"
        for key, value in limits.items()
        if key.endswith(WORST_MARK)
    ]

    words = f"limits: {' · '.join(told) or 'none'}"
    if worst:
        words += f"; in the worst place: {' · '.join(worst)}"

    return f"no worse than the base, until you choose here; {words}" if as_base else words


class BeginPage(QWidget):
    """Shows a `Beginning`; every edit goes into it at once."""

    fastest_wanted = pyqtSignal(object)
    """find the fastest, within so many seconds or None"""
    everything_wanted = pyqtSignal(object)
    """measure every value by itself, within so many seconds or None"""
    skipped = pyqtSignal()
    cancelled = pyqtSignal()
    problem = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._beginning: Beginning | None = None
        self._filling = False
        self.stage = Stage(theme)
        self.stage.camera_changed.connect(lambda change: self._do(lambda b: b.place_camera(change)))
        self._rows_shown: object = None
        self._crops_shown: object = None
        self._unfolded = False
        left = QVBoxLayout()
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(0)
        left.addWidget(self.stage, 1)
        left.addWidget(self._below_the_picture())
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(24, 12, 24, 12)
        column.setSpacing(4)
        self._today_part(column)
        self._worth_part(column)
        column.addStretch(1)
        self._time_part(column)
        side = scrolled(right)
        self._side = side
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addLayout(left, 1)
        row.addWidget(side)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._side.setFixedWidth(
            max(LEAST_SIDE_WIDTH, min(SIDE_WIDTH, round(SIDE_SHARE * self.width())))
        )

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.stage.set_theme(theme)

    def show_beginning(self, beginning: Beginning | None) -> None:
        """Show another scene that is being begun."""
        self._beginning = beginning
        self._rows_shown = self._crops_shown = None
        self._unfolded = False

        if beginning is not None:
            beginning.changed.connect(self.refresh)
            beginning.picture_changed.connect(self._show_picture)
            made_up = NO_CAMERA_NOTE in beginning.facts.notes
            self._cameras.fill(
                beginning.facts.cameras or ("placed for you" if made_up else "the scene's own",)
            )
            own = "default grey" if NO_LIGHT_NOTE in beginning.facts.notes else "the scene's own"
            self._lights.fill((own, "grey sky", "colour …", "picture …"))

            staged = (
                self._cameras,
                self._by_hand,
                self._light_label,
                self._lights,
                self._beside_sky,
                self._strength,
                self._turn,
            )
            for widget in staged:
                widget.setVisible(beginning.can_stage)

            self.stage.turns = beginning.can_stage
            self.refresh()
            self._show_picture()
            self.stage.setFocus()

    def _do(self, change: Callable[[Beginning], object]) -> None:
        if self._beginning is not None and not self._filling:
            change(self._beginning)

    def _below_the_picture(self) -> QWidget:
        part = QWidget()
        grid = QGridLayout(part)
        grid.setContentsMargins(24, 12, 24, 8)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(1, 1)
        self._cameras = Choices(self._choose_camera)
        self._by_hand = choice("by hand", "Drag the picture to turn the camera")
        self._by_hand.clicked.connect(lambda: self._do(lambda b: b.place_camera(lambda view: view)))
        self._lights = Choices(self._choose_light)
        self._strength = QDoubleSpinBox()
        self._turn = QSpinBox()
        self._strength.setRange(0.0, 1000.0)
        self._strength.setSingleStep(0.25)
        self._strength.setPrefix("× ")
        self._turn.setRange(-180, 180)
        self._turn.setSuffix("°")
        self._turn.setSingleStep(15)
        self._strength.setAccessibleName("Strength of the sky")
        self._turn.setAccessibleName("Turn of the sky in degrees")
        self._strength.valueChanged.connect(
            lambda value: self._do(
                lambda b: b.stage(lambda staging: replace(staging, strength=value))
            )
        )
        self._turn.valueChanged.connect(
            lambda value: self._do(lambda b: b.stage(lambda s: replace(s, turn=float(value))))
        )
        self._size = QComboBox()
        self._size.setEditable(True)
        self._size.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self._size.addItems([f"{w} × {h}" for w, h in SIZES])
        self._size.setAccessibleName("Size of the picture that is delivered")
        self._size.setMinimumWidth(112)
        self._size.activated.connect(lambda _: self._set_size())
        line = self._size.lineEdit()
        assert line is not None
        line.editingFinished.connect(self._set_size)
        self._frame = QSpinBox()
        self._exposure = QDoubleSpinBox()
        self._curve = QComboBox()
        self._frame.setAccessibleName("Frame")
        self._frame.valueChanged.connect(lambda value: self._do(lambda b: b.edit(frame=value)))
        self._exposure.setRange(-MAX_EXPOSURE, MAX_EXPOSURE)
        self._exposure.setSingleStep(0.25)
        self._exposure.setAccessibleName("Exposure in stops")
        self._exposure.valueChanged.connect(lambda _: self._set_view())
        self._curve.addItems(CURVES)
        self._curve.setAccessibleName("Tone curve")
        self._curve.currentIndexChanged.connect(lambda _: self._set_view())

        for field in (self._strength, self._turn, self._frame, self._exposure):
            field.setFixedWidth(64)
            field.setKeyboardTracking(False)

        self._holds = PlainLabel()
        self._made_up = quiet("")
        self._beside_sky = beside("sky")
        self._holds.setWordWrap(True)

        for place, (name, widgets) in enumerate(
            (
                (
                    "Camera",
                    (
                        self._cameras,
                        self._by_hand,
                        beside("size"),
                        self._size,
                        beside("frame"),
                        self._frame,
                    ),
                ),
                ("Light", (self._lights,)),
                (
                    "View",
                    (
                        *(beside("exposure"), self._exposure, beside("curve"), self._curve),
                        *(self._beside_sky, self._strength, self._turn),
                    ),
                ),
            )
        ):
            label = quiet(str(name), False)
            grid.addWidget(label, place, 0)
            line_of_widgets = Flow()
            for widget in widgets:
                line_of_widgets.addWidget(widget)

            grid.addLayout(line_of_widgets, place, 1)
            if name == "Light":
                self._light_label = label

        grid.addWidget(quiet("In this scene", False), 3, 0, Qt.AlignmentFlag.AlignTop)
        told = QVBoxLayout()
        told.setSpacing(2)
        told.addWidget(self._holds)
        told.addWidget(self._made_up)
        grid.addLayout(told, 3, 1)
        self._question = ElidedLabel(
            "Your picture, as it would come out. Click the worst that is good enough."
        )
        self._question.setFont(font(SMALL))
        self._question.setProperty("quiet", True)
        question = row_of(heading("What would you still deliver?"), self._question)
        grid.addLayout(question, 4, 0, 1, 2)
        self._crops = QHBoxLayout()
        self._crops.setSpacing(4)
        self._crops_wait = quiet("The crops come with the picture: one moment.")
        self._crops.addWidget(self._crops_wait)
        self._crops.addStretch(1)
        grid.addLayout(self._crops, 5, 0, 1, 2)
        grid.setRowMinimumHeight(5, 92)

        return part

    def _today_part(self, column: QVBoxLayout) -> None:
        preset = QPushButton("preset …")
        finished = QPushButton("finished render …")
        preset.clicked.connect(lambda: self._base_from_file("Presets (*.toml)"))
        finished.clicked.connect(lambda: self._base_from_file("Finished renders (*.exr)"))
        finished.setToolTip("A picture that Swift Sample rendered says in its header how")
        column.addLayout(row_of(heading("Your settings today"), None, preset, finished))
        self._starts = QHBoxLayout()
        self._starts.setSpacing(6)
        self._starts.addWidget(quiet("start from", False))

        for name, samples in STARTING_SAMPLES.items():
            button = QPushButton(name)
            button.setToolTip(f"{samples} samples, all else as it is")
            button.clicked.connect(lambda _, count=samples: self._set_samples(count))
            self._starts.addWidget(button)

        self._starts.addStretch(1)
        column.addLayout(self._starts)
        self._today = QGridLayout()
        self._today.setVerticalSpacing(2)
        self._today.setColumnStretch(1, 1)
        column.addLayout(self._today)
        self._rest = quiet("")
        column.addWidget(self._rest)

    def _worth_part(self, column: QVBoxLayout) -> None:
        self._counts = quiet("", False)
        column.addSpacing(10)
        column.addLayout(row_of(heading("Worth trying here"), None, self._counts))
        self._worth = QGridLayout()
        self._worth.setVerticalSpacing(2)
        self._worth.setHorizontalSpacing(8)
        self._worth.setColumnStretch(2, 1)
        column.addLayout(self._worth)
        self._more = QPushButton()
        self._more.clicked.connect(self._unfold)
        column.addWidget(self._more, alignment=Qt.AlignmentFlag.AlignLeft)
        self._not_worth = quiet("")
        column.addWidget(self._not_worth)

    def _time_part(self, column: QVBoxLayout) -> None:
        column.addSpacing(8)
        skip = QPushButton("To the map")
        cancel = QPushButton("Cancel")
        skip.setToolTip("Keep this, and measure later")
        skip.clicked.connect(self.skipped)
        cancel.clicked.connect(self.cancelled)
        column.addLayout(row_of(heading("How long may it take?"), None, skip, cancel))
        self._spans = QButtonGroup(self)
        row = QHBoxLayout()
        row.setSpacing(6)

        for place, (text, _) in enumerate((*SPANS[:2], ("until 07:00", 0.0), SPANS[2])):
            button = choice(text)
            self._spans.addButton(button, place)
            button.setChecked(place == 3)
            row.addWidget(button)

        row.addStretch(1)
        column.addLayout(row)
        self._cost = quiet("A trial render tells in a moment.")
        column.addWidget(self._cost)
        find = QPushButton("Find the fastest")
        everything = QPushButton("Measure everything")
        find.setProperty("main", True)
        find.setMinimumHeight(36)
        find.clicked.connect(lambda: self.fastest_wanted.emit(self.span()))
        everything.clicked.connect(lambda: self.everything_wanted.emit(self.span()))
        everything.setToolTip("Every value of every setting by itself, and nothing else")
        self.fastest = find
        self.everything = everything
        column.addLayout(row_of(find, everything, None))
        self._limits = quiet("")
        column.addWidget(self._limits)

    def span(self) -> float | None:
        """Seconds that measuring may take; None for as long as it needs."""
        chosen = self._spans.checkedId()
        if chosen == 2:
            now = datetime.now()
            morning = now.replace(hour=7, minute=0, second=0, microsecond=0)
            morning = morning if morning > now else morning + timedelta(days=1)
            return (morning - now).total_seconds()

        return (SPANS[0][1], SPANS[1][1], None, None)[chosen]

    def refresh(self) -> None:
        """Show everything as it stands."""
        beginning = self._beginning
        if beginning is None:
            return

        self._filling = True
        draft = beginning.draft
        staging = beginning.draft.staging
        facts = beginning.facts
        by_hand = staging.viewpoint is not None
        self._by_hand.setChecked(by_hand)
        self._cameras.check(
            None
            if by_hand
            else max(0, self._cameras.names.index(staging.camera))
            if staging.camera
            else 0
        )
        light = staging.environment
        is_picture = light is not None and light.lower().endswith((".exr", ".hdr"))
        self._lights.check(
            0 if light is None else 1 if light == SOFT_SKY else 3 if is_picture else 2
        )
        self._lights.tip(
            3, str(light) if is_picture else "An EXR or HDR picture of the sky; or drop it here"
        )
        self._strength.setValue(staging.strength)
        self._turn.setValue(round(staging.turn))

        if not self._size.hasFocus():
            self._size.setCurrentText(f"{draft.size[0]} × {draft.size[1]}")

        last = MOST_FRAMES if facts.frames is None else facts.frames - 1
        self._frame.setRange(0, max(0, last, draft.frame))
        self._frame.setValue(draft.frame)
        self._frame.setEnabled(not facts.still)
        self._frame.setToolTip(facts.still[:1].upper() + facts.still[1:])
        self._exposure.setValue(draft.view.exposure)
        self._curve.setCurrentText(draft.view.curve)
        self._holds.setText(", ".join(facts.about) + ".")
        notes = [note for note in facts.notes if not (by_hand and note == NO_CAMERA_NOTE)]

        if beginning.light_note:
            notes = [beginning.light_note, *(note for note in notes if note != NO_LIGHT_NOTE)]

        notes = notes or ["Nothing had to be made up: camera and light are the scene's own."]
        if facts.memory_bytes > MUCH_MEMORY:
            notes.append(f"Building it takes up to {facts.memory_bytes / 1e9:.1f} GB of memory.")

        self._made_up.setText(" ".join(notes))
        self._show_rows(beginning)
        self._show_crops(beginning)
        self._show_cost(beginning)
        self._filling = False
        self._show_picture()

    def _show_picture(self) -> None:
        beginning = self._beginning
        if beginning is None:
            return

        if beginning.light is not None:
            self.stage.show_picture(
                to_image(beginning.draft.view.eight_bit(beginning.light)), beginning.words
            )
        else:
            self.stage.show_picture(self.stage.image, beginning.words)

    def _show_rows(self, beginning: Beginning) -> None:
        draft = beginning.draft
        offered = beginning.suggestions
        shown = (
            draft.base,
            tuple(offered),
            frozenset(beginning.chosen),
            tuple(beginning.without_effect),
            self._unfolded,
        )

        if shown == self._rows_shown:
            return

        self._rows_shown = shown
        clear(self._today)
        listed = [one.key for one in offered if one.first]
        extra = [key for key in draft.base.without_defaults() if key not in listed]
        keys = [*listed, *extra, *following(draft.base, listed)]

        for place, key in enumerate(dict.fromkeys(keys)):
            declared = draft.catalogue[key]
            field = QLineEdit(declared.show(draft.base[key]))
            field.setAccessibleName(f"{declared.label} today")
            field.setToolTip(plain_tip(f"{declared.help}\n{declared.expected}"))
            field.setProperty("flat", True)
            field.editingFinished.connect(
                lambda which=key, box=field: self._set_base(which, box.text(), box)
            )
            self._today.addWidget(quiet(declared.full_label, False), place, 0)
            self._today.addWidget(field, place, 1)

        others = len(draft.base) - len(dict.fromkeys(keys))
        self._rest.setText(f"{others} more, as the renderer has them by default" if others else "")
        clear(self._worth)
        seen = [
            one for one in offered if one.first or one.key in beginning.chosen or self._unfolded
        ]

        for place, one in enumerate(seen):
            declared = draft.catalogue[one.key]
            box = QCheckBox(declared.full_label)
            box.setChecked(one.key in beginning.chosen)
            box.toggled.connect(lambda on, which=one.key: self._do(lambda b: b.choose(which, on)))
            box.setToolTip(plain_tip(declared.help))
            values = [declared.show(v) for v in one.values if v != draft.base[one.key]]
            told = PlainLabel()
            told.setFont(font(SMALL))
            told.setText(
                told.fontMetrics().elidedText(
                    "  ".join(values), Qt.TextElideMode.ElideRight, VALUES_WIDTH
                )
            )
            told.setFixedWidth(VALUES_WIDTH)
            told.setToolTip(", ".join(values))
            why = ElidedLabel(one.why)
            why.setFont(font(SMALL))
            why.setProperty("quiet", True)
            why.setToolTip(plain_tip(one.why))
            self._worth.addWidget(box, place, 0)
            self._worth.addWidget(told, place, 1)
            self._worth.addWidget(why, place, 2)

        rest = len(offered) - len(seen)
        self._more.setVisible(rest > 0)
        self._more.setText(f"{rest} more that this scene has something for …")
        self._counts.setText(
            f"{len(beginning.chosen)} of {len(draft.base)} settings · {draft.combinations():,} "
            "combinations"
        )
        reasons: dict[str, list[str]] = {}
        for key, reason in beginning.without_effect.items():
            reasons.setdefault(reason, []).append(draft.catalogue[key].label.lower())

        told_reasons = [f"{', '.join(labels[:2])} ({reason})" for reason, labels in reasons.items()]
        more = (
            f"; and {len(told_reasons) - MOST_REASONS} more"
            if len(told_reasons) > MOST_REASONS
            else ""
        )
        self._not_worth.setText(
            f"Not worth it: {'; '.join(told_reasons[:MOST_REASONS])}{more}." if told_reasons else ""
        )
        self._not_worth.setToolTip(plain_tip("\n".join(told_reasons)))

    def _show_crops(self, beginning: Beginning) -> None:
        limits = dict(beginning.limits_in_force.items())
        if beginning.crops is not self._crops_shown:
            self._crops_shown = beginning.crops
            clear(self._crops)
            self._crop_buttons: dict[tuple[str, float], CropButton] = {}
            last = ""

            for crop in beginning.crops:
                if last and crop.measure != last:
                    self._crops.addSpacing(16)

                last = crop.measure
                button = CropButton()
                button.setIcon(QIcon(QPixmap.fromImage(to_image(crop.pixels))))
                unit = "%" if crop.measure == "detail_kept" else "levels"
                button.setText(f"{quantity(crop.measure).short.split()[0]} {crop.value:g}")
                button.setAccessibleName(
                    f"Deliver {quantity(crop.measure).label} of {crop.value:g} {unit}"
                )

                button.setToolTip(
                    plain_tip(
                        f"Accept {quantity(crop.measure).label} "
                        f"{'down' if unit == '%' else 'up'} to {crop.value:g} {unit}"
                    )
                )
                button.clicked.connect(
                    lambda _, one=crop: self._do(lambda b: b.set_limit(one.measure, one.value))
                )
                self._crops.addWidget(button)
                self._crop_buttons[crop.measure, crop.value] = button

            self._crops.addStretch(1)
            if not beginning.crops:
                self._crops.insertWidget(0, quiet("The crops come with the picture: one moment."))

        for (measure, value), button in getattr(self, "_crop_buttons", {}).items():
            button.setChecked(limits.get(measure) == value)

        small = small_picture_words(beginning.draft)
        told = (limits_words(limits, beginning.draft.no_worse_than_base), *small)
        self._limits.setText("; ".join(told))

    def _show_cost(self, beginning: Beginning) -> None:
        costs = beginning.costs
        can_search = beginning.draft.combinations() > 1
        self.fastest.setEnabled(can_search)
        self.fastest.setToolTip("" if can_search else "Tick something that is worth trying")
        self.everything.setEnabled(can_search)

        if costs is None or beginning.pilot is None:
            self._cost.setText(
                "A trial render will tell what this takes, as soon as the picture is clean."
            )
            self.everything.setText("Measure everything")
            return

        search, everything = costs
        once = beginning.pilot.seconds(beginning.draft.base)
        self.everything.setText(f"Measure all {everything.trials}")

        self._cost.setText(
            f"Once, as it is today, takes about {show_seconds(once)}. Finding the fastest of "
            f"{search.trials:,} takes "
            f"{span_words(search)}; each of the {everything.trials} by itself "
            f"{span_words(everything)} and "
            f"{everything.disk_bytes / 1e6:,.0f} MB. Times count the reference and the measuring."
        )

    def _unfold(self) -> None:
        self._unfolded = True
        self.refresh()

    def _choose_camera(self, place: int) -> None:
        name = self._cameras.names[place]
        cameras = self._beginning.facts.cameras if self._beginning is not None else ()
        self._do(
            lambda b: b.stage(
                lambda s: replace(
                    s, camera=name if name in cameras and place else "", viewpoint=None
                )
            )
        )

    def _choose_light(self, place: int) -> None:
        if self._filling or self._beginning is None:
            return

        chosen: str | None = None
        if place == 1:
            chosen = SOFT_SKY
        elif place == 2:
            colour = QColorDialog.getColor(Qt.GlobalColor.white, self, "Light from everywhere")
            if not colour.isValid():
                self.refresh()
                return

            light = View().light([colour.red(), colour.green(), colour.blue()])  # type: ignore[arg-type]
            chosen = ",".join(f"{value:.4g}" for value in light)
        elif place == 3:
            name, _ = QFileDialog.getOpenFileName(
                self, "A picture of the sky", str(Path.home()), PICTURES_OF_LIGHT
            )
            if not name:
                self.refresh()
                return

            chosen = name

        self.light_from(chosen)

    def light_from(self, light: str | None) -> None:
        """Take a colour, or a picture of the sky, as light."""
        self._do(lambda b: b.stage(lambda staging: replace(staging, environment=light)))
        self.refresh()

    def take_file(self, path: Path) -> None:
        """A dropped file: a picture of the sky as light, a preset or a finished render as today's
        settings."""
        if path.suffix.lower() == ".toml":
            self._do(lambda b: b.base_from_file(path))
        elif path.suffix.lower() == ".hdr":
            self.light_from(str(path))
        elif self._beginning is not None:
            self._beginning.take_picture(path)

    def _set_size(self) -> None:
        text = self._size.currentText().lower().replace("×", "x").replace(" ", "")
        try:
            width, height = (int(side) for side in text.split("x"))
        except ValueError:
            self.problem.emit(
                f"size={self._size.currentText()}: expected width × height in pixels, as 1280 × 720"
            )
            return

        self._do(lambda b: b.edit(size=(width, height)))

    def _set_view(self) -> None:
        exposure = self._exposure.value()
        curve = self._curve.currentText()
        self._do(lambda b: b.set_view(View(exposure, curve)))

    def _set_base(self, key: str, text: str, box: QLineEdit | None = None) -> None:
        beginning = self._beginning
        if beginning is None or self._filling:
            return

        declared = beginning.draft.catalogue[key]
        if text == declared.show(beginning.draft.base[key]):
            return

        try:
            beginning.set_base_value(
                key, (read_values(declared, text) or (declared.parse(text),))[0]
            )
        except SwiftSampleError as error:
            self.problem.emit(one_line(error))
            if box is not None:
                box.setText(declared.show(beginning.draft.base[key]))

    def _set_samples(self, count: int) -> None:
        counted = (
            self._beginning.draft.catalogue.with_role(SAMPLES)
            if self._beginning is not None
            else None
        )
        if counted is not None:
            self._set_base(counted.key, str(count))

    def _base_from_file(self, kinds: str) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Your settings today", str(Path.home()), kinds)
        if name:
            self._do(lambda b: b.base_from_file(Path(name)))
