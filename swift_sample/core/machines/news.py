"""What a fleet tells whoever drives it; known without the engine."""

from dataclasses import dataclass

from swift_sample.core.machines.messages import Card
from swift_sample.core.worker.link import Link


@dataclass(frozen=True)
class Joined:
    """A machine that has joined. `skew` is how many seconds its clock is ahead of this one."""

    link: Link
    card: Card
    skew: float


@dataclass(frozen=True)
class Heard:
    """Something about the meeting place, or a machine that is not used, in words; `is_lost` while
    nobody can be reached."""

    words: str
    is_lost: bool = False


News = Joined | Heard


def version_words(there: str, here: str) -> str:
    """Why a machine with this version of the renderer is not used; "" where it is the same as
    here."""
    if there == here:
        return ""
    return (
        f"its renderer is of version {there[:40]}, here it is {here[:40]}; results of different "
        "versions do not mix"
    )
