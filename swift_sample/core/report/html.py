"""A report as one HTML page that needs nothing beside it."""

import base64

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from swift_sample.core.colours import DAY
from swift_sample.core.report.charts import as_svg
from swift_sample.core.report.model import Report, Shot


def report_as_html(report: Report) -> str:
    """The page. Everything that comes from a study is escaped; pictures and charts stand in it."""
    environment = Environment(
        loader=PackageLoader("swift_sample.core.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    charts = {
        name: Markup(as_svg(chart)) if chart is not None else ""
        for name, chart in (
            ("map", report.map),
            ("phases", report.phases),
            ("settings", report.settings),
        )
    }

    return environment.get_template("report.html").render(
        report=report, charts=charts, colours=DAY, address=_address
    )


def _address(shot: Shot) -> str:
    return "data:image/png;base64," + base64.b64encode(shot.png).decode()
