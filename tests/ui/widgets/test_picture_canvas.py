"""The canvas of Look: linked zoom and pan in whole steps, the wipe, and pictures that are not there."""

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QImage, QWheelEvent
from pytestqt.qtbot import QtBot

from swift_sample.ui.theme import DAY
from swift_sample.ui.widgets.picture_canvas import GAP, ZOOMS, PictureCanvas, Shown
from tests.ui.test_window import drag

LEFT, RIGHT = QColor(200, 60, 60), QColor(60, 60, 200)


def picture(colour: QColor) -> QImage:
    image = QImage(100, 50, QImage.Format.Format_RGB32)
    image.fill(colour)
    image.setPixelColor(50, 25, QColor(255, 255, 255))
    return image


@pytest.fixture
def canvas(qtbot: QtBot) -> PictureCanvas:
    made = PictureCanvas(DAY)
    qtbot.addWidget(made)
    made.resize(812, 400)
    made.show_pictures([Shown(1, picture(LEFT), ""), Shown(2, picture(RIGHT), "")], wipe=False)
    made.show()
    return made


def test_panes_share_the_room_evenly(canvas: PictureCanvas) -> None:
    left, right = canvas.panes()
    assert left.width() == right.width() == (812 - GAP) / 2
    assert canvas.zoom() == pytest.approx(4.0)
    canvas.show_pictures([Shown(k, picture(LEFT), "") for k in range(4)], wipe=False)
    assert len({(pane.x(), pane.y()) for pane in canvas.panes()}) == 4
    grabbed = canvas.grab().toImage()
    assert grabbed.pixelColor(200, 100) in (LEFT, QColor(255, 255, 255))


def test_zoom_goes_in_whole_steps_about_the_pointer(canvas: PictureCanvas) -> None:
    at = QPointF(100, 200)

    def point() -> QPointF:
        target = canvas._target(canvas.panes()[0], canvas._image())
        return QPointF((at.x() - target.x()) / canvas.zoom(), (at.y() - target.y()) / canvas.zoom())

    before = point()
    event = QWheelEvent(
        at,
        canvas.mapToGlobal(at),
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    canvas.wheelEvent(event)
    assert canvas.zoom() == 6.0
    assert point().x() == pytest.approx(before.x(), abs=0.2)
    assert point().y() == pytest.approx(before.y(), abs=0.2)
    for _ in range(30):
        canvas.zoom_by_step(True)
    assert canvas.zoom() == ZOOMS[-1]
    for _ in range(30):
        canvas.zoom_by_step(False)
    assert canvas.zoom() == ZOOMS[0]
    canvas.fit()
    assert canvas.zoom() == pytest.approx(4.0)


def test_both_pictures_move_together_and_never_get_lost(canvas: PictureCanvas, qtbot: QtBot) -> None:
    canvas.zoom_by_step(True)
    drag(qtbot, canvas, QPoint(200, 200), QPoint(140, 230))
    centre = canvas.viewport.centre
    assert (centre.x(), centre.y()) == (pytest.approx(60, abs=1), pytest.approx(20, abs=1))
    targets = [canvas._target(pane, canvas._image()) for pane in canvas.panes()]
    assert targets[1].x() - targets[0].x() == pytest.approx(canvas.panes()[1].x() - canvas.panes()[0].x(), abs=1)
    canvas._move_by(QPointF(5000, 5000))
    assert canvas.viewport.centre == QPointF(0, 0), "the corner stays in the middle at worst"


def test_the_wipe_shows_each_on_its_side_of_the_edge(canvas: PictureCanvas, qtbot: QtBot) -> None:
    canvas.show_pictures([Shown(1, picture(LEFT), ""), Shown(2, picture(RIGHT), "")], wipe=True)
    assert len(canvas.panes()) == 1
    grabbed = canvas.grab().toImage()
    assert grabbed.pixelColor(300, 100) == LEFT
    assert grabbed.pixelColor(500, 100) == RIGHT
    drag(qtbot, canvas, QPoint(406, 200), QPoint(606, 200))
    assert canvas.wipe_share == pytest.approx(606 / 812, abs=0.02)
    assert canvas.grab().toImage().pixelColor(500, 100) == LEFT
    drag(qtbot, canvas, QPoint(int(canvas._wipe_edge()), 200), QPoint(811, 200))
    assert canvas.wipe_share == 0.98


def test_a_missing_picture_says_why_and_one_alone_has_no_wipe(canvas: PictureCanvas) -> None:
    canvas.show_pictures([Shown(1, None, "This is not rendered yet: Measure makes it.")], wipe=True)
    grabbed = canvas.grab().toImage()
    assert len({grabbed.pixelColor(x, y).name() for x in range(0, 812, 2) for y in range(180, 220, 2)}) > 1
    assert canvas.zoom() == 1.0
    canvas.zoom_by_step(True)
    assert canvas.viewport.zoom is None
