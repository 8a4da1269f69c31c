"""What a plan costs, told from one short render."""

from dataclasses import replace

import pytest

from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.study.beginning.pilot import Pilot, pilot_of, pilot_size
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan.model import Study, Sweep

BASE = configured({"samples.max": 96, "bounces.total": 8, "device.threads": 1})
STUDY = Study(
    name="Pilot",
    scene="honey-stall-small",
    size=(96, 54),
    base=BASE,
    sweeps=(Sweep("one at a time", {"samples.max": (24, 48), "bounces.total": (2, 4)}),),
)


@pytest.fixture(scope="module")
def pilot() -> Pilot:
    _, record = run_render(spec_of(STUDY, pilot_of(BASE), 3), SceneCache(), None)
    return Pilot(STUDY, record)


def test_a_pilot_is_short() -> None:
    assert pilot_of(BASE)["samples.max"] == 16
    assert pilot_of(BASE.replace({"samples.max": 4}))["samples.max"] == 4


def test_times_grow_with_samples_and_bounces(pilot: Pilot) -> None:
    sampling = pilot.record.seconds["sampling"]
    more = pilot.seconds(BASE) - pilot.seconds(BASE.replace({"samples.max": 48}))
    assert more == pytest.approx(3 * sampling, rel=1e-6), (
        "48 samples more take three times as long as 16"
    )
    assert pilot.seconds(BASE.replace({"bounces.total": 2})) < pilot.seconds(BASE)


def test_everything_costs_what_its_runs_do(pilot: Pilot) -> None:
    cost = pilot.of_everything()
    assert cost.trials == 5
    assert cost.runs == round(15 * (1 + 1 / 8))
    rendering = 3 * sum(pilot.seconds(one) for one in STUDY.planned())
    assert 0.75 * rendering < cost.low < cost.high < 3 * rendering + cost.runs
    search = pilot.of_search()
    assert search.trials == 9
    assert search.low < search.high


def test_a_large_picture_is_told_from_a_small_one(pilot: Pilot) -> None:
    assert pilot_size((640, 360)) == (640, 360)
    width, height = pilot_size((3840, 2160))
    assert (width, height) == (640, 360)
    large = Pilot(replace(STUDY, size=(960, 540)), pilot.record)
    fixed = sum(pilot.record.seconds[name] for name in ("load", "textures", "build"))
    assert large.seconds(BASE) - fixed == pytest.approx(100 * (pilot.seconds(BASE) - fixed))
