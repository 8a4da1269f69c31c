"""The knobs in Look: turned by pointer and keys, with what the settings take beside them."""

from collections.abc import Iterator

import pytest
from PyQt6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from swift_sample.app.any_settings import ANY_SETTINGS, AnySettings, Bar, Knob
from swift_sample.app.field import Field
from swift_sample.app.pictures import PictureStore
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.ui.look.knobs import KnobsBar, SettingKnob
from swift_sample.ui.look.page import LookPage
from swift_sample.ui.theme import DAY
from tests.core.study.answers.test_results import THREE, results_of
from tests.ui.fake_session import FakeSession
from tests.ui.seen import button, click, texts

KNOB = Knob(
    "samples.max",
    "samples",
    (
        Bar(8, "8", Figure(1.0, 0.9, 1.1), NOT_ACCEPTABLE),
        Bar(16, "16", Figure(2.0, 1.8, 2.2), ACCEPTABLE),
        Bar(32, "32", Figure(4.0, 3.6, 4.4), ACCEPTABLE),
    ),
    1,
)


@pytest.fixture
def knob(qtbot: QtBot) -> SettingKnob:
    made = SettingKnob(DAY)
    qtbot.addWidget(made)
    made.resize(120, made.height())
    made.show_knob(KNOB, 4.0, DAY)
    made.show()
    return made


def test_a_knob_is_turned_by_pointer_and_keys(knob: SettingKnob, qtbot: QtBot) -> None:
    turned = []
    knob.turned.connect(lambda key, value: turned.append((key, value)))
    qtbot.mouseClick(knob, Qt.MouseButton.LeftButton, pos=QPoint(int(knob.place_of(2)), 50))
    qtbot.mouseClick(knob, Qt.MouseButton.LeftButton, pos=QPoint(int(knob.place_of(1)) + 3, 50))
    qtbot.keyClick(knob, Qt.Key.Key_Left)
    qtbot.keyClick(knob, Qt.Key.Key_Right)
    assert turned == [("samples.max", 32), ("samples.max", 8), ("samples.max", 32)]
    assert knob.accessibleName() == "samples: 16"
    assert knob.accessibleDescription() == "16: about 2.0 s, acceptable"


def test_bars_are_as_tall_as_the_time_and_say_the_verdict_by_their_filling(
    knob: SettingKnob,
) -> None:
    image = knob.grab().toImage()
    ratio = image.width() / knob.width()

    def painted(number: int, row: int) -> bool:
        colour = image.pixelColor(int(knob.place_of(number) * ratio), int(row * ratio))
        return colour.name() == DAY.colour("acceptable").name()

    assert painted(1, 60)
    assert painted(2, 60)
    assert painted(2, 44)
    assert not painted(1, 44), "half the time, half as tall"
    assert not painted(0, 61), "open where it would not do"


@pytest.fixture
def look(qtbot: QtBot) -> Iterator[LookPage]:
    store = PictureStore()
    made = LookPage(DAY, store)
    qtbot.addWidget(made)
    made.resize(900, 640)
    made.show()
    yield made
    made.finish()
    store.close()


def test_look_shows_knobs_beside_what_is_compared(look: LookPage) -> None:
    results = results_of(THREE)
    base = results.study.base
    settings = AnySettings(base.replace({"samples.max": 60}))
    field = Field((), 3, 3, {}, lambda configuration: Figure(2.5, 2.3, 2.8))
    session = FakeSession(results, field_shown=field)
    session.attach(look)
    bar = look.findChild(KnobsBar)
    assert not bar.isVisible()

    session.change(any_settings=settings, selected=(ANY_SETTINGS,))
    assert look.trial_ids[0] == ANY_SETTINGS
    assert bar.isVisible()
    assert "about 2.5 s (2.3 to 2.8 s), 4.0× faster than base, foreseen" in texts(look)

    click(button(look, "Time it"))
    assert session.asked[-1] == ("try_changes", ({"samples.max": 60},))
    click(button(look, "Make it the base"))
    name, (edit,) = session.asked[-1]
    assert name == "edit"
    assert edit.change(results.study).base == settings.configuration
