"""What the machine is, and how busy others keep it."""

import os
import time
from collections import namedtuple
from collections.abc import Iterator

import psutil
import pytest

from swift_sample.core import machine
from swift_sample.core.machine import LoadMeter, this_machine


@pytest.mark.parametrize(
    ("busy", "own", "share"),
    [(8.0, 3.0, 0.25), (3.0, 3.0, 0.0), (2.9, 3.0, 0.0), (23.0, 3.0, 1.0), (40.0, 3.0, 1.0)],
)
def test_load_is_what_others_took_of_all_threads(
    monkeypatch, busy: float, own: float, share: float
) -> None:
    """In ten seconds of two threads. Clocks of the system and of this process are read one after
    the other, so that own time can seem to be more than all there was."""
    times: Iterator[tuple[float, float, float]] = iter(
        [(100.0, 50.0, 7.0), (110.0, 50.0 + busy, 7.0 + own)]
    )
    monkeypatch.setattr(LoadMeter, "_now", staticmethod(lambda: next(times)))
    monkeypatch.setattr(machine, "available_processors", lambda: 2)
    assert LoadMeter().share() == pytest.approx(share)


def test_hardware_is_the_machine_and_versions_are_not() -> None:
    machine = this_machine()
    assert "versions" not in machine.hardware()
    assert "NumPy" in machine.versions
    assert machine.hardware()["threads"] == machine.threads >= 1


def test_what_runs_on_other_processors_is_no_load_for_a_part_of_a_computer(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Of four processors the second may be used: the others are full all the time."""
    clock = [0.0]
    spent = [0.0]
    times = namedtuple("times", ("user", "idle"))
    monkeypatch.setattr(time, "monotonic", lambda: clock[0])
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {1})
    monkeypatch.setattr(
        psutil,
        "cpu_times",
        lambda percpu: [times(spent[0] if k == 1 else clock[0], 0.0) for k in range(4)],
    )
    monkeypatch.setattr(time, "process_time", lambda: 0.0)
    meter = LoadMeter()
    clock[0] = 10.0
    spent[0] = 1.0
    assert meter.share() == pytest.approx(0.1)
