"""Shared fixtures. Every test is checked for threads that it leaves behind."""

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from swift_sample.core.settings import Configuration
from swift_sample.core.study.model import Limits, Study, Sweep
from swift_sample.core.study.store import StudyFolder


@pytest.fixture(autouse=True)
def no_threads_left() -> Iterator[None]:
    before = set(threading.enumerate())
    yield
    deadline = time.monotonic() + 5
    left = [t for t in threading.enumerate() if t not in before]
    while left and time.monotonic() < deadline:
        time.sleep(0.02)
        left = [t for t in threading.enumerate() if t not in before]
    assert not left, f"threads left behind: {[t.name for t in left]}"


@pytest.fixture
def tiny_study() -> Study:
    """A study that is measured in seconds: limits wide enough that fewer samples pass and no bounces do not."""
    base = Configuration({"samples.max": 64, "bounces.total": 4})
    return Study("Tiny", "honey-stall-small", (32, 18), base=base, repeats=2,
                 sweeps=(Sweep("one at a time", {"samples.max": (16, 64), "bounces.total": (0, 4)}),),
                 limits=Limits(grain=60.0, light_shift=6.0, detail_kept=20.0, stray_pixels=999_000.0))


@pytest.fixture
def folder(tmp_path: Path, tiny_study: Study) -> Iterator[StudyFolder]:
    with StudyFolder.create(tmp_path / "tiny.study", tiny_study) as made:
        yield made
