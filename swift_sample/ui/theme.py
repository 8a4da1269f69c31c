"""Type, sizes and style of the window; its colours are those of core/colours.py."""

from dataclasses import asdict, dataclass, fields
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PyQt6.QtWidgets import QApplication

from swift_sample.core import colours
from swift_sample.core.colours import Colours

SMALL, NORMAL, LARGE = 9, 10, 20
"""Type sizes in points at 96 dots an inch."""
GRID = 4
"""Spacing is a multiple of this many pixels."""
TOP_HEIGHT, VERDICT_HEIGHT, STRIP_HEIGHT, LEDGER_WIDTH = 44, 84, 88, 316


@dataclass(frozen=True, kw_only=True)
class Theme(Colours):
    """One set of colours for the window."""

    def colour(self, role: str, alpha: int = 255) -> QColor:
        """The colour of a role, alpha from 0 to 255."""
        colour = QColor(getattr(self, role))
        colour.setAlpha(alpha)
        return colour


DAY = Theme(**asdict(colours.DAY))
DUSK = Theme(**asdict(colours.DUSK))


def desktop_theme() -> Theme:
    """Day or dusk, as the desktop has it."""
    hints = QGuiApplication.styleHints()
    dark = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
    return DUSK if dark else DAY


def font(size: int = NORMAL, bold: bool = False) -> QFont:
    """Inter where it is installed, else the system's own, with tabular figures."""
    families = ["Inter"] if "Inter" in QFontDatabase.families() else [QApplication.font().family()]
    made = QFont(families, size)
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    made.setFeature(QFont.Tag("tnum"), 1)

    return made


def apply_theme(application: QApplication, theme: Theme) -> None:
    """Give the whole application this theme."""
    application.setFont(font())
    palette = QPalette()

    for role, name in (
        (QPalette.ColorRole.Window, "page"),
        (QPalette.ColorRole.WindowText, "text"),
        (QPalette.ColorRole.Base, "field"),
        (QPalette.ColorRole.AlternateBase, "panel"),
        (QPalette.ColorRole.Text, "text"),
        (QPalette.ColorRole.Button, "panel"),
        (QPalette.ColorRole.ButtonText, "text"),
        (QPalette.ColorRole.Highlight, "ink"),
        (QPalette.ColorRole.HighlightedText, "page"),
        (QPalette.ColorRole.PlaceholderText, "quiet"),
        (QPalette.ColorRole.ToolTipBase, "field"),
        (QPalette.ColorRole.ToolTipText, "text"),
        (QPalette.ColorRole.Mid, "line"),
        (QPalette.ColorRole.Link, "ink"),
    ):
        palette.setColor(role, theme.colour(name))

    application.setPalette(palette)
    arrow = (Path(__file__).parent / "pictures" / "down.svg").as_posix()
    application.setStyleSheet(
        _STYLE.format(arrow=arrow, **{f.name: getattr(theme, f.name) for f in fields(theme)})
    )


_STYLE = """
QMainWindow, QDialog {{ background: {page}; }}
QToolTip {{ background: {field}; color: {text}; border: 1px solid {line}; padding: 4px; }}
QLabel[quiet="true"] {{ color: {quiet}; }}
QLabel[heading="true"] {{ color: {quiet}; font-weight: 600; }}
#topBar {{ background: {page}; border-bottom: 1px solid {line}; }}
#verdict, #runStrip {{ background: {panel}; }}
#verdict {{ border-bottom: 1px solid {line}; }}
#runStrip {{ border-top: 1px solid {line}; }}
#ledger {{ background: {page}; border-right: 1px solid {line}; }}
#ledgerScroll, #ledgerScroll > QWidget > QWidget {{ background: {page}; border: none; }}
#lookPage {{ background: {surround}; }}
#card {{ background: {field}; border: 1px solid {line}; border-radius: 4px; }}
#tabBar {{ background: {page}; }}
QTableWidget {{ background: {page}; }}
QHeaderView {{ background: {page}; }}
QTableCornerButton::section {{ background: {page}; border: none; border-bottom: 1px solid {line}; }}
QHeaderView::section {{ background: {page}; color: {quiet}; border: none; border-bottom: 1px solid {line};
    padding: 3px 10px 3px 4px; }}
QPushButton {{ color: {ink}; background: transparent; border: 1px solid transparent; border-radius: 4px;
    padding: 4px 8px; font-weight: 600; }}
QPushButton:hover {{ border-color: {line}; }}
QPushButton:focus {{ border-color: {ink}; }}
QPushButton:disabled {{ color: {quiet}; font-weight: 400; }}
QPushButton[main="true"] {{ color: {button_text}; background: {button}; padding: 5px 14px; }}
QPushButton[main="true"]:disabled {{ color: {quiet}; background: {line}; }}
QPushButton[main="true"]:focus {{ border: 2px solid {ink}; }}
QPushButton[tab="true"] {{ color: {quiet}; font-weight: 400; border: none; border-bottom: 2px solid transparent;
    border-radius: 0; padding: 6px 2px; }}
QPushButton[tab="true"]:checked {{ color: {text}; font-weight: 600; border-bottom-color: {text}; }}
QPushButton[goal="true"]:checked {{ border-bottom-color: {ink}; }}
QPushButton[tab="true"]:hover {{ color: {text}; }}
QPushButton[tab="true"]:focus {{ color: {ink}; }}
QPushButton[choice="true"] {{ color: {text}; font-weight: 400; border: 1px solid {line}; padding: 3px 8px; }}
QPushButton[choice="true"]:checked {{ color: {ink}; font-weight: 600; border: 2px solid {ink}; padding: 2px 7px; }}
QPushButton[choice="true"]:focus {{ border-color: {ink}; }}
QToolButton[crop="true"] {{ color: {text}; border: 2px solid transparent; padding: 0; }}
QToolButton[crop="true"]:checked {{ border-color: {acceptable}; font-weight: 600; }}
QToolButton[crop="true"]:hover, QToolButton[crop="true"]:focus {{ border-color: {ink}; }}
QLineEdit[flat="true"] {{ border: 1px solid transparent; border-bottom-color: {line}; border-radius: 0;
    background: transparent; font-weight: 600; padding: 1px 2px; }}
QLineEdit[flat="true"]:focus {{ border-color: {ink}; }}
QComboBox, QLineEdit, QDoubleSpinBox, QSpinBox {{ background: {field}; color: {text}; border: 1px solid {line};
    border-radius: 4px; padding: 3px 6px; selection-background-color: {ink}; selection-color: {page}; }}
QComboBox:focus, QLineEdit:focus, QDoubleSpinBox:focus, QSpinBox:focus {{ border-color: {ink}; }}
QDoubleSpinBox:disabled, QSpinBox:disabled {{ background: {page}; color: {quiet}; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; border: none; }}
QComboBox::drop-down {{ border: none; width: 16px; }}
QComboBox::down-arrow {{ image: url("{arrow}"); width: 9px; height: 6px; }}
QPushButton[group="true"] {{ color: {text}; font-weight: 600; border: none; text-align: left; padding: 4px 0; }}
QPushButton[group="true"]:focus {{ color: {ink}; }}
QComboBox QAbstractItemView {{ background: {field}; color: {text}; border: 1px solid {line};
    selection-background-color: {ink}; selection-color: {page}; }}
QMenu {{ background: {field}; color: {text}; border: 1px solid {line}; padding: 4px; }}
QMenu::item {{ padding: 4px 20px 4px 12px; border-radius: 3px; }}
QMenu::item:selected {{ background: {ink}; color: {page}; }}
QMenu::item:disabled {{ color: {quiet}; }}
QMenu::separator {{ height: 1px; background: {line}; margin: 4px 8px; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {line}; border-radius: 4px; min-height: 24px; margin: 1px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
"""
