"""The marks of the map, drawn as outlines one unit wide: what tells trials apart besides colour.

Acceptable is a full disc, not acceptable a ring, undecided half full, the base a square, the pick a
swept wing, and predictions are dotted outlines.
"""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QTransform

from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.ui.theme import Theme

_RIM = 0.14
"""Thickness of rings, as a share of the mark's width."""


def wing() -> QPainterPath:
    """The application's sign: a swift's wing, about one unit wide around the origin."""
    path = QPainterPath(QPointF(-0.62, 0.22))
    path.cubicTo(QPointF(-0.34, -0.20), QPointF(0.06, -0.36), QPointF(0.64, -0.38))
    path.cubicTo(QPointF(0.40, -0.22), QPointF(0.26, 0.02), QPointF(0.10, 0.36))
    path.cubicTo(QPointF(0.05, 0.14), QPointF(-0.05, 0.05), QPointF(-0.20, 0.05))
    path.cubicTo(QPointF(-0.36, 0.05), QPointF(-0.48, 0.12), QPointF(-0.62, 0.22))
    path.closeSubpath()

    return path


def disc() -> QPainterPath:
    path = QPainterPath()
    path.addEllipse(QPointF(0, 0), 0.5, 0.5)
    return path


def circle_rim() -> QPainterPath:
    path = disc()
    path.addEllipse(QPointF(0, 0), 0.5 - _RIM, 0.5 - _RIM)
    path.setFillRule(Qt.FillRule.OddEvenFill)
    return path


def half_disc() -> QPainterPath:
    half = QPainterPath()
    half.moveTo(0, -0.5)
    half.arcTo(QRectF(-0.5, -0.5, 1, 1), 90, 180)
    half.closeSubpath()

    return circle_rim().united(half)


def square(full: bool) -> QPainterPath:
    path = QPainterPath()
    path.addRect(QRectF(-0.46, -0.46, 0.92, 0.92))

    if not full:
        reach = 0.46 - _RIM
        path.addRect(QRectF(-reach, -reach, 2 * reach, 2 * reach))
        path.setFillRule(Qt.FillRule.OddEvenFill)

    return path


OUTLINES = {
    "wing": wing(),
    "full square": square(True),
    "open square": square(False),
    "disc": disc(),
    "ring": circle_rim(),
    "half disc": half_disc(),
}
"""Every mark by the name of its shape."""


def shape_of(verdict: str, is_base: bool) -> str:
    """The shape of a trial that is not the pick."""
    if is_base:
        return "open square" if verdict == NOT_ACCEPTABLE else "full square"
    return {ACCEPTABLE: "disc", NOT_ACCEPTABLE: "ring"}.get(verdict, "half disc")


def mark_of(verdict: str, is_base: bool) -> QPainterPath:
    """The mark of a trial that is not the pick."""
    return OUTLINES[shape_of(verdict, is_base)]


def mark_role(verdict: str, is_base: bool) -> str:
    """The colour role of a mark."""
    if is_base:
        return "ink"

    if verdict == NOT_ACCEPTABLE:
        return "over"
    if verdict == ACCEPTABLE:
        return "acceptable"

    return "quiet"


def paint_mark(
    painter: QPainter, path: QPainterPath, centre: QPointF, size: float, theme: Theme, role: str
) -> None:
    """Draw a mark outside the map."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour(role))
    painter.drawPath(QTransform().translate(centre.x(), centre.y()).scale(size, size).map(path))
    painter.restore()
