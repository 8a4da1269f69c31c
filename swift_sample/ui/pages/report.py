"""Report: the page that can be given to others, exactly as its PDF will be."""

from pathlib import Path

from PyQt6.QtCore import QTemporaryDir
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout

from swift_sample.app.pictures import PictureStore
from swift_sample.ui.page import Page
from swift_sample.ui.theme import SMALL, Theme, font
from swift_sample.ui.widgets.elided import ElidedLabel
from swift_sample.ui.widgets.parts import quiet

EMPTY = (
    "This page shows what you can give to others: the pick, the pictures, the curves, every trial "
    "and how it was measured. Measure the study first."
)


class ReportPage(Page):
    """The report as it can be given to others; made when the page is seen and something changed
    since the last one."""

    name = "Report"

    def __init__(self, theme: Theme, pictures: PictureStore) -> None:
        super().__init__(theme, pictures)
        self._loaded: object = None
        self._folder = QTemporaryDir()
        self._document = QPdfDocument(self)
        self._pages = QPdfView(self)
        self._pages.setPageMode(QPdfView.PageMode.MultiPage)
        self._pages.setZoomMode(QPdfView.ZoomMode.FitToWidth)
        self._pages.setDocument(self._document)
        self._pages.setAccessibleName("The report's pages")
        self._words = ElidedLabel()
        self._words.setFont(font(SMALL))
        self._words.setProperty("quiet", True)
        self._hint = quiet(EMPTY)
        self._again = QPushButton("Update")
        self._again.clicked.connect(self._make)
        self._saves = {
            ending: QPushButton(text)
            for ending, text in ((".pdf", "Save as PDF …"), (".html", "Save as HTML …"))
        }
        head = QHBoxLayout()
        self._stop = QPushButton("Stop")
        self._stop.clicked.connect(lambda: self.ask(lambda session: session.stop_report()))
        self._stop.setToolTip("Write it no further; Update begins anew")
        head.addWidget(self._words, 1)
        head.addWidget(self._stop)
        head.addWidget(self._again)

        for ending, button in self._saves.items():
            button.clicked.connect(lambda _, wanted=ending: self._save(wanted))
            head.addWidget(button)

        column = QVBoxLayout(self)
        column.setContentsMargins(24, 4, 16, 8)
        column.addLayout(head)
        column.addWidget(self._hint)
        column.addWidget(self._pages, 1)
        column.addStretch(0)  # keeps the words at the top while there are no pages
        self.set_theme(theme)

    @property
    def page_count(self) -> int:
        """Pages that are shown; 0 while there is no report."""
        return self._document.pageCount()

    def start_anew(self) -> None:
        self._loaded = None
        self._document.close()

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._pages.setStyleSheet(f"QPdfView {{ background: {theme.surround}; border: none; }}")

    def refresh(self) -> None:
        """Show how far the report is; make the first one as soon as the page is seen."""
        model = self.model
        results, report = (model.results, model.report) if model is not None else (None, None)

        if report is not None and report is not self._loaded:
            self._loaded = report
            if report[0]:
                self._document.close()
                self._document.load(report[0])

        busy = model is not None and model.reporting
        there = results is not None and results.base is not None and results.base.is_on_map
        self._hint.setVisible(not there)
        self._pages.setVisible(there and self.page_count > 0)
        for button in self._saves.values():
            button.setEnabled(there)

        stopped = report is not None and not report[0] and report[1] is results
        stale = there and report is not None and report[1] is not results
        self._again.setVisible((stale or stopped) and not busy)
        self._stop.setVisible(busy)
        self._words.set_forms(*self._state_words(busy, stale))
        measuring = model is not None and model.activity.measuring

        if (
            there
            and self.isVisible()
            and not busy
            and (report is None or (stale and not measuring))
        ):
            self._make()

    def _state_words(self, busy: bool, stale: bool) -> tuple[str, ...]:
        """What is to be said of the report that is shown, the longest form first."""
        words = self.model.report_words if self.model is not None else ""

        if busy and words:
            share, _, _ = words.partition(",")
            return f"Writing the report: {words} …", f"Writing: {share} …", f"{share} …"
        if busy:
            return "Writing the report …", "Writing …"
        if stale:
            return "There are newer measurements.", "No longer current."

        return (words,)

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self.refresh()

    def _make(self) -> None:
        path = Path(self._folder.filePath("report.pdf"))
        self.ask(lambda session: session.show_report(path))

    def _save(self, ending: str) -> None:
        study = self.model.study.name if self.model is not None else "report"
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the report", f"{study}{ending}", f"*{ending}"
        )

        if name:
            path = Path(name if Path(name).suffix else name + ending)
            self.ask(lambda session: session.make_report(path))
