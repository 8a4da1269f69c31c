"""What stands there before a study is open: the tool at work on scenes to choose from, one's own,
and recent studies."""

from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QAbstractButton,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from swift_sample.app.recent import Recent
from swift_sample.app.toning import to_image
from swift_sample.ui.strips.verdict import WingSign
from swift_sample.ui.theme import LARGE, NORMAL, SMALL, Theme, font
from swift_sample.ui.widgets.parts import scrolled
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

PICTURES = Path(__file__).parent / "pictures"
DEMOS = (
    (
        "honey-stall",
        "The honey stall",
        "Glass, wax, haze and a lantern at dusk. Comes with a plan: measured in ten minutes.",
    ),
    (
        "honey-room",
        "The honey room",
        "A pantry lit through a small window: late bounces carry the light.",
    ),
    ("honey-jar", "The honey jar", "A product under a bright sky: glass, and a clean background."),
)
WIDEST = 1180
WORDS_HEIGHT = 82
LEAST_CARD_WIDTH = 200
LEAST_CARD_HEIGHT = 234


class Card(QAbstractButton):
    """A picture to click, with a name and a sentence."""

    def __init__(self, theme: Theme, title: str, words: str, picture: QImage | None) -> None:
        super().__init__()
        self._theme = theme
        self._title = title
        self._words = words
        self._picture = picture
        self.setMinimumSize(LEAST_CARD_WIDTH, LEAST_CARD_HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"{title}: {words}")
        self.setText(title)

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(280, LEAST_CARD_HEIGHT)

    def heightForWidth(self, width: int) -> int:
        return round(width * 9 / 16) + WORDS_HEIGHT

    def hasHeightForWidth(self) -> bool:
        return True

    def paintEvent(self, _: QPaintEvent | None) -> None:
        theme = self._theme
        top = self.height() - WORDS_HEIGHT

        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            frame = QRectF(1, 1, self.width() - 2, self.height() - 2)
            painter.setBrush(theme.colour("field"))
            lit = self.hasFocus() or self.underMouse()
            painter.setPen(QPen(theme.colour("ink" if lit else "line"), 2 if lit else 1))
            painter.drawRoundedRect(frame, 4, 4)
            room = QRectF(2, 2, self.width() - 4, top - 2)

            if self._picture is not None and not self._picture.isNull():
                wide = min(
                    self._picture.width(), self._picture.height() * room.width() / room.height()
                )
                high = wide * room.height() / room.width()
                middle = QRectF(
                    (self._picture.width() - wide) / 2,
                    (self._picture.height() - high) / 2,
                    wide,
                    high,
                )
                painter.drawImage(room, self._picture, middle)
            else:
                painter.fillRect(room, theme.colour("panel"))
                painter.setPen(QPen(theme.colour("quiet"), 1.5, Qt.PenStyle.DashLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(room.adjusted(16, 16, -16, -16), 6, 6)
                painter.setFont(font(NORMAL, bold=True))
                painter.setPen(theme.colour("text"))
                painter.drawText(
                    room, Qt.AlignmentFlag.AlignCenter, "Drop a .gltf or .glb\nfile on this window"
                )

            painter.setPen(theme.colour("text"))
            painter.setFont(font(NORMAL, bold=True))
            painter.drawText(
                QRectF(12, top + 6, self.width() - 24, 20),
                Qt.AlignmentFlag.AlignVCenter,
                self._title,
            )
            painter.setFont(font(SMALL))
            painter.setPen(theme.colour("quiet"))
            words = QRectF(12, top + 26, self.width() - 24, WORDS_HEIGHT - 28)
            painter.drawText(words, int(Qt.TextFlag.TextWordWrap), self._words)


class RecentRow(QAbstractButton):
    """A recent study: its picture, its name, and what it found."""

    def __init__(self, theme: Theme, path: Path) -> None:
        super().__init__()
        self._theme = theme
        self._recent = Recent(path, path.stem, "…")
        self._image = QImage()
        self.setFixedHeight(62)
        self.setMinimumWidth(LEAST_CARD_WIDTH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(plain_tip(str(path)))
        self.setText(path.stem)

    def show_recent(self, recent: Recent) -> None:
        self._recent = recent
        self._image = to_image(recent.thumbnail) if recent.thumbnail is not None else QImage()
        self.setAccessibleName(f"{recent.name}: {recent.words}")
        self.setToolTip(plain_tip(f"{recent.words}\n{recent.path}"))
        self.update()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        theme = self._theme
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            if self.hasFocus() or self.underMouse():
                painter.setPen(theme.colour("ink"))
                painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 4, 4)

            room = QRectF(4, 4, 96, 54)
            painter.fillRect(room, theme.colour("surround"))

            if not self._image.isNull():
                factor = min(
                    room.width() / self._image.width(), room.height() / self._image.height()
                )
                wide = self._image.width() * factor
                high = self._image.height() * factor
                middle = room.center()
                painter.drawImage(
                    QRectF(middle.x() - wide / 2, middle.y() - high / 2, wide, high), self._image
                )

            painter.setPen(theme.colour("text"))
            painter.setFont(font(NORMAL, bold=True))
            painter.drawText(
                QRectF(112, 10, self.width() - 116, 20),
                Qt.AlignmentFlag.AlignVCenter,
                self._recent.name,
            )
            painter.setFont(font(SMALL))
            painter.setPen(theme.colour("quiet"))
            words = painter.fontMetrics().elidedText(
                self._recent.words, Qt.TextElideMode.ElideRight, self.width() - 120
            )
            painter.drawText(
                QRectF(112, 31, self.width() - 116, 18), Qt.AlignmentFlag.AlignVCenter, words
            )


class Welcome(QWidget):
    """Start a demo, begin with a scene of one's own, or open a study."""

    demo_wanted = pyqtSignal()
    scene_wanted = pyqtSignal(str)
    new_wanted = pyqtSignal()
    open_wanted = pyqtSignal()
    renderer_wanted = pyqtSignal()
    finished_wanted = pyqtSignal()
    recent_wanted = pyqtSignal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._sign = WingSign(theme, "pick", 48)
        title = PlainLabel("Which settings give the shortest render you would still deliver?")
        title.setFont(font(LARGE - 4, bold=True))
        title.setWordWrap(True)
        text = PlainLabel(
            "Swift Sample renders your scene with many settings, times every render, measures what "
            "each did to the picture, and names the fastest one that keeps your limits."
        )

        text.setFont(font(NORMAL))
        text.setProperty("quiet", True)
        text.setWordWrap(True)
        own = Card(
            theme,
            "Begin with your scene …",
            "See it at once, choose what is good enough, and measure.",
            None,
        )
        self._cards = [own]
        own.clicked.connect(self.new_wanted)

        for name, label, words in DEMOS:
            card = Card(theme, label, words, QImage(str(PICTURES / f"{name}.png")))
            if name == DEMOS[0][0]:
                card.clicked.connect(self.demo_wanted)
            else:
                card.clicked.connect(lambda _, scene=name: self.scene_wanted.emit(scene))

            self._cards.append(card)

        cards = QHBoxLayout()
        cards.setSpacing(12)
        for card in self._cards:
            cards.addWidget(card, 1)

        opened = QPushButton("Open a study …")
        opened.setToolTip("A folder that ends in .study; or drop it on this window")
        opened.clicked.connect(self.open_wanted)
        self._heading = PlainLabel("Recent studies")
        self._heading.setFont(font(NORMAL, bold=True))
        under = QHBoxLayout()
        under.addWidget(self._heading)
        under.addStretch(1)
        other = QPushButton("Use another renderer …")
        finished = QPushButton("Finished renders …")
        other.setToolTip("Any program that renders from a command line")
        other.clicked.connect(self.renderer_wanted)
        finished.setToolTip(
            "Pictures that exist already, with their times; or drop them on this window"
        )
        finished.clicked.connect(self.finished_wanted)
        for button in (other, finished, opened):
            under.addWidget(button)

        self._rows: dict[Path, RecentRow] = {}
        self._recent = QGridLayout()
        self._recent.setSpacing(6)
        head = QHBoxLayout()
        head.setSpacing(16)
        told = QVBoxLayout()
        told.addWidget(title)
        told.addWidget(text)
        head.addWidget(self._sign)
        head.addLayout(told, 1)
        inner = QVBoxLayout()
        inner.setContentsMargins(32, 28, 32, 16)
        inner.setSpacing(18)
        inner.addLayout(head)
        inner.addLayout(cards)
        inner.addLayout(under)
        inner.addLayout(self._recent)
        inner.addStretch(1)
        host = QWidget()
        host.setLayout(inner)
        host.setMaximumWidth(WIDEST)
        middle = QWidget()
        row = QHBoxLayout(middle)
        row.setContentsMargins(0, 0, 0, 0)
        row.addStretch(1)
        row.addWidget(host, 100)
        row.addStretch(1)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(middle))

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._sign.set_look(theme, "pick")
        for card in self._cards:
            card.set_theme(theme)

        for row in self._rows.values():
            row.set_theme(theme)

    def show_recent(self, paths: list[Path]) -> None:
        """List recent studies; `fill` says what is in them."""
        for row in self._rows.values():
            row.hide()
            row.deleteLater()

        self._rows = {}
        self._heading.setVisible(bool(paths))

        for place, path in enumerate(paths):
            row = RecentRow(self._theme, path)
            row.clicked.connect(lambda _, chosen=path: self.recent_wanted.emit(chosen))
            self._recent.addWidget(row, place // 2, place % 2)
            self._rows[path] = row

    def fill(self, recent: Recent) -> None:
        """Say what is in a recent study."""
        if recent.path in self._rows:
            self._rows[recent.path].show_recent(recent)
