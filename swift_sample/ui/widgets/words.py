"""Labels and tooltips that show words as they are. Qt takes what looks like a tag for one, and
words may be anybody's."""

from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget


class PlainLabel(QLabel):
    """A label that marks nothing up."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setTextFormat(Qt.TextFormat.PlainText)


def plain_tip(text: str) -> str:
    """A text for `setToolTip`, which marks up whatever looks like it."""
    return f"<p style='white-space: pre-wrap'>{escape(text)}</p>" if "<" in text else text
