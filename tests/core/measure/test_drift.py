import math
from collections.abc import Callable

import numpy as np
import pytest

from swift_sample.core.measure.drift import DriftCorrection, TimedRun, _medians, correct_drift
from swift_sample.core.measure.timing import common_spread, factor

TRIALS = 20
Slowness = Callable[[int, np.random.Generator], float]


def study(
    seed: int,
    spread: float = 0.02,
    slowness: Slowness = lambda _run, _rng: 0.0,
    trials: int = TRIALS,
    blocks: int = 3,
) -> list[TimedRun]:
    """Shuffled blocks of every trial once, with a control every eight runs; trial k takes 1 + k
    seconds, 0 is the base. `slowness` is log time added to a run."""
    rng = np.random.default_rng(seed)
    runs: list[TimedRun] = []

    for _ in range(blocks):
        for place, trial in enumerate(rng.permutation(trials)):
            for measured in (0, int(trial)) if place % 8 == 4 else (int(trial),):
                log = slowness(len(runs), rng) + spread * rng.normal()
                runs.append(TimedRun(len(runs), measured, (1 + measured) * math.exp(log)))

    return runs


def times_of(runs: list[TimedRun], found: DriftCorrection) -> dict[int, list[float]]:
    kept = [run for run in runs if run.number not in found.left_out]
    return {
        t: [r.seconds / found.factor(r.number) for r in kept if r.trial == t] for t in range(TRIALS)
    }


def wave(run: int, _rng: np.random.Generator) -> float:
    return 0.2 * math.sin(run / 9)


def bursts() -> Slowness:
    """Slowness that wanders: 9 % with a memory of about four runs."""
    state = [0.0]

    def one(run: int, rng: np.random.Generator) -> float:
        state[0] = (0.8 * state[0] if run else 0.0) + (0.6 if run else 1.0) * 0.09 * rng.normal()
        return state[0]

    return one


def test_a_steady_machine_is_left_alone() -> None:
    # 4 % of steady studies are corrected by chance (1,000 seeds); of 100, more than 11 in one test
    # of a thousand.
    found = [correct_drift(study(seed)) for seed in range(100)]
    assert sum(bool(one.drift) for one in found) <= 11
    assert max(one.largest_drift for one in found) < 0.04
    assert not any(one.left_out for one in found)


def test_too_few_runs_tell_nothing_of_a_drift() -> None:
    assert correct_drift([]) == DriftCorrection()
    assert not correct_drift([TimedRun(0, 0, 1.0), TimedRun(1, 0, 1.5), TimedRun(2, 1, 1.0)]).drift
    alone = [TimedRun(k, k, 1.0 + k % 2) for k in range(40)]
    assert correct_drift(alone) == DriftCorrection()


@pytest.mark.parametrize("step", [1.12, 1.3, 0.8])
def test_a_machine_that_changes_its_speed_is_found_out(step: float) -> None:
    """From the 21st of 66 runs to the 40th the machine is slower, or faster."""
    runs = study(3, 0.02, lambda run, _rng: math.log(step) if 20 <= run < 40 else 0.0)
    found = correct_drift(runs)
    within = np.median([found.factor(k) for k in range(24, 36)]) / np.median(
        [found.factor(k) for k in range(48, 66)]
    )
    assert within == pytest.approx(step, rel=0.03)
    assert found.largest_drift == pytest.approx(abs(step - 1), abs=0.06)
    assert found.left_out <= {18, 19, 20, 21, 38, 39, 40, 41}, (
        "at most runs where the speed changed"
    )


def test_a_drift_within_a_block_is_followed() -> None:
    """Slow waves of 20 %: what is left of them is a quarter at most, and factors err by less than
    half as much."""
    errors: dict[str, list[float]] = {"raw": [], "even": []}
    left = []

    for seed in range(20):
        runs = study(seed, 0.02, wave)
        found = correct_drift(runs)
        left.append(
            np.std(
                [
                    math.log(found.factor(r.number)) - wave(r.number, np.random.default_rng())
                    for r in runs
                ]
            )
        )

        for name, by in (("raw", DriftCorrection()), ("even", found)):
            times = times_of(runs, by)
            errors[name] += [
                math.log(np.median(times[0]) / np.median(times[k]) * (1 + k))
                for k in range(1, TRIALS)
            ]

    assert np.median(left) < 0.25 * 0.2 / math.sqrt(2) * 1.4
    assert np.std(errors["even"]) < 0.5 * np.std(errors["raw"])


def test_an_injected_outlier_is_found_and_only_that_one() -> None:
    runs = study(1)
    at = next(k for k, run in enumerate(runs) if run.trial == 4)
    runs[at] = TimedRun(at, 4, runs[at].seconds * 1.5)
    found = correct_drift(runs)
    assert found.left_out == {at}
    assert found.largest_drift < 0.05


def test_most_runs_of_a_trial_stay() -> None:
    quiet = [TimedRun(10 + k, 2 + k // 3, 1.0) for k in range(30)]
    wild = [TimedRun(k, 1, seconds) for k, seconds in enumerate((1.0, 2.0, 4.0))]
    assert len(correct_drift([*wild, *quiet]).left_out) == 1
    two = [TimedRun(k, 1, seconds) for k, seconds in enumerate((1.0, 2.0))]
    assert not correct_drift([*two, *quiet]).left_out


def test_on_a_restless_machine_what_is_usual_is_not_odd() -> None:
    """At a scatter of 11 %, three runs in ten lie 15 % off their trial's median; hardly any is left
    out."""
    assert sum(len(correct_drift(study(seed, 0.11)).left_out) for seed in range(30)) <= 30


def test_medians_by_group_are_those_of_numpy() -> None:
    rng = np.random.default_rng(2)
    values = rng.normal(size=200)
    groups = np.concatenate([np.arange(30), rng.integers(0, 30, 170)])
    expected = [np.median(values[groups == group]) for group in groups]
    assert _medians(values, groups) == pytest.approx(expected)


@pytest.mark.parametrize(
    ("spread", "slowness", "least", "most"),
    [
        pytest.param(0.08, lambda: lambda _run, _rng: 0.0, 0.93, 0.97, id="restless"),
        pytest.param(0.06, bursts, 0.92, 0.97, id="bursts"),
        pytest.param(0.03, lambda: wave, 0.93, 0.98, id="waves"),
        pytest.param(
            0.04, lambda: lambda run, _rng: 0.15 * (22 <= run < 44), 0.93, 0.98, id="steps"
        ),
    ],
)
def test_intervals_of_factors_cover_the_truth_in_simulated_studies(
    spread: float, slowness: Callable[[], Slowness], least: float, most: float
) -> None:
    """1,000 intervals of 250 studies; 95 % of them shall hold the true factor. Two standard errors
    are 1.4 %."""
    hits = []
    for seed in range(250):
        runs = study(20_000 + seed, spread, slowness())
        times = times_of(runs, correct_drift(runs))
        common = common_spread(list(times.values()))

        for trial in (2, 7, 12, 17):
            figure = factor(times[0], times[trial], common)
            hits.append(figure.low <= 1 / (1 + trial) <= figure.high)

    assert least <= np.mean(hits) <= most
