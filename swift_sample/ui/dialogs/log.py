"""The study's log: what was decided while measuring, why, and what happened."""

from datetime import datetime

from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from swift_sample.ui.theme import SMALL, font
from swift_sample.ui.widgets.words import PlainLabel, plain_tip

COLUMNS = ("when", "what", "why, or what came of it")


class LogDialog(QDialog):
    """A table, the latest on top."""

    def __init__(self, events: list[tuple[str, str, str]], parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Log: what was decided, and why")
        self.resize(860, 520)
        table = QTableWidget(len(events), len(COLUMNS))
        table.setHorizontalHeaderLabels(COLUMNS)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setWordWrap(False)
        table.setFont(font(SMALL))
        table.setShowGrid(False)

        for row, (at, kind, text) in enumerate(reversed(events)):
            what, _, why = text.partition(": ") if kind == "decision" else (kind, "", text)
            for column, words in enumerate((_moment(at), what, why)):
                item = QTableWidgetItem(words)
                item.setToolTip(plain_tip(words))
                table.setItem(row, column, item)

        head = table.horizontalHeader()
        rows = table.verticalHeader()
        assert head is not None
        assert rows is not None
        rows.hide()
        head.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        head.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        head.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        layout = QVBoxLayout(self)

        if not events:
            layout.addWidget(
                PlainLabel("Nothing was measured yet. Every step will stand here with its reason.")
            )

        layout.addWidget(table)
        self.table = table


def _moment(at: str) -> str:
    """A time of the log on this machine's clock; as it stands there where it is none, as in a
    damaged log."""
    try:
        return f"{datetime.fromisoformat(at).astimezone():%d %b %H:%M:%S}"
    except ValueError:
        return at
