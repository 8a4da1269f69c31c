from dataclasses import replace

import pytest

from swift_sample.app.field import Field
from swift_sample.app.ledger_model import StripStates, strip_states, trail_of
from swift_sample.core.errors import UsageError
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.settings.typed import read_values
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.plan.model import Sweep
from tests.core.study.answers.test_results import STUDY, results_of
from tests.ui.pages.test_map_field import GRAIN, point_of

SAMPLES = CATALOGUE["samples.max"]
STRENGTH = CATALOGUE["denoise.strength"]


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("1 2 4 8", (1, 2, 4, 8)),
        ("16..256 x2", (16, 32, 64, 128, 256)),
        ("10..30 +10", (10, 20, 30)),
        ("4, 4; 8", (4, 8)),
        ("", ()),
    ],
)
def test_typed_values(text: str, values: tuple) -> None:
    assert read_values(SAMPLES, text) == values


@pytest.mark.parametrize("text", ["many", "0", "16..2 x2", "1..8 x1", "a..b x2", "1..8 +0"])
def test_typed_nonsense_is_refused(text: str) -> None:
    with pytest.raises(UsageError, match="expected"):
        read_values(SAMPLES, text)


def test_steps_do_not_drift() -> None:
    assert read_values(STRENGTH, "0.2..1 +0.2") == (0.2, 0.4, 0.6, 0.8, 1.0)


def test_chips_carry_times_and_verdicts() -> None:
    results = results_of(
        {100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.6, 1.5, 1.7)), 20: (2.0, (2.6, 2.5, 2.7))}
    )
    strip = next(s for s in strip_states(STUDY, results) if s.declared is SAMPLES)
    chips = {chip.value: chip for chip in strip.chips}
    assert chips[100].is_base
    assert chips[50].time_share == pytest.approx(0.5)
    assert (chips[50].verdict, chips[20].verdict) == (ACCEPTABLE, NOT_ACCEPTABLE)
    assert chips[128].time_share is None
    assert not chips[128].planned
    assert strip.remark == "wins up to 50%"
    assert [t.configuration["samples.max"] for t in trail_of(STUDY, results, "samples.max")] == [
        20,
        50,
        100,
    ]


def test_chips_tell_what_recordings_say_of_values_that_were_not_timed() -> None:
    results = results_of({100: (10.0, (1.0, 0.9, 1.1)), 50: (5.0, (1.6, 1.5, 1.7))})
    points = {samples: point_of(results, share, 2.0) for share, samples in GRAIN.items()}
    known = {point.configuration: point for point in points.values()}
    timed = replace(points[40], configuration=STUDY.base.replace({"samples.max": 50}))
    field = Field(tuple(points.values()), 5, 2, {**known, timed.configuration: timed})

    study = replace(STUDY, sweeps=(Sweep("one at a time", {"samples.max": (20, 50, 80)}),))
    strips = StripStates().of(study, results, None, field)
    chips = {
        chip.value: chip for strip in strips if strip.declared is SAMPLES for chip in strip.chips
    }
    assert chips[20].foreseen
    assert (chips[20].time_share, chips[20].verdict) == (pytest.approx(0.2), ACCEPTABLE)
    assert chips[80].verdict == NOT_ACCEPTABLE
    assert "about 2.0 s, foreseen" in chips[20].told
    assert not chips[50].foreseen, "it was timed"


def test_settings_without_effect_say_why() -> None:
    strip = next(s for s in strip_states(STUDY, None) if s.declared is STRENGTH)
    assert strip.idle_reason == "has no effect with denoise, method: none"


def test_equal_times_are_no_measurable_difference() -> None:
    results = results_of({100: (10.0, (1.0, 0.9, 1.1)), 99: (10.02, (1.0, 0.9, 1.1))})
    strip = next(s for s in strip_states(STUDY, results) if s.declared is SAMPLES)
    assert strip.remark == "no measurable difference"
