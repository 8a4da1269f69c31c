import numpy as np
from pytestqt.qtbot import QtBot

from swift_sample.app.pictures import to_image
from swift_sample.ui.theme import DAY, DUSK
from swift_sample.ui.widgets.scopes_panel import ScopesPanel, pixels_of


def image(level: int, width: int = 31) -> object:
    return to_image(np.full((18, width, 3), level, np.uint8))


def test_pixels_come_out_as_they_went_in_and_parts_lie_where_they_should() -> None:
    pixels = np.arange(18 * 31 * 3, dtype=np.uint32).astype(np.uint8).reshape(18, 31, 3)
    picture = to_image(pixels)
    assert np.array_equal(pixels_of(picture, None), pixels)
    assert np.array_equal(pixels_of(picture, (10 / 31, 4 / 18, 8 / 31, 6 / 18)), pixels[4:10, 10:18])
    assert pixels_of(picture, (0.99, 0.99, 0.001, 0.001)).shape == (1, 1, 3), "never nothing"


def test_scopes_are_drawn_for_every_picture_and_only_worked_out_when_something_changed(qtbot: QtBot) -> None:
    panel = ScopesPanel(DAY)
    qtbot.addWidget(panel)
    panel.resize(700, 132)
    panel.show()
    dark, bright = image(30), image(220)
    panel.show_pictures(DAY, [("3", dark), ("7", bright)], None)
    (_, first), (_, second) = panel.shown
    assert first.histogram.argmax() < second.histogram.argmax()
    drawn = panel.grab().toImage()
    seen = {drawn.pixelColor(x, y).name() for x in range(0, 700, 1) for y in range(24, 126, 1)}
    assert {DAY.colour("ink").name(), DAY.colour("pick").name()} <= seen
    panel.show_pictures(DAY, [("3", dark), ("7", bright)], None)
    assert panel.shown[0][1] is first
    panel.show_pictures(DUSK, [("3", dark)], (0.0, 0.0, 0.5, 0.5))
    assert len(panel.shown) == 1
    assert panel.shown[0][1] is not first
