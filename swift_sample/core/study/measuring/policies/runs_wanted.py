"""How many runs each trial is worth, where that is not the study's number."""

from collections.abc import Iterable
from dataclasses import dataclass

from swift_sample.core.study.answers.acceptance import NOT_ACCEPTABLE, UNDECIDED, quantity
from swift_sample.core.study.answers.pick import Pick
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult, time_of
from swift_sample.core.study.answers.verdict_runs import (
    MOST_FOR_VERDICT,
    MOST_TO_DECIDE,
    WORTH_GAIN,
    counts_pixels,
    upper_end,
)

LONG_SECONDS = 60.0
RUNS_OF_LONG = 2
"""Trials that take longer than a minute are measured twice, at most."""
RUNS_TO_EXPLORE = 2
"""Runs by which a search judges a trial: grain of a denoised picture is what differs between
two."""
EXTRA_SHARE = 0.2
"""Runs beyond the planned ones, as a share of those: a restless machine must not measure for
ever."""


@dataclass(frozen=True)
class Wanted:
    """How many runs a trial shall have where that is not the study's number, and why."""

    count: int
    why: str


def wanted_runs(
    results: Results, exploring: bool = False, sought: Iterable[str] | None = None
) -> dict[str, Wanted]:
    """How many runs trials shall have, where that is not the study's number, by trial. `sought` are
    those that only a search asks for.

    Trials that only a search chose get one run after the other, as long as they may still be the
    pick, and at most two while it is exploring. Two where a run takes longer than a minute; one
    more for each that is left out; and up to MOST_FOR_VERDICT more for those whose verdict is open
    and that would be the pick if they were acceptable. The fastest trials come first, until
    EXTRA_SHARE of the planned runs is spent.
    """
    repeats = results.study.repeats
    pick = results.pick()
    searched = frozenset(results.sought if sought is None else sought)
    leader = leader_of(results, pick) if exploring else None
    left = max(1, round(EXTRA_SHARE * repeats * len(results.trials)))
    wanted: dict[str, Wanted] = {}

    for trial in sorted((t for t in results.trials if t.seconds is not None), key=time_of):
        assert trial.seconds is not None
        long = trial.seconds.value > LONG_SECONDS
        count, why = (
            (min(repeats, RUNS_OF_LONG), ["runs of more than a minute are made twice"])
            if long
            else (repeats, [])
        )
        own = [run for run in trial.runs if not run.control]

        if trial.id in searched and len(own) < count:
            few = exploring and trial is not leader
            needed, reason = _runs_worth_it(
                trial, len(own), RUNS_TO_EXPLORE if few else repeats, pick
            )
            count = min(count, needed)
            why = [reason]

        odd = sum(run.number in trial.left_out for run in own)
        if odd:
            count += odd
            why.append(f"{odd} odd run{'s are' if odd > 1 else ' is'} left out")

        to_tell = 0
        faster = pick is None or (
            pick.trial.seconds is not None and trial.seconds.low < pick.trial.seconds.value
        )
        asked = not exploring or trial is leader

        if (
            trial.verdict == UNDECIDED
            and not trial.derived  # its pictures are derived: renders tell nothing more of them
            and faster
            and trial.is_on_map
            and len(own) >= count
            and asked
        ):
            to_tell = _runs_to_tell(trial, results)
            most = max(count + MOST_FOR_VERDICT, to_tell)
            count = min(most, len(own) + 1)
            closest = quantity(trial.worst_limit()).label
            why.append(
                f"it would be the pick, but whether its {closest} is within the limit is open"
            )

        count = min(count, max(repeats + left, to_tell))
        left -= max(0, count - repeats)
        if count != repeats:
            wanted[trial.id] = Wanted(count, "; ".join(why))

    return wanted


def leader_of(results: Results, pick: Pick | None) -> TrialResult | None:
    """The fastest trial that is likely to become the pick once it has all the runs that it may get.
    A search gives it these at once: with a pick in hand it knows what is still worth trying."""
    repeats = results.study.repeats
    fastest = pick.trial.seconds if pick is not None else None
    hopeful = []

    for trial in results.trials:
        if trial.verdict != UNDECIDED or not trial.is_whole or trial.failure is not None:
            continue
        if trial.derived:
            continue
        if fastest is not None and time_of(trial) >= (1 - WORTH_GAIN) * fastest.value:
            continue
        most = max(repeats + MOST_FOR_VERDICT, _runs_to_tell(trial, results))
        if RUNS_TO_EXPLORE <= trial.pictures < most and _may_be_kept(trial, results, most):
            hopeful.append(trial)

    return min(hopeful, key=time_of, default=None)


def _may_be_kept(trial: TrialResult, results: Results, runs: int) -> bool:
    """Whether every limit is likely to be seen to be kept with so many runs."""
    return all(
        upper_end(key, share, trial.pictures, runs, results.wanted[key], results.study) <= 1
        for key, share in trial.shares.items()
    )


def _runs_to_tell(trial: TrialResult, results: Results) -> int:
    """With how many runs open limits that count single pixels are likely to be seen to be kept; 0
    where there are none, or more than MOST_TO_DECIDE would be needed."""
    still_open = {
        key: share
        for key, share in trial.shares.items()
        if counts_pixels(key) and share.low <= 1 < share.high
    }
    if not still_open:
        return 0

    for runs in range(trial.pictures + 1, MOST_TO_DECIDE + 1):
        ends = [
            upper_end(key, share, trial.pictures, runs, results.wanted[key], results.study)
            for key, share in still_open.items()
        ]
        if max(ends) <= 1:
            return runs

    return 0


def _runs_worth_it(trial: TrialResult, done: int, most: int, pick: Pick | None) -> tuple[int, str]:
    """Runs of a trial of a search, and why: no more for one that is over a limit, or measurably
    slower than the pick."""
    assert trial.seconds is not None
    if trial.verdict == NOT_ACCEPTABLE:
        return done, "it is over a limit"

    best = pick.trial.seconds if pick is not None and pick.trial.id != trial.id else None
    if best is not None and trial.seconds.low > best.high:
        return done, "it is slower than the pick"

    return min(RUNS_TO_EXPLORE if done < RUNS_TO_EXPLORE else most, most), "it may be the pick"
