"""A machine that something is wrong with: `python -m tests.core.machines.odd_machine ODDITY ADDRESS
NAME PROCESSORS KEYS`. It joins as any other does; what is odd is put into its own process, and its
renderer's."""

import json
import os
import sys
import time
from pathlib import Path

from swift_sample.core.machines import agent, serving
from swift_sample.core.machines.content import Content
from swift_sample.core.renderers.registry import RENDERERS
from swift_sample.core.study.measuring.crew import TILE_SEED
from tests.core.machines.meeting import HELD
from tests.core.renderers.known import KNOWN, SEEDED, KnownRenderer

SLOWNESS = "SWIFT_SAMPLE_TEST_SLOWNESS"
CLOCK_AHEAD = 7200.0


def _other_version() -> None:
    KnownRenderer.version = "2"


def _full_disk() -> None:
    def refuse(self: Content, *_: object) -> bool:
        raise OSError(28, f"the disk of {self.folder} is full")

    Content.add_piece = refuse  # type: ignore[method-assign]
    Content.tree = refuse  # type: ignore[assignment, method-assign]
    Content.path = refuse  # type: ignore[assignment, method-assign]


def _liar() -> None:
    """Its pictures are a little brighter than they should be."""
    from swift_sample.core.picture.exr import read_exr, write_exr
    from swift_sample.core.picture.stored import digest_of_picture

    attend = agent.Agent._work

    def work(self, order, names, tell):  # type: ignore[no-untyped-def]
        outcome = attend(self, order, names, tell)
        for output in order.outputs:
            path = Path(names[output])
            if path.is_file():
                picture = read_exr(path)
                picture.beauty *= 1.1
                write_exr(path, picture)
                outcome = outcome.model_copy(update={"digest": digest_of_picture(path)})

        return outcome

    agent.Agent._work = work  # type: ignore[method-assign]


def _forgetful() -> None:
    """Whatever travelled there is gone when it is needed, the first time."""
    has = Content.has
    forgot = set()

    def deny(self: Content, digest: str) -> bool:
        if digest not in forgot and has(self, digest):
            forgot.add(digest)
            self.path(digest).unlink()
        return has(self, digest)

    Content.has = deny  # type: ignore[method-assign]


def _wait_while_held() -> None:
    """No run is begun while the file is there; the tile that machines agree on and the reference
    are."""
    attend = agent.Agent._work
    held = Path(os.environ.get(HELD, ""))

    def work(self, order, names, tell):  # type: ignore[no-untyped-def]
        job = json.loads(order.job)
        is_a_run = job["kind"] == "render" and job["spec"]["seed"] != TILE_SEED
        while (
            is_a_run and held.is_file() and not self._has_ended and self._doing not in self._halted
        ):
            time.sleep(0.01)

        return attend(self, order, names, tell)

    agent.Agent._work = work  # type: ignore[method-assign]


ODDITIES = {
    "none": lambda: None,
    "version": _other_version,
    "disk": _full_disk,
    "clock": lambda: setattr(agent, "now", lambda: time.time() + CLOCK_AHEAD),
    "slow": lambda: os.environ.__setitem__(SLOWNESS, "10"),
    "liar": _liar,
    "forgetful": _forgetful,
}

if __name__ == "__main__":
    oddity, address, name, processors, keys = sys.argv[1:6]
    RENDERERS.update(known=lambda: KNOWN, seeded=lambda: SEEDED)
    ODDITIES[oddity]()
    _wait_while_held()
    numbers = [int(number) for number in processors.split(",") if number]
    serving.join(
        address,
        name,
        Path(keys) if keys else None,
        True,
        numbers,
        lambda words: print(words, flush=True),
    )
