"""What a fleet tells whoever drives it; known without the engine."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from swift_sample.core.machines.messages import Card

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import RemoteLink


@dataclass(frozen=True)
class Joined:
    """A machine that has joined. `skew` is how many seconds its clock is ahead of this one."""

    link: "RemoteLink"
    card: Card
    skew: float


@dataclass(frozen=True)
class Heard:
    """Something about the meeting place, or a machine that is not used, in words; `is_lost` while nobody can be reached."""

    words: str
    is_lost: bool = False


News = Joined | Heard
