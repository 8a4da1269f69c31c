"""Shared fixtures. Every test is checked for threads that it leaves behind."""

import logging
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from swift_sample.core.log import start_log
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.plan.model import Study, Sweep
from tests.core.study.states import only_limits

pytest_plugins = ["tests.window_fixtures"]


@pytest.fixture(autouse=True)
def own_places(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """The machine's lease and the program's log are those of the test alone; the worker's too,
    which inherits them."""
    own = tmp_path_factory.mktemp("own")
    monkeypatch.setenv("SWIFT_SAMPLE_LEASE", str(own / "lease"))
    monkeypatch.setenv("SWIFT_SAMPLE_STATE", str(own / "state"))


@pytest.fixture
def log_file() -> Iterator[Path]:
    """The program's log, begun for one test."""
    logger = logging.getLogger("swift_sample")
    before = list(logger.handlers)
    propagate = logger.propagate
    logger.handlers.clear()
    file = start_log()
    assert file is not None
    yield file
    for handler in logger.handlers:
        handler.close()

    logger.handlers[:] = before
    logger.propagate = propagate


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
    """A study that is measured in seconds: limits wide enough that fewer samples pass and no
    bounces do not."""
    base = configured({"samples.max": 64, "bounces.total": 4})
    return Study(
        name="Tiny",
        scene="honey-stall-small",
        size=(32, 18),
        base=base,
        repeats=2,
        sweeps=(Sweep("one at a time", {"samples.max": (16, 64), "bounces.total": (0, 4)}),),
        limits=only_limits(grain=60.0, light_shift=6.0, detail_kept=20.0, stray_pixels=999_000.0),
    )


@pytest.fixture
def study_path(tmp_path: Path, tiny_study: Study) -> Path:
    """The tiny study on disk, not open."""
    return create_study(tmp_path / "tiny.study", tiny_study)


@pytest.fixture
def driver(study_path: Path) -> Iterator[Driver]:
    """The tiny study, open to be measured in the test's own thread."""
    made = Driver(Store.open(study_path))
    yield made
    made.close()
