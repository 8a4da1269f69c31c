"""The canvas of Look: linked zoom and pan in whole steps, the wipe, and pictures that are not
there."""

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor, QWheelEvent
from pytestqt.qtbot import QtBot

from swift_sample.core.study.plan.model import WatchArea
from swift_sample.ui.theme import DAY
from swift_sample.ui.widgets.picture_canvas import GAP, ZOOMS, PictureCanvas, Shown, moved
from tests.ui.pictured import plain
from tests.ui.test_window import drag

LEFT = QColor(200, 60, 60)
RIGHT = QColor(60, 60, 200)


def picture(colour: QColor):
    return plain((colour.red(), colour.green(), colour.blue()))


def near(one: QColor, other: QColor) -> bool:
    """Light is kept as half floats: to a level."""
    return (
        max(
            abs(one.red() - other.red()),
            abs(one.green() - other.green()),
            abs(one.blue() - other.blue()),
        )
        <= 1
    )


@pytest.fixture
def canvas(qtbot: QtBot) -> PictureCanvas:
    made = PictureCanvas(DAY)
    qtbot.addWidget(made)
    made.resize(812, 400)
    made.show_pictures([Shown("1", picture(LEFT), ""), Shown("2", picture(RIGHT), "")], wipe=False)
    made.show()

    return made


def test_panes_share_the_room_evenly(canvas: PictureCanvas) -> None:
    left, right = canvas.panes()
    assert left.width() == right.width() == (812 - GAP) / 2
    assert canvas.zoom() == pytest.approx(4.0)
    canvas.show_pictures([Shown(str(k), picture(LEFT), "") for k in range(4)], wipe=False)
    assert len({(pane.x(), pane.y()) for pane in canvas.panes()}) == 4
    grabbed = canvas.grab().toImage()
    assert near(grabbed.pixelColor(100, 100), LEFT)


def test_zoom_goes_in_whole_steps_about_the_pointer(canvas: PictureCanvas) -> None:
    at = QPointF(100, 200)

    def point() -> QPointF:
        target = canvas._target(canvas.panes()[0], (100, 50))
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


def test_both_pictures_move_together_and_never_get_lost(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.zoom_by_step(True)
    drag(qtbot, canvas, QPoint(200, 200), QPoint(140, 230))
    centre = canvas.viewport.centre
    assert (centre.x(), centre.y()) == (pytest.approx(60, abs=1), pytest.approx(20, abs=1))
    targets = [canvas._target(pane, (100, 50)) for pane in canvas.panes()]
    assert targets[1].x() - targets[0].x() == pytest.approx(
        canvas.panes()[1].x() - canvas.panes()[0].x(), abs=1
    )
    canvas._move_by(QPointF(5000, 5000))
    assert canvas.viewport.centre == QPointF(0, 0), "the corner stays in the middle at worst"


def test_the_wipe_shows_each_on_its_side_of_the_edge(canvas: PictureCanvas, qtbot: QtBot) -> None:
    canvas.show_pictures([Shown("1", picture(LEFT), ""), Shown("2", picture(RIGHT), "")], wipe=True)
    assert len(canvas.panes()) == 1
    grabbed = canvas.grab().toImage()
    assert near(grabbed.pixelColor(300, 100), LEFT)
    assert near(grabbed.pixelColor(500, 100), RIGHT)
    drag(qtbot, canvas, QPoint(406, 200), QPoint(606, 200))
    assert canvas.wipe_share == pytest.approx(606 / 812, abs=0.02)
    assert near(canvas.grab().toImage().pixelColor(500, 100), LEFT)
    drag(qtbot, canvas, QPoint(int(canvas._wipe_edge()), 200), QPoint(811, 200))
    assert canvas.wipe_share == 0.98


def test_a_missing_picture_says_why_and_one_alone_has_no_wipe(canvas: PictureCanvas) -> None:
    canvas.show_pictures(
        [Shown("1", None, "This is not rendered yet: Measure makes it.")], wipe=True
    )
    grabbed = canvas.grab().toImage()
    assert (
        len({grabbed.pixelColor(x, y).name() for x in range(0, 812, 2) for y in range(180, 220, 2)})
        > 1
    )
    assert canvas.zoom() == 1.0
    canvas.zoom_by_step(True)
    assert canvas.viewport.zoom is None


def test_four_stand_where_they_are_largest(canvas: PictureCanvas) -> None:
    four = [Shown(str(k), picture(LEFT), "") for k in range(4)]
    canvas.show_pictures(four, wipe=False)
    assert len({cell.y() for cell in canvas.cells()}) == 2, (
        "wide pictures in two rows of a square room"
    )
    canvas.resize(1600, 200)
    assert len({cell.y() for cell in canvas.cells()}) == 1, "and in one where that is wide"


def test_heads_and_feet_keep_their_room(canvas: PictureCanvas) -> None:
    canvas.head = 30
    canvas.foot = 20
    (cell, _), (pane, _) = canvas.cells(), canvas.panes()
    assert (pane.top() - cell.top(), cell.bottom() - pane.bottom()) == (30, 20)


@pytest.mark.parametrize(
    ("grabbed", "expected"),
    [
        ("move", (15, 6, 20, 10)),
        ("nw", (15, 6, 15, 14)),
        ("se", (10, 10, 25, 6)),
        ("e", (10, 10, 25, 10)),
        ("n", (10, 6, 20, 14)),
    ],
)
def test_an_area_is_moved_and_resized_by_its_handles(
    grabbed: str, expected: tuple[int, int, int, int]
) -> None:
    area = moved(WatchArea(name="jar", x=10, y=10, width=20, height=10), grabbed, 5, -4, (100, 50))
    assert (area.x, area.y, area.width, area.height) == expected
    far = moved(
        WatchArea(name="jar", x=10, y=10, width=20, height=10), grabbed, 500, 500, (100, 50)
    )
    assert 0 <= far.x <= far.x + far.width <= 100
    assert 0 <= far.y <= far.y + far.height <= 50
    assert min(far.width, far.height) >= 4


def test_a_chosen_area_follows_the_hand_and_ctrl_copies_it(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.show_areas((WatchArea(name="jar", x=40, y=10, width=20, height=20),), (100, 50), "jar")
    pane = canvas.panes()[0]
    target = canvas._target(pane, (100, 50))
    inside = QPoint(int(target.x() + 50 * 4), int(target.y() + 20 * 4))
    with qtbot.waitSignal(canvas.area_changed) as changed:
        drag(qtbot, canvas, inside, inside + QPoint(40, 20))

    assert changed.args == ["jar", 50, 15, 20, 20, False]
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=inside)
    qtbot.mouseMove(canvas, inside + QPoint(20, 0))
    with qtbot.waitSignal(canvas.area_changed) as changed:
        qtbot.mouseRelease(
            canvas,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.ControlModifier,
            inside + QPoint(20, 0),
        )

    assert changed.args == ["jar", 45, 10, 20, 20, True]


def test_the_row_is_dragged_and_the_brush_paints_in_pixels_of_the_picture(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.row = 0.5
    target = canvas._target(canvas.panes()[0], (100, 50))
    line = QPoint(int(target.x() + 200), int(target.y() + 100))
    rows: list[float] = []
    canvas.row_moved.connect(rows.append)
    drag(qtbot, canvas, line, line + QPoint(0, 40))
    assert rows[-1] == pytest.approx(0.7, abs=0.02)
    canvas.row = None
    canvas.brush = 8.0
    strokes: list = []
    canvas.painted.connect(lambda start, end, first: strokes.append((start, end, first)))
    drag(qtbot, canvas, line, line + QPoint(40, 0))
    assert [first for _, _, first in strokes][:2] == [True, False]
    assert strokes[0][0].x() == pytest.approx(50, abs=0.3)
    assert strokes[-1][1].x() == pytest.approx(60, abs=0.5)


def test_the_loupe_shows_the_same_place_of_every_picture(
    canvas: PictureCanvas, qtbot: QtBot
) -> None:
    canvas.loupe = True
    target = canvas._target(canvas.panes()[0], (100, 50))
    qtbot.mouseMove(canvas, QPoint(int(target.x() + 202), int(target.y() + 102)))
    qtbot.wait(20)
    grabbed = canvas.grab().toImage()

    for pane in canvas.panes():
        box = [
            grabbed.pixelColor(x, y)
            for x in range(int(pane.left()) + 10, int(pane.right()) - 10, 3)
            for y in range(int(pane.bottom()) - 156, int(pane.bottom()) - 12, 3)
        ]
        assert sum(near(colour, QColor(255, 255, 255)) for colour in box) >= 4, (
            "a white pixel is eight pixels wide"
        )
