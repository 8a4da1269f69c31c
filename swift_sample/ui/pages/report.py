"""Report: the page that can be given to others, exactly as its PDF will be."""

from pathlib import Path

from PyQt6.QtCore import QTemporaryDir, pyqtSignal
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from swift_sample.app.session import Session
from swift_sample.ui.theme import Theme
from swift_sample.ui.widgets.parts import quiet

EMPTY = (
    "Here stands what you can give to others: the pick, the pictures, the curves, every trial and how it was measured. "
    "Measure the study first."
)


class ReportView(QWidget):
    """Reads a session; asks it for a report when it is shown and something changed since the last one."""

    save_wanted = pyqtSignal(str)
    """the ending of the file to write, .pdf or .html"""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._session: Session | None = None
        self._made_from: object = None
        self._busy = False
        self._folder = QTemporaryDir()
        self._document = QPdfDocument(self)
        self._pages = QPdfView(self)
        self._pages.setPageMode(QPdfView.PageMode.MultiPage)
        self._pages.setZoomMode(QPdfView.ZoomMode.FitToWidth)
        self._pages.setDocument(self._document)
        self._pages.setAccessibleName("The report's pages")
        self._words, self._hint = quiet("", wrap=False), quiet(EMPTY)
        self._again = QPushButton("Bring up to date")
        self._again.clicked.connect(self._make)
        self._saves = {ending: QPushButton(text) for ending, text in ((".pdf", "Save as PDF …"), (".html", "Save as HTML …"))}
        head = QHBoxLayout()
        head.addWidget(self._words)
        head.addWidget(self._again)
        head.addStretch(1)
        for ending, button in self._saves.items():
            button.clicked.connect(lambda _, wanted=ending: self.save_wanted.emit(wanted))
            head.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 4, 16, 8)
        column.addLayout(head)
        column.addWidget(self._hint)
        column.addWidget(self._pages, 1)
        self.set_theme(theme)

    @property
    def page_count(self) -> int:
        """Pages that are shown; 0 while there is no report."""
        return self._document.pageCount()

    def set_session(self, session: Session | None) -> None:
        self._session, self._made_from, self._busy = session, None, False
        self._document.close()
        if session is not None:
            session.report_made.connect(self._on_made)
            session.problem.connect(self._on_problem)
        self.refresh()

    def set_theme(self, theme: Theme) -> None:
        self._pages.setStyleSheet(f"QPdfView {{ background: {theme.surround}; border: none; }}")

    def refresh(self) -> None:
        """Show how far the report is; make the first one as soon as the page is seen."""
        results = self._session.results if self._session is not None else None
        there = results is not None and results.base is not None and results.base.is_on_map
        self._hint.setVisible(not there)
        self._pages.setVisible(there and self.page_count > 0)
        for button in self._saves.values():
            button.setEnabled(there)
        measuring = self._session is not None and self._session.activity.measuring
        stale = there and results is not None and self._made_from is not None and self._made_from is not results
        self._again.setVisible(stale and not self._busy)
        self._words.setText("Writing the report …" if self._busy else "Measured on since this was written." if stale else "")
        if there and self.isVisible() and not self._busy and (self._made_from is None or (stale and not measuring)):
            self._make()

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def _make(self) -> None:
        results = self._session.results if self._session is not None else None
        if self._session is not None and results is not None:
            self._busy, self._made_from = True, results
            self._session.make_report(Path(self._folder.filePath("report.pdf")), shown_here=True)
            self.refresh()

    def _on_made(self, name: str) -> None:
        if self._busy and Path(name).parent == Path(self._folder.path()):
            self._busy = False
            self._document.close()
            self._document.load(name)
            self.refresh()

    def _on_problem(self, _words: str) -> None:
        self._busy = False
