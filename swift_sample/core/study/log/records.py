"""Everything measured in one place, and how far references are; immutable."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import islice, takewhile
from typing import Any, TypeVar

from immutables import Map

from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.log.events import Measurement, Prediction, Run
from swift_sample.core.study.log.grown import Grown
from swift_sample.core.study.log.identity import MeasurementKey, chunk_of_seed

Held = TypeVar("Held")

MAX_FAILURES = 2
"""A trial that failed this often in a row is not tried again until measuring is asked for anew,"""
MAX_MACHINE_FAILURES = 3
"""and so is one in which the renderer was killed, or memory ran out, this often."""


def copied(record: Held, changes: Mapping[str, Any]) -> Held:
    """What `dataclasses.replace` does, five times as fast: replaying a log makes two copies an
    event."""
    kind: type[Any] = type(record)
    made = object.__new__(kind)
    kept = record.__dict__
    made.__dict__.update({name: kept[name] for name in kind.__dataclass_fields__}, **changes)

    return made


@dataclass(frozen=True, kw_only=True)
class ReferenceState:
    """How far a reference is: samples and chunks, its own grain in levels (None where the renderer
    cannot tell), the seconds spent on it, and the number in the log under which it last grew."""

    samples: int
    floor: float | None
    seconds: float
    chunks: int = 1
    number: int = 0
    digest: str = ""


@dataclass(frozen=True, kw_only=True)
class KeptRecording:
    """A chunk of a reference that was recorded, for these values of settings."""

    samples: int
    digest: str
    size_bytes: int
    made_for: Mapping[str, tuple[Value, ...]]
    work: tuple[tuple[Mapping[str, Value], float], ...] = ()


@dataclass(frozen=True)
class Proofs:
    """How many runs had, bit for bit, the picture that was derived for them, and how many had
    another one."""

    same: int = 0
    other: int = 0

    def after(self, is_same: bool) -> "Proofs":
        return Proofs(self.same + is_same, self.other + (not is_same))


NO_PROOFS = Proofs()


@dataclass(frozen=True)
class Chunk:
    """Samples of a reference, rendered by themselves in so many seconds, that are still to be
    merged."""

    samples: int
    seconds: float
    digest: str


@dataclass(frozen=True, kw_only=True)
class Records:
    """Everything measured in one place. Runs of all machines stand here; times of different ones
    are never put together."""

    trials: Map[str, tuple[Run, ...]] = field(default_factory=Map)
    """runs by trial, failed ones among them, in order"""
    blocks: Map[tuple[str, str], frozenset[int]] = field(default_factory=Map)
    """in which a trial's run worked, controls apart, by trial and machine"""
    runs: Grown[Run] = field(default_factory=Grown)
    controls: Map[tuple[str, int], int] = field(default_factory=Map)
    """how many were made, by machine and block"""
    hosts: Map[tuple[str, ...], int] = field(default_factory=Map)
    """how many runs worked on each of several machines of a kind, by machine and host, and by
    machine, host and trial"""
    pictures: Map[str, tuple[str, ...]] = field(default_factory=Map)
    """names of the pictures that are there, by appearance"""
    of_chunks: frozenset[str] = frozenset()
    """those of them that have the seed of a chunk of the reference: they hold the same samples, so
    they are never compared with it"""
    digests: Map[str, str] = field(default_factory=Map)
    """of pictures' files, by their names, as far as they were kept"""
    measurements: Map[MeasurementKey, Measurement] = field(default_factory=Map)
    chosen: tuple[Configuration, ...] = ()
    """what searches chose, in order"""
    predictions: Map[Configuration, Prediction] = field(default_factory=Map)
    """what searches expected of what they chose, before it was rendered"""
    concluded: str = ""
    """why a search expects nothing better; "" while it goes on"""
    forgiven: int = 0
    """failures up to this number of the log do not count any more"""

    def runs_on(self, trial: str, machine: str) -> tuple[Run, ...]:
        """The runs of a trial that worked on a machine."""
        return tuple(
            run
            for run in self.trials.get(trial, ())
            if run.result is not None and run.machine == machine
        )

    def made_on(self, machine: str, host: str, trial: str) -> tuple[int, int]:
        """How many runs worked on one machine of a kind, and how many of those were of this
        trial."""
        return self.hosts.get((machine, host), 0), self.hosts.get((machine, host, trial), 0)

    def blocks_done(self, trial: str, machine: str) -> frozenset[int]:
        """The blocks in which a trial's own run worked on a machine."""
        return self.blocks.get((trial, machine), frozenset())

    def failures(self, trial: str, machine: str, also_forgiven: bool = False) -> tuple[Run, ...]:
        """The failures of a trial on a machine since it last worked or was asked for, the latest
        first."""
        failed = []
        for run in reversed(self.trials.get(trial, ())):
            if run.machine != machine or run.lost or run.control:
                continue
            if run.result is not None or (run.number <= self.forgiven and not also_forgiven):
                break
            failed.append(run)

        return tuple(failed)

    def own_failures(self, trial: str, machine: str) -> tuple[Run, ...]:
        """All failures of a trial on a machine that were its own and not the machine's, whatever
        came after them."""
        runs = self.trials.get(trial, ())
        return tuple(
            run
            for run in runs
            if run.result is None and run.machine == machine and not (run.lost or run.by_machine)
        )

    def is_given_up(self, trial: str, machine: str) -> bool:
        """Whether a trial failed too often to be tried again by itself."""
        failed = self.failures(trial, machine)
        by_machine = sum(run.by_machine for run in failed)
        return len(failed) - by_machine >= MAX_FAILURES or by_machine >= MAX_MACHINE_FAILURES

    def runs_after(self, number: int, most: int) -> int:
        """How many runs worked after a number of the log, counted up to `most`."""
        later = takewhile(lambda run: run.number > number, reversed(self.runs))
        return sum(1 for _ in islice((run for run in later if run.result is not None), most))

    def controls_made(self, machine: str, block: int) -> int:
        """Controls of a block that worked or failed; one that failed is not made again."""
        return self.controls.get((machine, block), 0)


NO_RECORDS = Records()
NO_RUNS = {
    name: getattr(NO_RECORDS, name)
    for name in (
        "trials",
        "blocks",
        "runs",
        "controls",
        "hosts",
        "pictures",
        "of_chunks",
        "digests",
    )
}
"""What runs make of records, before there are any."""


def hosts_of(run: Run) -> tuple[tuple[str, ...], ...]:
    """Where in `Records.hosts` a run that worked counts."""
    if not run.host or run.result is None:
        return ()
    return (run.machine, run.host), (run.machine, run.host, run.trial)


class Gathered:
    """Records of one place that are being added to."""

    def __init__(self, before: Records) -> None:
        self._before = before
        self._blocks: dict[tuple[str, str], set[int]] = {}
        self._trials: dict[str, list[Run]] = {}
        self._runs: list[Run] = list(before.runs)
        self._hosts = dict(before.hosts)
        self._controls = dict(before.controls)
        self._pictures = dict(before.pictures)
        self._of_chunks = set(before.of_chunks)
        self._digests = dict(before.digests)
        self.measurements: dict[MeasurementKey, Measurement] = {}

    def add_run(self, run: Run) -> None:
        own = self._trials.get(run.trial)
        if own is None:
            own = self._trials[run.trial] = list(self._before.trials.get(run.trial, ()))

        own.append(run)
        self._runs.append(run)

        if run.control:
            key = (run.machine, run.block)
            self._controls[key] = self._controls.get(key, 0) + 1
        elif run.result is not None:
            trial = (run.trial, run.machine)
            blocks = self._blocks.get(trial)
            if blocks is None:
                blocks = self._blocks[trial] = set(self._before.blocks.get(trial, ()))
            blocks.add(run.block)

        for host in hosts_of(run):
            self._hosts[host] = self._hosts.get(host, 0) + 1

        if run.picture:
            known = self._pictures.get(run.appearance, ())
            if run.picture not in known:
                self._pictures[run.appearance] = (*known, run.picture)
            if chunk_of_seed(run.seed) is not None:
                self._of_chunks.add(run.picture)
            if run.digest:
                self._digests[run.picture] = run.digest

    def records(self) -> Records:
        before = self._before
        return copied(
            before,
            dict(
                blocks=before.blocks.update(
                    {trial: frozenset(blocks) for trial, blocks in self._blocks.items()}
                ),
                trials=before.trials.update(
                    {name: tuple(runs) for name, runs in self._trials.items()}
                ),
                runs=Grown(self._runs),
                controls=Map(self._controls),
                hosts=Map(self._hosts),
                pictures=Map(self._pictures),
                of_chunks=frozenset(self._of_chunks),
                digests=Map(self._digests),
                measurements=before.measurements.update(self.measurements),
            ),
        )
