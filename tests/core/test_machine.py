"""What the machine is, and how busy others keep it."""

from collections.abc import Iterator

import psutil
import pytest

from swift_sample.core.machine import LoadMeter, this_machine


@pytest.mark.parametrize(
    ("busy", "own", "share"), [(8.0, 3.0, 0.25), (3.0, 3.0, 0.0), (2.9, 3.0, 0.0), (23.0, 3.0, 1.0), (40.0, 3.0, 1.0)]
)
def test_load_is_what_others_took_of_all_threads(monkeypatch, busy: float, own: float, share: float) -> None:
    """In ten seconds of two threads. Clocks of the system and of this process are read one after the other, so that own time
    can seem to be more than all there was."""
    times: Iterator[tuple[float, float, float]] = iter([(100.0, 50.0, 7.0), (110.0, 50.0 + busy, 7.0 + own)])
    monkeypatch.setattr(LoadMeter, "_now", staticmethod(lambda: next(times)))
    monkeypatch.setattr(psutil, "cpu_count", lambda *_: 2)
    assert LoadMeter().share() == pytest.approx(share)


def test_hardware_is_the_machine_and_versions_are_not() -> None:
    machine = this_machine()
    assert "versions" not in machine.hardware()
    assert "NumPy" in machine.versions
    assert machine.hardware()["threads"] == machine.threads >= 1
