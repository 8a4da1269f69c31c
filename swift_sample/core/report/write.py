"""A report as a file, in the format that its name asks for."""

from pathlib import Path

from swift_sample.core.errors import StudyError, UsageError, one_line
from swift_sample.core.machine import Machine
from swift_sample.core.report.html import report_as_html
from swift_sample.core.report.model import gather
from swift_sample.core.report.pdf import report_as_pdf
from swift_sample.core.study.snapshot import Snapshot

FORMATS = (".html", ".pdf")


def write_report(path: Path, snapshot: Snapshot, machine: Machine) -> None:
    """Write a report as HTML or PDF, by the name's ending.

    Raises UsageError for another ending, StudyError where nothing was measured or the file cannot be written.
    """

    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path}: expected a name that ends in {' or '.join(FORMATS)}")
    report = gather(snapshot, machine)
    data = report_as_html(report).encode() if path.suffix.lower() == ".html" else report_as_pdf(report)
    try:
        path.write_bytes(data)
    except OSError as error:
        raise StudyError(f"{path}: cannot be written ({one_line(error)})") from error
