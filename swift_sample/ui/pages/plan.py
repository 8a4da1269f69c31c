"""Plan: everything a study's plan says besides the values to try: what is acceptable, rendered,
watched and left open."""

from collections.abc import Callable
from dataclasses import replace
from html import escape

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.pictures import PictureStore
from swift_sample.app.view_model import ViewModel
from swift_sample.core.measure.kinds import MEANINGS
from swift_sample.core.picture.view import CURVES, MAX_EXPOSURE
from swift_sample.core.settings import Setting
from swift_sample.core.study.answers.acceptance import quantity
from swift_sample.core.study.answers.holding import sentences
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.core.study.plan.model import (
    AREA_LIMITS,
    FIRST_PICTURE,
    IMAGE_LIMITS,
    LIMIT_KEYS,
    MOST_RENDERS,
    Limits,
    Study,
    WatchArea,
)
from swift_sample.core.study.plan.words import staging_words
from swift_sample.ui.page import Page
from swift_sample.ui.pages.plan_bases import BasesSection
from swift_sample.ui.pages.plan_parts import Listed, Section
from swift_sample.ui.theme import Theme
from swift_sample.ui.widgets.parts import quiet, scrolled
from swift_sample.ui.widgets.words import PlainLabel

FIRST_LIMITS = {
    "rms": 3.0,
    "perceptual": 2.0,
    "seconds": 60.0,
    "first_picture": 1.0,
    "memory": 4096.0,
    "file": 16.0,
}
"""Where a limit that is not set by default starts when it is switched on."""
CURVE_WORDS = {
    "straight": "straight: clips what is too bright",
    "soft": "soft: rolls highlights off",
}
USUAL_OF_AREAS = AREA_LIMITS[:4]
COARSE = ("stray_pixels", "memory")
"""Limits in whole numbers."""
LIMIT_WIDTH = 140
NUMBER_WIDTH = 68


def limit_field(key: str) -> QDoubleSpinBox:
    """A field for one limit, with its range and unit."""
    field = QDoubleSpinBox()
    coarse = key in COARSE
    field.setDecimals(0 if coarse else 1)
    field.setRange(1.0 if coarse else 0.1, 99.9 if quantity(key).higher_is_better else 1e6)
    field.setSingleStep(100.0 if coarse else 0.5)
    field.setFixedWidth(LIMIT_WIDTH)
    field.setKeyboardTracking(False)
    field.setSuffix(f" {quantity(key).unit}")
    field.setAccessibleName(f"Limit of {quantity(key).label}")

    return field


CHOOSE_FIRST = "Choose values in the settings on the left first."


class PlanPage(Page):
    """The plan; every edit goes into it at once and can be undone."""

    name = "Plan"
    look_again_wanted = pyqtSignal()
    """show the scene live, as when the study was begun"""

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._filling = False
        self._limits: dict[str, tuple[QCheckBox, QDoubleSpinBox]] = {}
        self._standing: dict[str, QLabel] = {}
        inner = QWidget()
        columns = QHBoxLayout(inner)
        columns.setContentsMargins(24, 12, 12, 12)
        columns.setSpacing(24)

        for stretch, sections in (
            (6, (self._acceptable(), self._watched(), self._forbidden())),
            (
                5,
                (
                    self._rendered(),
                    self._viewed(),
                    self._kept(),
                    self._reference(),
                    self._combined(),
                    self._elsewhere(),
                ),
            ),
        ):
            column = QVBoxLayout()
            for section in sections:
                column.addWidget(section)

            column.addStretch(1)
            columns.addLayout(column, stretch)

        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(inner))

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        """Show the plan as it stands."""
        model = self.model
        if model is None:
            return

        self._filling = True
        study = model.study
        limits = (
            model.results.limits
            if model.results is not None and study.no_worse_than_base
            else study.goal_limits
        )
        self._show_limits(study, limits)
        for key, label in self._standing.items():
            label.setText(_standing_words(key, model))

        for field, value in (
            (self._width, study.size[0]),
            (self._height, study.size[1]),
            (self._frame, study.frame),
            (self._repeats, study.repeats),
            (self._renders, study.renders_per_opening),
        ):
            _put(field, value)

        self._staged.setText(staging_words(study.staging))
        _put(self._exposure, study.view.exposure)
        self._curve.setCurrentIndex(CURVES.index(study.view.curve))
        self._areas.show_items(
            study.areas, self._area_row, "None yet. Press A in Look and draw one."
        )
        self._grids.show_items(
            [(grid, study.catalogue) for grid in study.grids()], self._grid_row, ""
        )
        self._show_combinable(study)
        self._bases.show_study(study, model.results)

        self._values.show_items(
            [(study.catalogue[k], v) for k, values in study.forbidden.items() for v in values],
            self._forbidden_row,
            "Every value may be used.",
        )
        self._show_reference(model, study)
        self._show_elsewhere(model, study)
        self._filling = False

    def _edit(self, label: str, change: Callable[[Study], Study], field: str = "") -> None:
        """`change` is made on another thread: it must not ask a widget for anything."""
        if self.model is not None and not self._filling:
            self.ask(lambda session: session.edit(PlanEdit(label, change, field)))

    def _acceptable(self) -> Section:
        section = Section(
            "What is acceptable",
            "The most error, time or memory that you would still deliver. "
            "A trial counts when all of its interval is inside every limit.",
        )
        self._kinds = QButtonGroup(self)
        self._set = QPushButton("these limits")
        self._as_base = QPushButton("no worse than the base")

        for button in (self._set, self._as_base):
            button.setCheckable(True)
            button.setProperty("tab", True)
            self._kinds.addButton(button)
            button.clicked.connect(
                lambda _, as_base=button is self._as_base: self.ask(
                    lambda session: session.edit(edits.set_no_worse(as_base))
                )
            )

        section.add_row(self._set, self._as_base)
        grid = QGridLayout()
        grid.setSpacing(4)
        grid.setColumnStretch(2, 1)

        for place, key in enumerate(LIMIT_KEYS):
            box = QCheckBox(quantity(key).short)
            field = limit_field(key)
            box.setToolTip(f"{quantity(key).label}: {MEANINGS.get(key, '')}")
            box.toggled.connect(lambda on, which=key: self._set_limit(which, on))
            field.valueChanged.connect(lambda _, which=key: self._set_limit(which, True))
            grid.addWidget(box, place, 0)
            grid.addWidget(field, place, 1)
            self._limits[key] = (box, field)
            self._standing[key] = quiet("")
            self._standing[key].setMinimumWidth(52)
            field.setMaximumWidth(136)
            grid.addWidget(self._standing[key], place, 2)

        section.rows.addLayout(grid)
        return section

    def _set_limit(self, key: str, on: bool) -> None:
        if self.model is not None and not self._filling:
            value = self._limits[key][1].value() if on else None
            self.ask(lambda session: session.set_limit(key, value))

    def _show_limits(self, study: Study, limits: Limits) -> None:
        (self._as_base if study.no_worse_than_base else self._set).setChecked(True)
        self._set.setText(
            "these limits" if study.goal != FIRST_PICTURE else "these limits, for the first picture"
        )
        wanted = dict(limits.items())
        usual = dict(Limits().items())

        for key, (box, field) in self._limits.items():
            fixed = study.no_worse_than_base and key in IMAGE_LIMITS
            box.setChecked(key in wanted)
            _put(field, wanted.get(key, usual.get(key, FIRST_LIMITS.get(key, 1.0))))
            field.setEnabled(key in wanted and not fixed)
            box.setEnabled(not fixed)
            field.setToolTip("As the base has it" if fixed else "")

    def _watched(self) -> Section:
        section = Section(
            "Watch areas",
            "Places the client will look at. Each is measured by itself, under the same limits "
            "as the picture or under its own.",
        )
        self._areas = Listed()
        section.rows.addWidget(self._areas)

        return section

    def _area_row(self, item: object) -> QWidget:
        assert isinstance(item, WatchArea)
        row = QWidget()
        grid = QGridLayout(row)
        grid.setContentsMargins(0, 0, 0, 6)
        grid.setSpacing(4)
        own = QCheckBox("own limits")
        remove = QPushButton("remove")
        own.setChecked(item.limits is not None)

        own.toggled.connect(
            lambda on: self._edit(
                f"Limits of {item.name}",
                lambda study: study.with_area(
                    item, replace(item, limits=_of_areas(study.goal_limits) if on else None)
                ),
            )
        )
        remove.clicked.connect(
            lambda: self.ask(lambda session: session.edit(edits.remove_area(item.name)))
        )
        grid.addWidget(
            QLabel(
                f"{escape(item.name)}   <span "
                f"style='font-size:small'>{item.width}×{item.height} pixels</span>"
            ),
            0,
            0,
        )
        grid.addWidget(own, 0, 1)
        grid.addWidget(remove, 0, 2)
        grid.setColumnStretch(0, 1)

        if item.limits is not None:
            fields = QGridLayout()
            fields.setColumnStretch(2, 1)

            for place, key in enumerate(USUAL_OF_AREAS):
                field = limit_field(key)
                value = dict(item.limits.items()).get(key)
                field.setValue(value if value is not None else dict(Limits().items())[key])

                field.valueChanged.connect(
                    lambda value, which=key: self._edit(
                        f"{quantity(which).label.capitalize()} in {item.name}: limit {value:g}",
                        lambda study: study.with_area(
                            item,
                            replace(
                                item, limits=replace(item.limits or Limits(), **{which: value})
                            ),
                        ),
                        f"limit {which} {item.name}",
                    )
                )
                fields.addWidget(quiet(quantity(key).label, wrap=False), place, 0)
                fields.addWidget(field, place, 1)

            grid.addLayout(fields, 1, 0, 1, 3)

        return row

    def _forbidden(self) -> Section:
        section = Section(
            "Must not be used",
            "Values that the final machine or farm does not support. They are "
            "measured, but never picked. The menu of a value on the left does the same.",
        )
        self._values = Listed()
        section.rows.addWidget(self._values)

        return section

    def _forbidden_row(self, item: object) -> QWidget:
        assert isinstance(item, tuple)
        declared, value = item
        allow = QPushButton("allow again")
        allow.clicked.connect(
            lambda: self.ask(lambda session: session.forbid(declared.key, value, False))
        )

        return _row(PlainLabel(f"{declared.label}: {declared.show(value)}"), allow)

    def _rendered(self) -> Section:
        section = Section(
            "What is rendered",
            (
                "Another size or frame is measured separately; results of this one are kept and "
                "come back with it."
            ),
        )
        self._width, self._height, self._frame, self._repeats, self._renders = (
            QSpinBox() for _ in range(5)
        )

        for field, name, low, high in (
            (self._width, "Width", 1, 16384),
            (self._height, "Height", 1, 16384),
            (self._frame, "Frame", 0, 100_000),
            (self._repeats, "Runs of each trial", 1, 100),
            (self._renders, "Renders each time the scene is opened", 1, MOST_RENDERS),
        ):
            field.setRange(low, high)
            field.setFixedWidth(NUMBER_WIDTH)
            field.setKeyboardTracking(False)
            field.setAccessibleName(name)

        for field in (self._width, self._height):
            field.valueChanged.connect(self._set_size)

        self._frame.valueChanged.connect(
            lambda value: self._edit(
                f"Frame {value}", lambda study: replace(study, frame=value), "frame"
            )
        )
        self._repeats.valueChanged.connect(
            lambda value: self.ask(lambda session: session.edit(edits.set_repeats(value)))
        )
        section.add_row(
            PlainLabel("Picture"), self._width, PlainLabel("×"), self._height, PlainLabel("pixels")
        )
        section.add_row(PlainLabel("Frame"), self._frame)
        self._staged = PlainLabel()
        again = QPushButton("Light, camera and limits by eye …")
        again.clicked.connect(self.look_again_wanted)
        section.add_row(self._staged)
        section.add_row(again)
        self._renders.setToolTip(
            "What reading and building the scene takes once is shared among so many renders"
        )

        self._renders.valueChanged.connect(
            lambda value: self._edit(
                f"{value} renders each time the scene is opened",
                lambda study: replace(study, renders_per_opening=value),
                "renders per opening",
            )
        )
        section.add_row(PlainLabel("Every trial"), self._repeats, PlainLabel("times"))
        section.add_row(PlainLabel("Opened once for"), self._renders, PlainLabel("renders"))

        return section

    def _set_size(self) -> None:
        size = (self._width.value(), self._height.value())
        self._edit(f"Picture {size[0]}×{size[1]}", lambda study: study.with_size(size), "size")

    def _viewed(self) -> Section:
        section = Section(
            "How pictures are seen",
            "Pictures are shown and measured through this. After a change the stored "
            "pictures are measured again; nothing is rendered.",
        )
        self._exposure = QDoubleSpinBox()
        self._curve = QComboBox()
        self._exposure.setRange(-MAX_EXPOSURE, MAX_EXPOSURE)
        self._exposure.setSingleStep(0.25)
        self._exposure.setKeyboardTracking(False)
        self._exposure.setSuffix(" stops")
        self._exposure.setAccessibleName("Exposure")
        self._curve.addItems([CURVE_WORDS[curve] for curve in CURVES])
        self._curve.setAccessibleName("Tone curve")

        self._exposure.valueChanged.connect(
            lambda value: self._edit(
                f"Exposure {value:g}",
                lambda study: replace(study, view=replace(study.view, exposure=value)),
                "exposure",
            )
        )
        self._curve.activated.connect(
            lambda place: self._edit(
                "Tone curve",
                lambda study: replace(study, view=replace(study.view, curve=CURVES[place])),
            )
        )

        section.add_row(PlainLabel("Exposure"), self._exposure)
        section.add_row(PlainLabel("Tone curve"), self._curve)
        return section

    def _reference(self) -> Section:
        section = Section(
            "The reference",
            "What errors are measured against: the base with everything open that limits "
            "light or detail. What you left out on purpose is a look, not an error: set it to "
            "“same as the base”.",
        )
        self._state = quiet("")
        self._opened = Listed()
        section.rows.addWidget(self._state)
        section.rows.addWidget(self._opened)

        return section

    def _show_reference(self, model: ViewModel, study: Study) -> None:
        state = model.snapshot.reference if model.snapshot is not None else None
        self._state.setText(
            "Not rendered yet: Measure begins with it."
            if state is None
            else (
                f"{state.samples} samples a pixel so far, its own grain is {state.floor:.2f} "
                "levels."
            )
            if state.floor is not None
            else "Rendered; how much grain it has itself is not known."
        )

        wanted = {**study.reference_opens(), **dict.fromkeys(study.reference_keeps)}
        rows = [
            (study.catalogue[key], study.base[key], key in study.reference_keeps) for key in wanted
        ]
        self._opened.show_items(
            rows, self._reference_row, "The base limits nothing that the reference would open."
        )

    def _reference_row(self, item: object) -> QWidget:
        assert isinstance(item, tuple)
        declared, base, kept = item
        keep = QCheckBox("same as the base")
        opened = declared.reference.applied_to(base)
        keep.setChecked(kept)

        keep.toggled.connect(
            lambda on: self._edit(
                f"Reference {'keeps' if on else 'opens'} {declared.label.lower()}",
                lambda study: study.reference_keeping(declared.key, on),
            )
        )
        words = f"{declared.label}: {declared.show(base)}" + (
            "" if kept else f" → {declared.show(opened)}"
        )
        told = PlainLabel(words)
        told.setWordWrap(True)

        return _row(told, keep)

    def _elsewhere(self) -> Section:
        section = Section(
            "Does it hold?",
            (
                "Before a long sequence, or when you measured small: pick, base and the two next "
                "best at another size or frame."
            ),
        )
        self._there = tuple(QSpinBox() for _ in range(3))

        for field, name, low, high in zip(
            self._there,
            ("Width there", "Height there", "Frame there"),
            (1, 1, 0),
            (16384, 16384, 100_000),
            strict=True,
        ):
            field.setRange(low, high)
            field.setFixedWidth(NUMBER_WIDTH)
            field.setAccessibleName(name)

        self._measure_there = QPushButton("Measure there")
        self._measure_there.clicked.connect(self._ask_elsewhere)
        width, height, frame = self._there
        section.add_row(width, PlainLabel("×"), height, PlainLabel("pixels"))
        section.add_row(PlainLabel("frame"), frame, self._measure_there)
        self._answers = Listed()
        section.rows.addWidget(self._answers)
        self._proposed: object = None

        return section

    def _show_elsewhere(self, model: ViewModel, study: Study) -> None:
        pick = model.pick()
        measuring = model.activity.measuring
        there = pick is not None and not pick.trial.is_base
        self._measure_there.setEnabled(there and not measuring)
        self._measure_there.setToolTip(
            "There is no pick yet that differs from the base"
            if not there
            else "Pause first"
            if measuring
            else ""
        )

        if self._proposed != (study.scene, study.size, study.frame):
            self._proposed = (study.scene, study.size, study.frame)
            for field, value in zip(
                self._there, (study.size[0] // 2, study.size[1] // 2, study.frame), strict=True
            ):
                field.setValue(value)

        found = model.snapshot.held if model.snapshot is not None and self.isVisible() else ()
        self._answers.show_items(
            [sentences(answer, study.base) for answer in found], _answer_row, ""
        )

    def _ask_elsewhere(self) -> None:
        width, height, frame = (field.value() for field in self._there)
        model = self.model
        if model is None:
            return

        still = model.facts.still if model.facts is not None else ""
        refused = ""

        if ((width, height), frame) == (model.study.size, model.study.frame):
            refused = "Choose another size or frame than the study's own."
        elif (width, height) == model.study.size and still:
            refused = f"{still[:1].upper()}{still[1:]}: choose another size."

        if refused:
            self._answers.show_items([[refused]], _answer_row, "")
            return

        self.ask(lambda session: session.measure_elsewhere((width, height), frame))

    def _kept(self) -> Section:
        self._bases = BasesSection()
        self._bases.edited.connect(self._edit)
        return self._bases

    def _combined(self) -> Section:
        section = Section(
            "Every combination",
            (
                "Settings that may help or hinder one another. Choose two or more that have values "
                "to try."
            ),
        )
        self._grids = Listed()
        self._choices = Listed()
        self._boxes: dict[str, QCheckBox] = {}
        self._add_grid = QPushButton("Try every combination")
        self._add_grid.clicked.connect(self._on_grid)
        for widget in (self._grids, self._choices):
            section.rows.addWidget(widget)

        section.add_row(self._add_grid)
        return section

    def _show_combinable(self, study: Study) -> None:
        keys = [
            key for key, values in study.values_to_try().items() if set(values) - {study.base[key]}
        ]
        self._choices.show_items(
            [study.catalogue[key] for key in keys],
            self._choice_row,
            "Choose values in the settings on the left first.",
        )
        for key in set(self._boxes) - set(keys):
            del self._boxes[key]

        self._count()

    def _choice_row(self, item: object) -> QWidget:
        assert isinstance(item, Setting)
        box = QCheckBox(item.label)
        box.toggled.connect(self._count)
        self._boxes[item.key] = box

        return box

    def _count(self) -> None:
        """Say on the button how many trials the choice adds."""
        chosen = [key for key, box in self._boxes.items() if box.isChecked()]
        self._add_grid.setEnabled(len(chosen) > 1)
        text = "Try every combination"

        if self.model is not None and len(chosen) > 1:
            study = self.model.study
            more = len(study.with_grid(chosen).planned()) - len(study.planned())
            text += f": {more} more trial{'s' if more != 1 else ''}"

        self._add_grid.setText(text)
        self._add_grid.setToolTip("" if len(chosen) > 1 else "Choose two settings or more")

    def _on_grid(self) -> None:
        chosen = [key for key, box in self._boxes.items() if box.isChecked()]
        for box in self._boxes.values():
            box.setChecked(False)
        self._edit("Every combination", lambda study: study.with_grid(chosen))

    def _grid_row(self, item: object) -> QWidget:
        assert isinstance(item, tuple)
        grid, catalogue = item
        remove = QPushButton("remove")
        remove.clicked.connect(
            lambda: self._edit(
                "Without these combinations", lambda study: study.without_sweep(grid)
            )
        )

        words = PlainLabel(
            " × ".join(
                f"{catalogue[key].label.lower()} {', '.join(map(catalogue[key].show, values))}"
                for key, values in grid.values.items()
            )
        )
        words.setWordWrap(True)
        policy = words.sizePolicy()  # as it stands, for what it says of lines that wrap
        policy.setHorizontalPolicy(QSizePolicy.Policy.Expanding)
        words.setSizePolicy(policy)

        return _row(words, remove)


def _put(field: QSpinBox | QDoubleSpinBox, value: float) -> None:
    """Show a value, but leave what is being typed alone."""
    if abs(field.value() - value) > 0.5 * 10.0 ** -(
        field.decimals() if isinstance(field, QDoubleSpinBox) else 0
    ):
        field.setValue(value)  # type: ignore[arg-type]


def _standing_words(key: str, model: ViewModel) -> str:
    """Where base and pick stand, to judge a limit by."""
    results = model.results
    pick = model.pick()
    trials = [
        ("base", results.base if results is not None else None),
        ("pick", pick.trial if pick is not None else None),
    ]
    standing_words = [
        (name, trial.figures[key])
        for name, trial in trials
        if trial is not None and trial.figures.get(key) is not None
    ]

    return " · ".join(
        f"{name} {figure.value:.0f}"
        if figure.value >= 100
        else f"{name} {figure.value:.2g}"
        if figure.value < 10
        else f"{name} {figure.value:.1f}"
        for name, figure in standing_words
        if figure is not None
    )


def _of_areas(limits: Limits) -> Limits:
    """Those limits of the picture that an area can have, to begin with."""
    of_areas = dict(limits.items())
    return Limits(**{key: of_areas.get(key) for key in LIMIT_KEYS if key in USUAL_OF_AREAS})


def _answer_row(item: object) -> QWidget:
    assert isinstance(item, list)
    head, *rest = item
    label = quiet("")
    label.setText("\n".join([head[0].upper() + head[1:], *rest]))

    return label


def _row(first: QLabel, last: QWidget) -> QWidget:
    """Words on the left, something to press on the right."""
    row = QWidget()
    line = QHBoxLayout(row)
    line.setContentsMargins(0, 0, 0, 0)
    line.addWidget(first, 1)
    line.addWidget(last)

    return row
