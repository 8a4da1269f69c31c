"""A report as a file, in the format that its name asks for."""

from collections.abc import Callable
from pathlib import Path

from swift_sample.core.errors import StudyError, UsageError, one_line
from swift_sample.core.machine import Machine
from swift_sample.core.report.html import report_as_html
from swift_sample.core.report.model import gather
from swift_sample.core.report.pdf import report_as_pdf
from swift_sample.core.study.measuring.snapshot import Snapshot

FORMATS = (".html", ".pdf")


Tell = Callable[[float, str], None]
"""Hears how much of a report is done, from 0 to 1, and what is done now; may raise
ReportStoppedError to end it."""


def write_report(
    path: Path, snapshot: Snapshot, machine: Machine, tell: Tell = lambda share, words: None
) -> None:
    """Write a report as HTML or PDF, by the name's ending.

    Raises UsageError for another ending, StudyError where nothing was measured or the file cannot
    be written.
    """

    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path}: expected a name that ends in {' or '.join(FORMATS)}")

    tell(0.0, "putting together what was found")
    report = gather(snapshot, machine)
    tell(0.4, "laying out pages")

    if path.suffix.lower() == ".html":
        data = report_as_html(report).encode()
    else:
        data = report_as_pdf(report, lambda share, words: tell(0.4 + 0.6 * share, words))

    try:
        path.write_bytes(data)
    except OSError as error:
        raise StudyError(f"{path}: cannot be written ({one_line(error)})") from error
