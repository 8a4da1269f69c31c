"""A report as PDF, A4."""

import io
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from swift_sample.core.colours import DAY
from swift_sample.core.report.charts import as_png
from swift_sample.core.report.model import Report, Shot, Table

if TYPE_CHECKING:
    from fpdf import FPDF
    from matplotlib.figure import Figure as Chart

MARGIN = 16.0
GAP = 4.0
"""Millimetres."""
SMALL = 7.5
NORMAL = 9.0
LARGE = 18.0
LINE = 4.6
"""Millimetres from line to line of normal text."""


def report_as_pdf(
    report: Report, tell: Callable[[float, str], None] = lambda share, words: None
) -> bytes:
    """The pages. The font comes with Matplotlib, so that every sign of a study's name is there.
    `tell` hears how much is done, from 0 to 1, and what is done now."""
    import matplotlib as mpl
    from fpdf import FPDF
    from fpdf.fonts import TTFFont

    class Pages(FPDF):
        def footer(self) -> None:
            self.set_y(-12)
            _font(self, SMALL, DAY.quiet)
            self.cell(0, 5, f"{report.title}, page {self.page_no()}", align="R")

    pages = Pages(format="A4")
    fonts = Path(mpl.get_data_path()) / "fonts" / "ttf"
    pages.add_font("sans", fname=fonts / "DejaVuSans.ttf")
    pages.add_font("sans", "B", fname=fonts / "DejaVuSans-Bold.ttf")

    try:
        _write(pages, report, tell)
        return bytes(pages.output())
    finally:
        for font in pages.fonts.values():
            if isinstance(font, TTFFont):
                font.close()  # where it is stopped before its output is made


def _write(pages: "FPDF", report: Report, tell: Callable[[float, str], None]) -> None:
    pages.set_margin(MARGIN)
    pages.set_auto_page_break(True, margin=MARGIN)
    pages.set_title(report.title)
    pages.add_page()
    _words(pages, report.title, LARGE, bold=True, height=9)
    _words(pages, report.subtitle, NORMAL, DAY.quiet)
    pages.ln(GAP)
    _words(pages, report.headline, 12, DAY.pick, bold=True, height=6)
    for line in report.details:
        _words(pages, line)

    tell(0.05, "the pictures")
    _heading(pages, "The pictures")
    _shots(pages, report.pictures, 2)

    for name, shots in report.areas:
        _heading(pages, name)
        _shots(pages, shots, max(3, len(shots)))

    if report.changes.rows:
        _heading(pages, "What to set")
        _table(pages, report.changes, (2, 3, 2, 2))

    _heading(pages, "What it does to the picture")
    _table(pages, report.limits, (2, *([3] * (len(report.limits.headings) - 1))))
    tell(0.4, "the map of all trials")
    _chart(pages, "Every trial: time and error", report.map)
    tell(0.6, "where the time goes")
    _chart(pages, "Where the time goes", report.phases)
    for finding in report.findings:
        _words(pages, f"– {finding}")

    tell(0.75, "each setting by itself")
    _chart(pages, "Each setting by itself, seconds of a render", report.settings)
    tell(0.85, "the table of all trials")
    _heading(pages, "All trials")
    _table(pages, report.trials, (5, 2, 3, *([1.6] * (len(report.trials.headings) - 5)), 2, 1))

    if report.machines.rows:
        _heading(pages, "On each kind of machine")
        _table(pages, report.machines, (4, 1, *([2] * (len(report.machines.headings) - 2))))
        for line in report.shared:
            _words(pages, line)

    _heading(pages, "How it was measured")
    for line in report.method:
        _words(pages, line)
        pages.ln(1)


def _font(pages: "FPDF", size: float, colour: str = DAY.text, bold: bool = False) -> None:
    pages.set_font("sans", "B" if bold else "", size)
    pages.set_text_color(*_rgb(colour))


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def _words(
    pages: "FPDF",
    text: str,
    size: float = NORMAL,
    colour: str = DAY.text,
    bold: bool = False,
    height: float = LINE,
) -> None:
    _font(pages, size, colour, bold)
    pages.multi_cell(0, height, text, align="L", new_x="LMARGIN", new_y="NEXT")


def _heading(pages: "FPDF", text: str) -> None:
    pages.ln(GAP)
    if pages.will_page_break(30):
        pages.add_page()
    _words(pages, text, 11, bold=True, height=7)


def _chart(pages: "FPDF", title: str, chart: "Chart | None") -> None:
    if chart is None:
        return

    width, height = chart.get_size_inches()
    tall = pages.epw * height / width
    pages.ln(GAP)

    if pages.will_page_break(tall + 10):
        pages.add_page()

    _words(pages, title, 11, bold=True, height=7)
    pages.image(io.BytesIO(as_png(chart)), w=pages.epw)


def _shots(pages: "FPDF", shots: Sequence[Shot], across: int) -> None:
    """Pictures beside each other, each with its caption below."""
    from PIL import Image

    width = (pages.epw - GAP * (across - 1)) / across
    for first in range(0, len(shots), across):
        row = shots[first : first + across]
        sizes = [Image.open(io.BytesIO(shot.png)).size for shot in row]
        tall = max(width * h / w for w, h in sizes)

        if pages.will_page_break(tall + LINE + 1):
            pages.add_page()

        top = pages.get_y()
        for place, (shot, (w, h)) in enumerate(zip(row, sizes, strict=True)):
            left = pages.l_margin + place * (width + GAP)
            pages.image(io.BytesIO(shot.png), x=left, y=top, w=width, h=width * h / w)
            pages.set_xy(left, top + tall + 0.5)
            _font(pages, SMALL, DAY.quiet)
            pages.cell(width, LINE, shot.caption)

        pages.set_xy(pages.l_margin, top + tall + LINE + 1)


def _table(pages: "FPDF", found: Table, widths: Sequence[float]) -> None:
    from fpdf.fonts import FontFace

    _font(pages, SMALL)
    pages.set_draw_color(*_rgb(DAY.line))
    head = FontFace(color=DAY.quiet, emphasis="")
    picked = FontFace(color=DAY.pick, emphasis="B")

    with pages.table(
        col_widths=tuple(widths),
        borders_layout="HORIZONTAL_LINES",
        line_height=LINE - 0.6,
        headings_style=head,
        text_align="LEFT",
        padding=(0.6, 1),
    ) as table:
        for cells in (found.headings, *found.rows):
            row = table.row()
            for cell in cells:
                row.cell(
                    cell, style=picked if "pick" in cells and cells is not found.headings else None
                )
