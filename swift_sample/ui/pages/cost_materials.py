"""What each feature of the scene costs: a card for each that was tried, with the place where it
shows most; then what was not tried yet, by material, object and light."""

from collections.abc import Callable, Mapping

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from swift_sample.app.pictures import PictureStore
from swift_sample.app.requests import Request
from swift_sample.app.toning import Source, to_image
from swift_sample.core.settings import Value
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.features import (
    Group,
    Row,
    audited,
    groups_of,
    rows_of,
    score_words,
    together,
    words_of,
    words_of_all,
)
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.ui.theme import SMALL, font
from swift_sample.ui.widgets.flow import Flow
from swift_sample.ui.widgets.parts import quiet
from swift_sample.ui.widgets.words import PlainLabel

GROUPS_SHOWN = 12
WORST_FIRST = ("light_shift_worst", "detail_kept_worst", "grain_worst")
"""Where a change of a material shows most, the first that is known."""
CROP = QSize(96, 72)


class FeatureList(QWidget):
    """All that is known of the features of one study's scene, as of one moment."""

    def __init__(
        self,
        results: Results,
        snapshot: Snapshot,
        pictures: PictureStore,
        measuring: bool,
        every_group: bool,
        ask: Callable[[Request], None],
    ) -> None:
        super().__init__()
        self._results = results
        self._snapshot = snapshot
        self._pictures = pictures
        self._measuring = measuring
        self._ask = ask
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(8)
        self.more = QPushButton()
        """shows the groups that are folded"""
        self.more.hide()
        if not results.study.catalogue.of_scene:
            self._introduce()
            return

        rows = rows_of(results, snapshot.record)
        self._offer_all(rows)
        idle = [row for row in rows if row.trial is not None and not row.is_measurable]
        self._offer_together(rows)

        for row in rows:
            if row.trial is not None and row not in idle:
                self._column.addWidget(self._tried_card(row))

        if idle:
            named = ", ".join(f"{row.setting.label} {row.setting.show(row.value)}" for row in idle)
            self._column.addWidget(quiet(f"{len(idle)} cost nothing measurable: {named}."))

        told = score_words(rows)
        if told:
            self._column.addWidget(quiet(told + "."))

        self._show_groups(groups_of(rows), every_group)

    def _introduce(self) -> None:
        self._column.addWidget(
            quiet(
                "Features of the scene can be left out one at a time, to see what each costs and "
                "whether it would be missed: "
                "light through glass, coats, bumps, glow, cut-outs, haze, shadows. The scene's "
                "file is never changed."
            )
        )
        self._add_button("See what the scene has", lambda session: session.find_features())

    def _add_button(
        self, words: str, request: Request, name: str = "", tip: str = ""
    ) -> QPushButton:
        button = QPushButton(words)
        button.setAccessibleName(name or words)
        button.setEnabled(not self._measuring)
        button.setToolTip("Pause measuring first" if self._measuring else tip)
        button.clicked.connect(lambda: self._ask(request))
        self._column.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)

        return button

    def _offer_all(self, rows: list[Row]) -> None:
        """One button for every feature that may matter."""
        study = self._results.study
        base = self._results.base
        run = typical_run(base) if base is not None else None
        record = self._snapshot.record(run.number) if run is not None else None
        wanted = audited(study, record).values_to_try()
        known = {(row.setting.key, row.value) for row in rows if row.trial is not None}
        count = sum(
            (s.key, s.cheaper[-1]) not in known for s in study.catalogue.of_parts if s.key in wanted
        )

        if count:
            once = base.seconds.value if base is not None and base.seconds is not None else 0.0
            about = f" (about {show_seconds(once * count * study.repeats)})" if once else ""
            words = f"Try {count} feature{'s' if count > 1 else ''}{about}"
            tip = (
                "Each is left out by itself, measured like any trial; those that can hardly win "
                "anything are not tried"
            )
            self._add_button(words, lambda session: session.audit_features(record), tip=tip)

    def _offer_together(self, rows: list[Row]) -> None:
        everything = together(rows, self._results)
        if everything is not None:
            self._column.addWidget(quiet(words_of_all(everything, self._results)))
            if everything.trial is None:
                changes = dict(everything.changes)
                self._add_button(
                    "Try all of them at once", lambda session: session.try_changes(changes)
                )

    def _tried_card(self, row: Row) -> QWidget:
        """What one feature costs, beside the place where it shows most."""
        assert row.trial is not None
        column = QVBoxLayout()
        line = QHBoxLayout()
        column.addWidget(_title(f"{row.setting.label}: {row.setting.show(row.value)}"))
        column.addWidget(quiet(words_of(row, self._results)))
        line.addLayout(column, 1)
        base = self._results.base

        for trial in (base, row.trial) if base is not None else ():
            crop = self._crop_where_it_shows(trial.id, row.trial)
            if crop is not None:
                picture = PlainLabel()
                picture.setPixmap(crop)
                picture.setToolTip(
                    "the base"
                    if trial is base
                    else f"with {row.setting.label} {row.setting.show(row.value)}"
                )
                line.addWidget(picture)

        return _card(line)

    def _show_groups(self, groups: list[Group], every: bool) -> None:
        """What was not tried yet, the costliest first."""
        shown = groups if every else groups[:GROUPS_SHOWN]
        for group in shown:
            self._column.addWidget(self._group_card(group))

        rest = groups[len(shown) :]
        if rest:
            share = sum(
                group.rows[0].share or 0.0 for group in rest if group.part.kind == "material"
            )
            self.more.setText(f"{len(rest)} more, materials of {share:.0%} of the time")
            self.more.show()
            self._column.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)

    def _group_card(self, group: Group) -> QWidget:
        """The untried features of one material, object or light, each with a button for every
        value."""
        column = QVBoxLayout()
        column.addWidget(_title(group.words))
        by_setting: dict[str, list[Row]] = {}
        for row in group.rows:
            by_setting.setdefault(row.setting.key, []).append(row)

        for rows in by_setting.values():
            column.addLayout(self._choices(rows))

        return _card(column)

    def _choices(self, rows: list[Row]) -> Flow:
        setting = rows[0].setting
        label = setting.label.rpartition(": ")[2]
        line = Flow()
        told = [label] + ([f"at most {rows[0].most:.0%}"] if rows[0].most is not None else [])
        words = quiet(
            ", ".join(told) + (f"; {setting.why_tried}" if setting.why_tried else ""), wrap=False
        )
        words.setToolTip(setting.help)
        line.addWidget(words)

        for row in rows:
            changes: Mapping[str, Value] = {setting.key: row.value}
            button = QPushButton(f"Try {row.setting.show(row.value)}")
            button.setAccessibleName(f"Try {setting.label} {setting.show(row.value)}")
            button.setEnabled(not self._measuring)
            button.setToolTip(
                "Pause measuring first" if self._measuring else "Measures this one trial now"
            )
            button.clicked.connect(
                lambda _, changes=changes: self._ask(lambda session: session.try_changes(changes))
            )
            line.addWidget(button)

        return line

    def _crop_where_it_shows(self, trial_id: str, changed: TrialResult) -> QPixmap | None:
        """A trial's picture at the place where another one is furthest from the reference."""
        places = [
            figure.place
            for key in WORST_FIRST
            if (figure := changed.figures.get(key)) is not None and figure.place
        ]
        path = self._snapshot.picture_of(trial_id)
        layers = self._pictures.get(path) if path is not None and places else None

        if layers is None or layers.problem:
            return None

        x, y, width, height = places[0]
        pixels = Source(layers=layers, view=self._results.study.view).pixels(
            0, max(0, x - width // 2), max(0, y - height // 2), 2 * width, 2 * height
        )
        return QPixmap.fromImage(to_image(pixels).scaled(CROP, Qt.AspectRatioMode.KeepAspectRatio))


def _title(words: str) -> PlainLabel:
    title = PlainLabel(words)
    title.setFont(font(SMALL, bold=True))
    title.setWordWrap(True)
    return title


def _card(inner: QHBoxLayout | QVBoxLayout) -> QFrame:
    card = QFrame()
    card.setObjectName("card")
    outer = QVBoxLayout(card)
    outer.setContentsMargins(10, 8, 10, 8)
    outer.addLayout(inner)

    return card
