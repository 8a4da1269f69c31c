"""The pages of the window: what stands beside the ledger, one at a time. A page more is a module
and a line here."""

from swift_sample.ui.look import LookPage
from swift_sample.ui.map.page import MapPage
from swift_sample.ui.page import Page
from swift_sample.ui.pages.cost import CostPage
from swift_sample.ui.pages.frames import FramesPage
from swift_sample.ui.pages.machines import MachinesPage
from swift_sample.ui.pages.plan import PlanPage
from swift_sample.ui.pages.report import ReportPage

PAGES: tuple[type[Page], ...] = (
    MapPage,
    LookPage,
    CostPage,
    FramesPage,
    MachinesPage,
    ReportPage,
    PlanPage,
)
"""In the order of their tabs."""

__all__ = [
    "PAGES",
    "CostPage",
    "FramesPage",
    "LookPage",
    "MachinesPage",
    "MapPage",
    "Page",
    "PlanPage",
    "ReportPage",
]
