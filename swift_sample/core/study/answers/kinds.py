"""Several machines in one study: which there are, whether those of a kind keep one pace, and the
answer on each kind.

Times of different kinds never mix. Machines of one kind share the trials, and their times are
pooled as long as their controls, repeats of the base on each, do not show that they differ.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from swift_sample.core.errors import UsageError
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.measure.timing import common_spread, factor, is_difference
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.answers.acceptance import ACCEPTABLE
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results, goal_seconds, results_of
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import HostApart, Run
from swift_sample.core.study.log.state import APART_MARK, StudyState, kind_of
from swift_sample.core.study.plan.model import FramePlan

_TRADE_MARKS = re.compile(r"\((R|TM|C)\)|\b(CPU|Processor)\b", re.IGNORECASE)
SAME_PACE = 1.05
"""Machines of a kind whose bases take the same within this factor are pooled."""
LEAST_BASES = 2
"""Runs of the base on a machine, and on the others together, before their pace is compared."""
MOST_BASES = 200
"""Runs of the base on the others that are looked at, the latest ones."""
AGREES = "keeps their pace"
APART = "does not keep their pace"
OPEN = "cannot be told yet"


@dataclass(frozen=True)
class Pace:
    """How fast one machine of a kind is by its controls. `against` is how many times faster it is
    than the others, None where too little was measured."""

    host: str
    runs: int
    bases: int
    against: Figure | None
    verdict: str

    @property
    def words(self) -> str:
        """For people: "keeps their pace: 1.01 times as fast as the others (0.98 to 1.04)"."""
        if self.against is None:
            return f"{self.verdict}: {self.bases} runs of the base on it so far"

        one = self.against
        return (
            f"{self.verdict}: {one.value:.2f} times as fast as the others ({one.low:.2f} to "
            f"{one.high:.2f})"
        )


@dataclass(frozen=True, kw_only=True)
class Kind:
    """The answer on one kind of machine. `best` has the fastest value of each setting that changes
    no pixel, by itself, with how many times faster than the base it is; None where no value differs
    measurably."""

    machine: str
    label: str
    is_here: bool
    results: Results
    runs: int
    paces: tuple[Pace, ...]
    best: Mapping[str, tuple[Value, Figure | None]]


@dataclass(frozen=True)
class OnAll:
    """What is acceptable on every kind, and fastest where it helps least."""

    trial: str
    label: str
    factors: Mapping[str, Figure]
    """by kind"""


def machine_words(record: Mapping[str, Any]) -> str:
    """A kind of machine, for people."""
    threads = int(record.get("threads", 0))
    memory = int(record.get("memory_bytes", 0)) / 2**30
    processor = " ".join(
        _TRADE_MARKS.sub("", str(record.get("processor", "unknown processor"))).split()
    )

    return f"{processor}, {threads} thread{'s' if threads != 1 else ''}, {memory:.0f} GiB"


def label_of(state: StudyState, machine: str) -> str:
    """What to call a machine: its kind, and its own name where its times are kept apart."""
    named = state.names.get(kind_of(machine))
    host = machine.partition(APART_MARK)[2]
    words = machine_words(named.record) if named is not None and named.record else kind_of(machine)

    return f"{host} ({words})" if host else words


def machines_of(state: StudyState) -> tuple[str, ...]:
    """The names of all machines whose times are kept in the place that is looked at: this one
    first, then by runs."""
    counted: dict[str, int] = {}
    for run in state.results.runs:
        if run.result is not None:
            counted[run.machine] = counted.get(run.machine, 0) + 1

    own = state.surroundings.machine
    return tuple(sorted(counted, key=lambda name: (name != own, -counted[name], name)))


def machine_to_show(state: StudyState) -> str:
    """Whose times to look at where nobody says it: this machine's where it has some, else those of
    the one that has most; "" where there are none."""
    return next(iter(machines_of(state)), "")


def machine_named(state: StudyState, name: str) -> str:
    """The machine that a person means: the beginning of its name, or a part of its description.
    Raises UsageError."""
    known = {
        machine: label_of(state, machine)
        for machine in (*machines_of(state), state.surroundings.machine)
    }
    known |= {
        one: label_of(state, one) for one, named in state.names.items() if named.kind == "machine"
    }
    found = [
        one for one, label in known.items() if one.startswith(name) or name.lower() in label.lower()
    ]

    if len(found) != 1:
        told = "; ".join(f"{one} ({label})" for one, label in known.items())
        raise UsageError(
            f"--machine {name}: {'means several' if found else 'is none'} of those known here: "
            f"{told}"
        )

    return found[0]


def machines_of_frames(state: StudyState, plan: FramePlan) -> tuple[str, ...]:
    """The names of all machines that measured frames of a sequence."""
    places = [state.place_of_frame(frame) for frame in plan.frames()]
    return tuple(
        dict.fromkeys(
            run.machine
            for place in places
            for run in state.at(place).runs
            if run.result is not None
        )
    )


def paces_of(state: StudyState, kind: str) -> tuple[Pace, ...]:
    """How the machines of a kind compare, those that are kept apart among them; nothing where there
    is only one."""
    runs = [
        run for run in state.results.runs if kind_of(run.machine) == kind and run.result is not None
    ]
    counts = Counter(run.host for run in runs)
    return (
        tuple(_pace(state, kind, host, counts[host]) for host in sorted(counts))
        if len(counts) > 1
        else ()
    )


def _pace(state: StudyState, kind: str, host: str, runs: int) -> Pace:
    """How one machine compares with the others of its kind, by their latest runs of the base."""
    own: list[Run] = []
    others: list[Run] = []

    for run in reversed(state.results.trials.get(state.base.id, ())):
        if run.result is None or kind_of(run.machine) != kind:
            continue
        if run.host == host:
            own.append(run)
        elif (kind, run.host) not in state.apart and len(others) < MOST_BASES:
            others.append(run)

    against = None
    if len(own) >= LEAST_BASES and len(others) >= LEAST_BASES:
        goal = state.plan.goal
        by_host = defaultdict(list)
        for run in (*own, *others):
            by_host[run.host].append(goal_seconds(run, goal))

        theirs = [seconds for name, times in by_host.items() if name != host for seconds in times]
        against = factor(theirs, by_host[host], common_spread(by_host.values()))

    return Pace(
        host, runs, len(own), against, APART if (kind, host) in state.apart else _verdict(against)
    )


def _verdict(against: Figure | None) -> str:
    if against is None:
        return OPEN
    if against.low > SAME_PACE or against.high < 1 / SAME_PACE:
        return APART

    return AGREES if against.low >= 1 / SAME_PACE and against.high <= SAME_PACE else OPEN


def apart_by_controls(state: StudyState, kind: str, host: str) -> list[HostApart]:
    """That a machine is of another pace than the others of its kind, where its controls show that
    now. Of two that differ it is the slower one."""
    if (kind, host) in state.apart:
        return []

    pace = _pace(state, kind, host, state.results.made_on(kind, host, state.base.id)[0])
    if pace.verdict != APART or pace.against is None:
        return []

    others = [
        key for key in state.results.hosts if len(key) == 2 and key[0] == kind and key[1] != host
    ]
    if len(others) == 1 and pace.against.value > 1:
        return []  # that is told by the other's next control

    return [HostApart(kind, host, f"{host} {pace.words}; its times are kept apart")]


def kinds_of(state: StudyState) -> tuple[Kind, ...]:
    """The answer on every machine whose times are known in the place that is looked at."""
    found = []
    for machine in machines_of(state):
        results = results_of(state.seen_from(machine))
        if results.base is None or results.base.seconds is None:
            continue
        runs = sum(run.machine == machine and run.result is not None for run in state.results.runs)
        paces = () if APART_MARK in machine else paces_of(state, machine)
        is_here = machine == state.surroundings.machine
        found.append(
            Kind(
                machine=machine,
                label=label_of(state, machine),
                is_here=is_here,
                results=results,
                runs=runs,
                paces=paces,
                best=_best(results),
            )
        )

    return tuple(found)


def _best(results: Results) -> dict[str, tuple[Value, Figure | None]]:
    study = results.study
    base = results.base
    assert base is not None
    found: dict[str, tuple[Value, Figure | None]] = {}

    for key, values in study.space().items():
        if study.catalogue[key].changes_pixels:
            continue

        alone = [
            results.by_id[name]
            for value in values
            if (name := results.alone.get(key, {}).get(value)) is not None
        ]
        timed = [trial for trial in alone if trial.times]
        if not timed:
            continue

        fastest = min(
            timed, key=lambda trial: trial.seconds.value if trial.seconds is not None else 0.0
        )
        gain = factor(base.times, fastest.times, results.spread)
        faster = gain.value > 1 and is_difference(gain)
        slower = [factor(t.times, base.times, results.spread) for t in timed]

        if faster:
            found[key] = (fastest.configuration[key], gain)
        elif all(one.value > 1 and is_difference(one) for one in slower):
            found[key] = (study.base[key], None)
        else:
            found[key] = (study.base[key], Figure(1.0, 1.0, 1.0))

    return found


def frontier_of(results: Results) -> tuple[Configuration, ...]:
    """The base, the pick and the frontier: what is worth measuring on other machines."""
    pick = results.pick()
    picked = [pick.trial.configuration] if pick is not None else []
    return tuple(
        dict.fromkeys(
            [results.study.base, *picked, *(trial.configuration for trial in results.frontier())]
        )
    )


def best_words(results: Results, key: str, best: tuple[Value, Figure | None]) -> str:
    """The fastest value of a setting, for people."""
    value, gain = best
    shown = results.study.catalogue[key].show(value)
    if gain is None:
        return f"{shown}, the base's own"
    if gain.value == 1.0:
        return "no measurable difference"

    return f"{shown}, {gain.value:.2f} times faster"


def on_all(kinds: Sequence[Kind]) -> OnAll | None:
    """The trial that is acceptable on every kind and whose smallest factor is largest; None where
    there is none."""
    if len(kinds) < 2:
        return None

    acceptable = [
        {
            t.id: t
            for t in kind.results.trials
            if t.verdict == ACCEPTABLE and t.times_faster is not None
        }
        for kind in kinds
    ]
    shared = set(acceptable[0]).intersection(*acceptable[1:])

    def least(trial: str) -> float:
        return min(_faster(own[trial]).value for own in acceptable)

    if not shared:
        return None

    best = max(shared, key=lambda trial: (least(trial), trial))
    factors = {
        kind.machine: _faster(own[best]) for kind, own in zip(kinds, acceptable, strict=True)
    }
    return OnAll(best, acceptable[0][best].called(kinds[0].results.study.base), factors)


def _faster(trial: TrialResult) -> Figure:
    assert trial.times_faster is not None
    return trial.times_faster


HERE = "this computer"


def side_by_side(kinds: Sequence[Kind]) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    """The answer on each kind of machine as headings and rows: for the window and the report."""
    keys = list(dict.fromkeys(key for kind in kinds for key in kind.best))
    catalogue = kinds[0].results.study.catalogue
    rows = []

    for kind in kinds:
        pick = kind.results.pick()
        told = [
            best_words(kind.results, key, kind.best[key]) if key in kind.best else ""
            for key in keys
        ]
        name = f"{HERE}: {kind.label}" if kind.is_here else kind.label
        picked = "no pick yet"
        seconds = ""

        if pick is not None and pick.trial.seconds is not None:
            picked = pick.trial.called(kind.results.study.base)
            seconds = show_seconds(pick.trial.seconds.value)
            times = pick.trial.times_faster
            seconds += (
                f", {times.value:.2f} times as fast"
                if times is not None and not pick.trial.is_base
                else ""
            )

        rows.append((name, str(kind.runs), picked, seconds, *told))

    return (
        "Times of",
        "Runs",
        "Pick",
        "Time",
        *(f"Best {catalogue[key].label.lower()}" for key in keys),
    ), rows


def shared_sentences(kinds: Sequence[Kind]) -> list[str]:
    """What holds on all kinds, and whether machines of a kind keep one pace."""
    said = []
    shared = on_all(kinds)

    if shared is not None:
        each = ", ".join(f"{factor.value:.2f}" for factor in shared.factors.values())
        said.append(
            f"On all of them {shared.label} is acceptable: {each} times as fast as the base."
        )
    elif len(kinds) > 1:
        said.append("No trial is acceptable on all of them yet.")

    paces = [f"{pace.host or HERE} {pace.words}" for kind in kinds for pace in kind.paces]
    return [*said, *([f"Machines of one kind: {'; '.join(paces)}."] if paces else [])]


def kind_sentences(kinds: Sequence[Kind]) -> list[str]:
    """Machines side by side, for the terminal."""
    heads, rows = side_by_side(kinds)
    lines = []

    for name, runs, picked, seconds, *best in rows:
        lines.append(
            f"{name}, {runs} run{'s' if runs != '1' else ''}: "
            f"{picked}{f', {seconds}' if seconds else ''}"
        )
        lines += [
            f"  {head.lower()}: {words}"
            for head, words in zip(heads[4:], best, strict=True)
            if words
        ]

    return [*lines, *shared_sentences(kinds)]


def kinds_as_data(kinds: Sequence[Kind]) -> dict[str, Any]:
    """Machines side by side, for `--json`."""

    def one(kind: Kind) -> dict[str, Any]:
        pick = kind.results.pick()
        return {
            "machine": kind.machine,
            "label": kind.label,
            "is_this_computer": kind.is_here,
            "runs": kind.runs,
            "pick": dict(pick.trial.configuration.differences(kind.results.study.base))
            if pick is not None
            else None,
            "seconds": pick.trial.seconds.numbers
            if pick is not None and pick.trial.seconds is not None
            else None,
            "best": {key: value for key, (value, _) in kind.best.items()},
            "hosts": [
                {
                    "name": pace.host,
                    "runs": pace.runs,
                    "runs_of_base": pace.bases,
                    "times_as_fast": pace.against.numbers if pace.against is not None else None,
                    "verdict": pace.verdict,
                }
                for pace in kind.paces
            ],
        }

    shared = on_all(kinds)
    told = (
        None
        if shared is None
        else {name: figure.numbers for name, figure in shared.factors.items()}
    )
    return {"machines": [one(kind) for kind in kinds], "on_all": told}
