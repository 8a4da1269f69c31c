"""A stand-in for devices that this machine may not have: the same pixels, with the time of a
documented cost model.

The model and its parameters stand in accelerator.toml. Its times are simulated, and labelled so
wherever they are shown.
"""

import heapq
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from swift_sample.core.budget import MEBIBYTE
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.files import read_toml

PROCESSOR = "processor"
ACCELERATOR = "accelerator"
EVERYTHING = "both"
SHIPPED = Path(__file__).with_suffix(".toml")


class AcceleratorError(SwiftSampleError):
    """The accelerator's description is wrong, or the render does not fit into it."""


class Accelerator(BaseModel):
    """The parameters of the cost model; see accelerator.toml."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=False, allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=80)
    start_seconds: float = Field(ge=0, le=3600)
    launch_seconds: float = Field(ge=0, le=60)
    speed: float = Field(gt=0, le=1e6)
    half_pixels: float = Field(ge=0, le=1e9)
    memory_mebibytes: float = Field(gt=0, le=1e9)
    bytes_per_tile_pixel: float = Field(ge=0, le=1e9)

    def tile_seconds(self, pixels: int, thread_seconds: float) -> float:
        """What a tile takes that one processor thread needed `thread_seconds` for."""
        return self.launch_seconds + thread_seconds * (pixels + self.half_pixels) / (
            self.speed * max(pixels, 1)
        )

    def check_memory(self, held_bytes: int, tile_pixels: int) -> int:
        """Bytes that a render needs. Raises AcceleratorError where they do not fit."""
        needed = held_bytes + int(tile_pixels * self.bytes_per_tile_pixel)
        room = int(self.memory_mebibytes * MEBIBYTE)

        if needed > room:
            raise AcceleratorError(
                f"{self.name}: the render needs {needed / MEBIBYTE:.0f} MiB of its "
                f"{room / MEBIBYTE:.0f} MiB; use smaller tiles or textures, or "
                "device.kind=processor"
            )

        return needed


def own_description() -> Path:
    """Where a user's own description stands, if there is one."""
    return platformdirs.user_config_path("swift-sample") / SHIPPED.name


def read_accelerator(path: Path | None = None) -> Accelerator:
    """The description at `path`, else the user's own, else the shipped one. Raises
    AcceleratorError."""
    path = path or (own_description() if own_description().is_file() else SHIPPED)
    try:
        return Accelerator.model_validate(read_toml(path))
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise AcceleratorError(
            f"{path}: {where}: {first['msg']}; compare it with {SHIPPED}"
        ) from error
    except (OSError, ValueError) as error:
        raise AcceleratorError(
            f"{path}: not a readable description of an accelerator ({one_line(error)})"
        ) from error


@dataclass(frozen=True)
class Simulated:
    """Seconds after sampling began."""

    seconds: float
    first_tile: float
    processor_seconds: float
    """of the processor's threads together"""


def simulate(
    accelerator: Accelerator, rounds: list[tuple[np.ndarray, np.ndarray]], threads: int
) -> Simulated:
    """Let the accelerator, and `threads` processor threads beside it, take tiles in order, each
    when it is free.

    rounds: for each round the pixels of its tiles and what one thread needed for each, in seconds.
    All wait for the end of a round.
    """
    start = accelerator.start_seconds
    first = np.inf
    worked = 0.0
    clock = 0.0

    for pixels, seconds in rounds:
        # (free from, 0 for the accelerator or the number of the thread)
        free = [(max(clock, start), 0)] + [(clock, k + 1) for k in range(threads)]
        heapq.heapify(free)

        for count, spent in zip(pixels, seconds, strict=True):
            at, who = heapq.heappop(free)
            ends = at + (
                accelerator.tile_seconds(int(count), float(spent)) if who == 0 else float(spent)
            )
            worked += 0.0 if who == 0 else float(spent)
            first = min(first, ends)
            clock = max(clock, ends)
            heapq.heappush(free, (ends, who))

    return Simulated(clock, float(first) if np.isfinite(first) else clock, worked)
