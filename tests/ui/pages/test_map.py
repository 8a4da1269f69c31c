"""The map: marks where the figures put them, labels that do not cover one another, the line by
keys, the card."""

import math
from dataclasses import replace

import pytest
from PyQt6.QtCore import QPoint, QRectF, Qt
from PyQt6.QtWidgets import QMenu
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import PictureStore
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.study.answers.acceptance import UNMEASURED
from swift_sample.core.study.plan.model import Remark
from swift_sample.core.study.search.search import Advice, Outlook
from swift_sample.ui.map.page import MapPage
from swift_sample.ui.theme import DAY, DUSK
from tests.core.study.answers.test_results import BASE, results_of
from tests.ui.fake_session import FakeSession

TRIALS = {
    100: (10.0, (1.0, 0.9, 1.1)),
    50: (5.0, (1.6, 1.5, 1.7)),
    20: (2.0, (2.6, 2.5, 2.7)),
    90: (9.0, (1.95, 1.8, 2.1)),
}


@pytest.fixture
def map_view(qtbot: QtBot):
    store = PictureStore()
    made = MapPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 560)
    made.show()
    yield made
    store.close()


def shown(map_view: MapPage, session: FakeSession) -> None:
    session.attach(map_view)


def test_marks_stand_at_time_and_limit_share(map_view: MapPage) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    names = {t.configuration["samples.max"]: t.id for t in session.model.results.trials}
    base, half, few = (map_view.place_of(names[samples]) for samples in (100, 50, 20))
    assert few.x() < half.x() < base.x()
    assert few.y() < half.y() < base.y(), "more error stands higher, so nearer the top"
    # Logarithmic: 10 to 5 seconds is as far as any other halving.
    view = map_view._view.viewRange()
    doubling = map_view._plot.getViewBox().width() / (view[0][1] - view[0][0])
    assert base.x() - half.x() == pytest.approx(doubling, rel=0.02)
    assert map_view.place_of("none such") is None


def test_roles_of_marks_never_rest_on_colour_alone(map_view: MapPage) -> None:
    shown(map_view, FakeSession(results_of(TRIALS)))
    looks = map_view._marks.looks.values()
    assert {look.shape for look in looks} == {"wing", "full square", "ring", "half disc"}
    assert len({look.colour for look in looks}) == 4


def test_the_line_moves_by_keys_and_the_pick_follows(map_view: MapPage, qtbot: QtBot) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    first = session.model.pick().trial.configuration["samples.max"]
    for _ in range(20):
        qtbot.keyClick(map_view, Qt.Key.Key_PageUp)

    assert session.model.line == pytest.approx(1.02**20)
    assert session.model.pick().trial.configuration["samples.max"] < first
    qtbot.keyClick(map_view, Qt.Key.Key_Home)
    assert session.model.line == 1.0
    for _ in range(3):
        qtbot.keyClick(map_view, Qt.Key.Key_PageDown)

    assert session.model.line == pytest.approx(1.02**-3)
    map_view.refresh()
    assert 2.0 ** map_view.acceptance_line.value() == pytest.approx(session.model.line)


def test_labels_of_a_trail_do_not_cover_one_another(map_view: MapPage) -> None:
    crowded = {
        100: (10.0, (1.0, 0.9, 1.1)),
        90: (9.2, (1.02, 0.9, 1.1)),
        80: (8.5, (1.04, 0.9, 1.1)),
        20: (2.0, (2.6, 2.5, 2.7)),
    }
    shown(map_view, FakeSession(results_of(crowded), selected_setting="samples.max"))
    rects = []

    for label, anchors in map_view._labels:
        assert (label.anchor.x(), label.anchor.y()) in anchors
        at = map_view._view.mapViewToScene(label.pos())
        size = label.boundingRect().size()

        rects.append(
            QRectF(
                at.x() - label.anchor.x() * size.width(),
                at.y() - label.anchor.y() * size.height(),
                size.width(),
                size.height(),
            )
        )

    texts = sorted(label.toPlainText() for label, _ in map_view._labels)
    assert texts == ["20", "8.5 s · 80", "90", "base · 100"], (
        "one label a mark: pick and base tell their values too"
    )
    assert not any(a.intersects(b) for k, a in enumerate(rects) for b in rects[k + 1 :])


def test_the_card_tells_what_is_known(map_view: MapPage) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    map_view._hovered = next(
        t.id for t in session.model.results.trials if t.configuration["samples.max"] == 20
    )
    map_view._show_card()
    card = map_view._card
    assert card.isVisible()
    assert card._title.text().startswith("2.0 s ± ")
    words = card._text.text()
    for expected in (
        "20 samples",
        "5.0× faster than base",
        "grain 2.6 of 2.0 levels",
        "sampling 2.0 s",
        "not acceptable",
    ):
        assert expected in words

    assert DAY.over in words, "what is over its limit is coloured"
    assert card.geometry().right() <= map_view.width()
    map_view._hovered = None
    map_view._show_card()
    assert not card.isVisible()


def test_the_floor_and_an_empty_map(map_view: MapPage) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    assert map_view._floor.isVisible()
    assert map_view._floor.value() == pytest.approx(math.log2(0.5 / 2.0))
    map_view.set_theme(DUSK)
    assert map_view._floor.label.color == DUSK.colour("quiet")
    assert not map_view._hint.isVisible()
    bare = results_of(TRIALS)
    nothing = tuple(replace(t, seconds=None, share=None, verdict=UNMEASURED) for t in bare.trials)
    shown(map_view, FakeSession(replace(bare, trials=nothing)))
    assert map_view._hint.isVisible()
    assert "Find the fastest begins" in map_view._hint.text()
    map_view.show_view(None)
    assert map_view._marks.looks == {}


def test_hovered_chips_dim_the_others(map_view: MapPage) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    lit = session.model.results.trials[1].id
    session.change(lit=frozenset({lit}))
    alphas = {name: look.alpha for name, look in map_view._marks.looks.items()}
    assert alphas.pop(lit) == 255
    assert set(alphas.values()) == {60}
    session.change(lit=frozenset())
    assert {look.alpha for look in map_view._marks.looks.values()} == {255}


def test_predictions_are_dotted_outlines_and_say_so(map_view: MapPage) -> None:
    results = results_of(TRIALS)
    new = BASE.replace({"samples.max": 60})
    known = BASE.replace({"samples.max": 50})
    outlooks = tuple(
        Outlook(c, Figure(4.0, 3.0, 5.0), Figure(0.9, 0.7, 1.2), 0.4) for c in (new, known)
    )
    session = FakeSession(results, advice=Advice(new, "because", outlooks))
    shown(map_view, session)
    points = map_view._predictions.points()
    assert [p.data().configuration for p in points] == [new], (
        "what is measured is not predicted any more"
    )
    assert points[0].pen().style() == Qt.PenStyle.DotLine
    assert points[0].brush().style() == Qt.BrushStyle.NoBrush
    place = map_view._view.mapViewToScene(points[0].pos())
    map_view._on_mouse_moved(place)
    words = map_view._card._title.text() + map_view._card._text.text()
    assert words.startswith("expected, not measured60 samples")
    assert "about 4.0 s, from 3 to 5.0 s" in words
    assert "40% chance to beat the pick" in words
    session.change(advice=None)
    assert len(map_view._predictions.points()) == 0


def test_another_figure_stands_on_either_axis(map_view: MapPage, qtbot: QtBot) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    map_view.show_axis(1, "grain")
    trial = next(t for t in session.model.results.trials if t.configuration["samples.max"] == 20)
    assert 2.0 ** map_view._marks.place_of(trial.id).y() == pytest.approx(2.6)
    assert 2.0 ** map_view.acceptance_line.value() == pytest.approx(2.0), (
        "the line is the limit of what is shown"
    )
    assert not map_view.acceptance_line.movable
    qtbot.keyClick(map_view, Qt.Key.Key_PageUp)
    assert session.model.line == 1.0
    map_view.show_axis(0, "memory")
    assert 2.0 ** map_view._marks.place_of(trial.id).x() == pytest.approx(2.0**-7), (
        "a byte is as little as is drawn"
    )
    assert map_view.kept_state() == {"across": "memory", "up": "grain"}
    map_view.show_axis(0, "none such")
    map_view.show_axis(1, "share")
    assert 2.0 ** map_view._marks.place_of(trial.id).x() == pytest.approx(2.0)


def test_keys_walk_the_marks_and_everything_can_be_framed_again(
    map_view: MapPage, qtbot: QtBot
) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    names = {t.id: t.configuration["samples.max"] for t in session.model.results.trials}
    qtbot.keyClick(map_view, Qt.Key.Key_Left)
    assert names[map_view._current] == 50, "it begins at the pick"
    qtbot.keyClick(map_view, Qt.Key.Key_Left)
    assert names[map_view._current] == 20
    qtbot.keyClick(map_view, Qt.Key.Key_Left)
    assert names[map_view._current] == 20, "nothing stands further left"
    assert "2.0 s, not acceptable" in map_view.accessibleDescription()
    for _ in range(3):
        qtbot.keyClick(map_view, Qt.Key.Key_Right)

    assert names[map_view._current] == 100
    qtbot.keyClick(map_view, Qt.Key.Key_Space)
    assert session.asked[-1] == ("toggle_selected", (map_view._current,))
    before = map_view._view.viewRange()
    map_view._view.scaleBy((0.01, 0.01))
    map_view._view.translateBy((50, 0))
    qtbot.keyClick(map_view, Qt.Key.Key_F)
    assert map_view._view.viewRange() == before


def test_a_mark_is_named_left_out_and_rendered_again(map_view: MapPage, qtbot: QtBot) -> None:
    session = FakeSession(results_of(TRIALS))
    shown(map_view, session)
    trial = next(t for t in session.model.results.trials if t.configuration["samples.max"] == 20)
    dialog = map_view.ask_remark(trial.id, leave_out=True)
    dialog.name.setText("for dailies")
    dialog.left_out.setText("sparks at the rim")
    dialog.accept()
    assert session.asked[-1] == (
        "remark",
        (trial.id, Remark("for dailies", "", "sparks at the rim")),
    )
    map_view.show_menu(trial.id, QPoint(0, 0))
    menu = map_view.findChild(QMenu)
    actions = {action.text(): action for action in menu.actions()}
    assert actions["Render it once more"].isEnabled()
    actions["Render it once more"].trigger()
    assert session.asked[-1] == ("run_again", (trial.id,))
    menu.close()


def test_a_named_trial_has_its_name_on_the_map_and_one_left_out_is_faint(map_view: MapPage) -> None:
    results = results_of(TRIALS)
    trials = tuple(
        replace(t, remark=Remark("for dailies", "", "why"))
        if t.configuration["samples.max"] == 20
        else t
        for t in results.trials
    )

    study = replace(results.study, remarks={"some": Remark("x")})
    shown(map_view, FakeSession(replace(results, trials=trials, study=study)))
    assert any(label.toPlainText() == "for dailies" for label, _ in map_view._labels)
    looks = map_view._marks.looks
    assert [looks[t.id].alpha for t in trials if t.remark.left_out] == [60]
