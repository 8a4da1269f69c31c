"""The page Look, where pictures are judged by eye."""

from swift_sample.ui.look.page import LookPage

__all__ = ["LookPage"]
