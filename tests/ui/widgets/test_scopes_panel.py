import numpy as np
from PyQt6.QtCore import QRectF
from pytestqt.qtbot import QtBot

from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.widgets.scopes_panel import Scoped, ScopesPanel, box_of
from tests.ui.pictured import source_of


def scoped(name: str, number: int, level: int) -> Scoped:
    levels = np.full((18, 31, 3), level, np.uint8)
    levels[0] = 255
    return Scoped(name, number, source_of(levels))


def test_parts_lie_where_they_should() -> None:
    source = scoped("1", 0, 30).source
    assert box_of(source, None) == (0, 0, 31, 18)
    assert box_of(source, QRectF(10 / 31, 4 / 18, 8 / 31, 6 / 18)) == (10, 4, 8, 6)
    assert box_of(source, QRectF(0.99, 0.99, 0.001, 0.001))[2:] == (1, 1), "never nothing"


def test_scopes_are_drawn_for_every_picture_and_only_worked_out_when_something_changed(
    qtbot: QtBot,
) -> None:
    panel = ScopesPanel(DAY)
    qtbot.addWidget(panel)
    panel.resize(700, 132)
    panel.show()
    both = [scoped("3", 0, 30), scoped("7", 1, 220)]
    panel.show_pictures(DAY, both, None, 0.5)
    (_, first), (_, second) = panel.shown
    assert first.histogram.argmax() < second.histogram.argmax()
    drawn = panel.grab().toImage()
    seen = {drawn.pixelColor(x, y).name() for x in range(0, 700, 1) for y in range(24, 126, 1)}
    assert {DAY.colour("ink").name(), DAY.colour("pick").name()} <= seen
    panel.show_pictures(DAY, both, None, 0.0)
    assert panel.shown[0][1] is first
    assert [round(float(profile.mean())) for profile in panel.profiles] == [255, 255], (
        "the first row is white"
    )
    panel.show_pictures(DUSK, both[:1], QRectF(0.0, 0.0, 0.5, 0.5), 1.0)
    assert len(panel.shown) == 1
    assert panel.shown[0][1] is not first
    assert len(panel.profiles[0]) == 16
