"""Small widgets that several pages are made of."""

import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QWidget

from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.words import PlainLabel


def quiet(text: str, wrap: bool = True) -> QLabel:
    """Words that explain: small, and in the second colour."""
    label = PlainLabel(text)
    label.setFont(font(SMALL))
    label.setProperty("quiet", True)
    label.setWordWrap(wrap)

    return label


def beside(*widgets: QWidget, spacing: int = 8, stretch: bool = False) -> QWidget:
    """Widgets that stay in one line with each other; `stretch` leaves the room that is over at its
    end."""
    whole = QWidget()
    line = QHBoxLayout(whole)
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(spacing)
    for widget in widgets:
        line.addWidget(widget)

    if stretch:
        line.addStretch(1)

    return whole


def scrolled(inner: QWidget) -> QScrollArea:
    """A page that is as wide as it may be, and scrolls down."""
    scroll = QScrollArea()
    scroll.setObjectName("ledgerScroll")
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    scroll.setWidget(inner)

    return scroll


def dress(plot: pg.PlotWidget, theme: Theme, bottom: str, left: str) -> None:
    """Give a plot the window's colours and type, and name its axes."""
    plot.setBackground(theme.page)
    for side, words in (("bottom", bottom), ("left", left)):
        axis = plot.getAxis(side)
        axis.setPen(pg.mkPen(theme.line))
        axis.setTextPen(pg.mkPen(theme.quiet))
        axis.setStyle(tickFont=font(SMALL), tickLength=0)
        plot.setLabel(side, words, **{"color": theme.quiet, "font-size": f"{SMALL}pt"})
