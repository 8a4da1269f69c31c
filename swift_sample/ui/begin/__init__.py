"""Begin: the page on which a scene becomes a study."""

from swift_sample.ui.begin.page import BeginPage

__all__ = ["BeginPage"]
