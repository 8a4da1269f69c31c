"""Who works for a study: this computer's own worker, or the machines that have joined; and whether
their pixels agree.

A machine of the fleet is used once it has shown that it renders the same: one tile, the base at a
few pixels, rendered on each and compared with this computer's own.
"""

import hashlib
import shutil
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from swift_sample.core.machine import Machine
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.settings.setting import SAMPLES
from swift_sample.core.study.log.identity import Identity, machine_identity
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.measuring.steps import Step
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.link import Link
from swift_sample.core.worker.messages import RenderJob

if TYPE_CHECKING:
    from swift_sample.core.machines.messages import Card

TILE_WIDTH, TILE_SAMPLES, TILE_SEED = 48, 4, 1
SAME_LEVELS = 0.5
SAME_SHARE = 0.01
"""A machine renders the same where no more than this share of the tile's values differs by more
than so many levels: other processors may round the last bit otherwise, which sends a path in many
thousands elsewhere."""
MOST_SKEW = 5.0
"""Seconds that a machine's clock may be wrong without being told."""
RESTS = (2.0, 5.0, 15.0, 60.0)
"""Seconds for which a machine that could not work is left alone, each time longer."""

STARTING = "starting"
CHECKING = "checking"
READY = "ready"


@dataclass(eq=False, kw_only=True)
class Seat:
    """One that works. `host` is "" for this computer's own worker; `machine` is the name of its
    kind."""

    link: Link | None
    machine: Identity
    software: str
    host: str = ""
    computer: str = ""
    processors: frozenset[int] = frozenset()
    stage: str = STARTING
    is_asked: bool = False
    """whether it has a job in hand, of a step or to begin with"""
    step: Step | None = None
    content: SceneContent | None = None
    """of the scene when the step began"""
    heard: float = 0.0
    rests_until: float = 0.0
    held: int = 0
    """how often in a row it could not work"""
    doing: str = ""
    worked_at: float = 0.0
    """when its last job ended"""
    runs: int = 0
    """that worked there since it joined"""
    said: list[str] = field(default_factory=list)
    """its last words"""

    def is_free(self, now: float) -> bool:
        """Whether it may be given a step."""
        return self.stage == READY and not self.is_asked and now >= self.rests_until

    @property
    def parts(self) -> Iterable[tuple[str, int]]:
        """The processors that it works with, of which computer: no two work with the same at
        once."""
        return ((self.computer, number) for number in self.processors)

    @property
    def state_words(self) -> str:
        """What it does, for people."""
        if self.stage == STARTING:
            return "starting the renderer"
        if self.stage == CHECKING:
            return "checked: does it render the same?"

        return self.doing or ("left alone for a moment" if self.held else "nothing to do")

    @property
    def last_words(self) -> str:
        return self.said[-1] if self.said else ""


def own_seat(machine: Machine) -> Seat:
    """This computer's own worker, before it is started."""
    return Seat(link=None, machine=machine_identity(machine), software=machine.versions)


def joined_seat(link: Link, card: "Card") -> Seat:
    """A machine that has joined; its name is kept with every run."""
    name = "".join(
        letter if letter.isprintable() and letter != "@" else "-" for letter in card.name
    )[:40]
    return Seat(
        link=link,
        machine=Identity("machine", card.hardware),
        software=card.software,
        host=name or "machine",
        computer=card.computer,
        processors=frozenset(card.processors),
    )


class Roster:
    """The machines that have joined, and which of them may be given something: asking it takes time
    that does not grow with their number."""

    def __init__(self) -> None:
        self._by_link: dict[Link, Seat] = {}
        self._unasked: set[Seat] = set()
        self._taken: set[tuple[str, int]] = set()

    def __iter__(self) -> Iterator[Seat]:
        return iter(self._by_link.values())

    def __len__(self) -> int:
        return len(self._by_link)

    def of(self, link: Link) -> Seat | None:
        return self._by_link.get(link)

    def add(self, seat: Seat) -> None:
        assert seat.link is not None
        self._by_link[seat.link] = seat
        self._unasked.add(seat)

    def remove(self, seat: Seat) -> None:
        if seat.link is not None:
            self._by_link.pop(seat.link, None)
        self._unasked.discard(seat)
        self._taken.difference_update(seat.parts if seat.is_asked else ())

    def asked(self, seat: Seat) -> None:
        """It has a job in hand now."""
        if seat in self._unasked:
            self._unasked.discard(seat)
            self._taken.update(seat.parts)

    def answered(self, seat: Seat) -> None:
        """It has none any more."""
        if seat.link in self._by_link:
            self._unasked.add(seat)
            self._taken.difference_update(seat.parts)

    def waiting(self, now: float) -> list[Seat]:
        """Those that have nothing in hand and are not left alone, the one that waits longest
        first."""
        return sorted(
            (seat for seat in self._unasked if now >= seat.rests_until),
            key=lambda seat: seat.worked_at,
        )

    def may_work(self, seat: Seat) -> bool:
        """Whether no other works with a processor of its."""
        return self._taken.isdisjoint(seat.parts)


class Tile:
    """What every machine renders first: the base at a few pixels, in pictures that go when
    measuring ends."""

    def __init__(self, plan: Study, folder: Path) -> None:
        self._view = plan.view
        self._folder = folder / ".tiles"
        self.spec = tile_spec(plan)
        self._folder.mkdir(exist_ok=True)
        self.is_there = False
        """whether this computer has rendered it"""

    def job(self, host: str) -> RenderJob:
        """What a machine is asked, "" for this computer."""
        return RenderJob(spec=self.spec, picture=str(self._path(host)))

    def difference(self, host: str) -> str:
        """What is wrong with a machine's tile, in words; "" where it is the same as here. Raises
        PictureError."""
        return tile_difference(self._path(""), self._path(host), self._view)

    def remove(self) -> None:
        shutil.rmtree(self._folder, ignore_errors=True)

    def _path(self, host: str) -> Path:
        return self._folder / f"{hashlib.sha256(host.encode()).hexdigest()[:12]}.exr"


def tile_spec(plan: Study) -> RenderSpec:
    """The base at a few pixels."""
    width, height = plan.size
    size = (min(width, TILE_WIDTH), max(1, round(height * min(width, TILE_WIDTH) / width)))
    counted = plan.catalogue.with_role(SAMPLES)
    base = (
        plan.base.replace({counted.key: counted.check(TILE_SAMPLES)})
        if counted is not None
        else plan.base
    )

    return spec_of(plan, base, TILE_SEED).model_copy(update={"size": size})


def tile_difference(own: Path, other: Path, view: View) -> str:
    """What is wrong with another machine's tile, in words; "" where it is the same. Raises
    PictureError."""
    a = read_exr(own).beauty
    b = read_exr(other).beauty
    if a.shape != b.shape:
        return (
            f"it renders a tile of {b.shape[1]}x{b.shape[0]} pixels where "
            f"{a.shape[1]}x{a.shape[0]} were asked for"
        )
    if np.array_equal(a, b):
        return ""

    off = np.abs(view.levels(a) - view.levels(b))
    share = float((off > SAME_LEVELS).mean()) if np.isfinite(b).all() else 1.0
    if share <= SAME_SHARE:
        return ""

    return (
        f"it renders other pixels: {share:.0%} of a tile that is rendered on every machine differ, "
        f"by up to {float(np.nanmax(off)):.0f} levels; its pictures would not mix with the others"
    )


def skew_words(name: str, skew: float) -> str:
    """That a machine's clock is wrong; "" where it is not by much."""
    if abs(skew) <= MOST_SKEW:
        return ""

    large = (
        (size, unit)
        for size, unit in ((3600, "h"), (60, "min"))
        if round(60 * abs(skew) / size) >= 120
    )
    size, unit = next(large, (1, "s"))
    how = f"{abs(skew) / size:.0f} {unit} {'ahead' if skew > 0 else 'behind'}"

    return f"{name}: its clock is {how}; runs are dated by this computer's clock"
