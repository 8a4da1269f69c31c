"""Small widgets that several pages are made of."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QLabel, QScrollArea, QWidget

from swift_sample.ui.theme import SMALL, font


def quiet(text: str, wrap: bool = True) -> QLabel:
    """Words that explain: small, and in the second colour."""
    label = QLabel(text)
    label.setFont(font(SMALL))
    label.setProperty("quiet", True)
    label.setWordWrap(wrap)
    return label


def scrolled(inner: QWidget) -> QScrollArea:
    """A page that is as wide as it may be, and scrolls down."""
    scroll = QScrollArea()
    scroll.setObjectName("ledgerScroll")
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    scroll.setWidget(inner)
    return scroll
