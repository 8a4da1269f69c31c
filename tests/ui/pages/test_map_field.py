"""The field on the map: dots for combinations that were derived and not timed."""

import math
from collections.abc import Iterator

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication, QLabel, QMenu
from pytestqt.qtbot import QtBot

from swift_sample.app.field import Field
from swift_sample.app.pictures import PictureStore
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.study.answers.acceptance import (
    ACCEPTABLE,
    NOT_ACCEPTABLE,
    RANKS,
    UNDECIDED,
    Standing,
)
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.results import Results
from swift_sample.ui.map.page import MapPage
from swift_sample.ui.theme import DAY
from tests.core.study.answers.test_results import THREE, results_of
from tests.ui.fake_session import FakeSession
from tests.ui.seen import button, click

GRAIN = {0.5: 20, 1.0: 40, 2.0: 80}
"""Samples by the limit share that they have."""


def point_of(results: Results, share: float, seconds: float) -> FieldPoint:
    told = Figure(share, 0.9 * share, 1.1 * share)
    standing = Standing(told, told.low, False, False, False)
    return FieldPoint(
        configuration=results.study.base.replace({"samples.max": GRAIN[share]}),
        figures={"grain": Figure(2 * share, 1.8 * share, 2.2 * share)},
        shares={"grain": told},
        share=told,
        standing=standing,
        verdict=standing.verdict(1.0),
        seconds=Figure(seconds, 0.9 * seconds, 1.1 * seconds),
        trial=None,
    )


@pytest.fixture
def results() -> Results:
    return results_of(THREE)


@pytest.fixture
def field(results: Results) -> Field:
    shares = {0.5: 4.0, 1.0: 2.0, 2.0: 1.0}
    return Field(tuple(point_of(results, *one) for one in shares.items()), 12, 3)


@pytest.fixture
def view(qtbot: QtBot) -> Iterator[MapPage]:
    store = PictureStore()
    made = MapPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 600)
    yield made
    store.close()


def shown_menu(view: MapPage) -> dict[str, QAction]:
    menu = view.findChildren(QMenu)[-1]
    actions = {action.text(): action for action in menu.actions()}
    menu.close()
    return actions


def test_verdicts_follow_the_line(field: Field) -> None:
    told = [RANKS[code] for code in field.verdicts(1.0)]
    assert told == [ACCEPTABLE, UNDECIDED, NOT_ACCEPTABLE]
    assert [RANKS[code] for code in field.verdicts(4.0)] == [ACCEPTABLE] * 3
    assert [RANKS[code] for code in field.verdicts(0.25)] == [NOT_ACCEPTABLE] * 3


def test_the_map_has_a_dot_for_each_combination(
    view: MapPage, results: Results, field: Field
) -> None:
    session = FakeSession(results)
    session.attach(view)
    view.show()
    assert not view.grab().isNull()
    assert view.dots == {}

    session.change(field_shown=field)
    places = [(2.0, -1.0), (1.0, 0.0), (0.0, 1.0)]
    assert [tuple(round(v, 6) for v in where) for where in view.dots.values()] == places
    assert all(math.isfinite(v) for where in view.dots.values() for v in where)
    told = [tool.text() for tool in view.tools() if isinstance(tool, QLabel)]
    assert "6 of 12 combinations derived, 3 timed" in told


def test_a_dot_can_be_timed_and_the_rest_derived(
    view: MapPage, results: Results, field: Field
) -> None:
    session = FakeSession(results, field_shown=field)
    session.attach(view)
    view.show()
    view.show_dot_menu(field.points[1], QPoint(5, 5))
    shown_menu(view)["Time it"].trigger()
    assert session.asked[-1] == ("try_changes", ({"samples.max": 40},))

    QApplication.processEvents()
    click(button(view, "Derive the rest"))
    assert session.asked[-1] == ("derive_field", ())


def test_dots_are_walked_by_keys(
    view: MapPage, qtbot: QtBot, results: Results, field: Field
) -> None:
    session = FakeSession(results, field_shown=field)
    session.attach(view)
    view.show()
    qtbot.keyClick(view, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert "about 4.0 s, foreseen, acceptable" in view.accessibleDescription()
    qtbot.keyClick(view, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert "about 2.0 s, foreseen, undecided" in view.accessibleDescription()
    qtbot.keyClick(view, Qt.Key.Key_Return)
    shown_menu(view)["Time it"].trigger()
    assert session.asked[-1] == ("try_changes", ({"samples.max": 40},))
