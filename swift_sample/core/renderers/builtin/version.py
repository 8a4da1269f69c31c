"""The version of the built-in renderer: a number that is raised whenever a pixel of any picture may
change.

It names results: with another number, those of before are shown as of an earlier version and
rendered again. So it does not change with words, with the order of lines or with where a function
stands, nor with processor, Python or libraries, whose versions are recorded beside every run.
`tests/core/renderers/builtin/test_version.py` holds pixels of many scenes and settings to what was
stored under this number, and fails where it should have been raised.
"""

PIXELS = 1
"""Raise it together with the stored pixels (`python -m
tests.core.renderers.builtin.stored_pixels`)."""


def renderer_version() -> str:
    """The version as results are named by it."""
    return f"pixels {PIXELS}"
