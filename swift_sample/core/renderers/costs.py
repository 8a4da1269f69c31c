"""Where one render's time, samples and memory went by its record, as rows that a page or a terminal
can show. Whatever the renderer does not tell has no rows."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.renderers.records import RunRecord

MOST_ROWS = 12


@dataclass(frozen=True)
class Part:
    """A named share of a whole: seconds of time, or bytes of memory."""

    name: str
    amount: float
    share: float


@dataclass(frozen=True)
class Bounce:
    """What one bounce cost and brought. Bounce 0 is what the camera sees, with its light
    samples."""

    number: int
    rays: int
    seconds: float
    """of all threads together"""
    time_share: float
    light_share: float
    """of all light in the picture; may be 0 for a bounce that found none"""


def bounces_of(result: RunRecord) -> list[Bounce]:
    """Time beside light for every bounce that had rays."""
    seconds = [sum(kinds.values()) for kinds in result.seconds_by_bounce]
    light = [
        float(sum(w * v for w, v in zip(LUMINANCE, colour, strict=True)))
        for colour in result.light_by_bounce
    ]
    rays = result.rays.get("by_bounce")
    counts = [sum(kinds.values()) for kinds in rays] if isinstance(rays, list) else []
    rows = max(len(seconds), len(light), len(counts))
    seconds, light, counts = (
        values + [0] * (rows - len(values)) for values in (seconds, light, counts)
    )
    time_total = sum(seconds) or 1.0
    light_total = sum(light) or 1.0

    return [
        Bounce(k, int(counts[k]), seconds[k], seconds[k] / time_total, light[k] / light_total)
        for k in range(rows)
    ]


def materials_of(result: RunRecord) -> list[Part]:
    """Time by the material seen first, the costliest first."""
    return _ranked(result.seconds_by_material)


def objects_of(result: RunRecord) -> list[Part]:
    """Time by the object seen first, the costliest first."""
    return _ranked(result.seconds_by_object)


def memory_of(result: RunRecord) -> list[Part]:
    """Bytes by what holds them, the largest first."""
    return _ranked({name: float(size) for name, size in result.memory_bytes.items()})


def _ranked(amounts: Mapping[str, float]) -> list[Part]:
    parts = sorted(parts_of(amounts), key=lambda part: -part.amount)
    rest: Sequence[Part] = parts[MOST_ROWS:]
    if not rest:
        return parts

    return [
        *parts[:MOST_ROWS],
        Part(f"{len(rest)} others", sum(p.amount for p in rest), sum(p.share for p in rest)),
    ]


def parts_of(amounts: Mapping[str, float]) -> list[Part]:
    """Amounts with their shares of the whole."""
    total = sum(amounts.values()) or 1.0
    return [Part(name, amount, amount / total) for name, amount in amounts.items()]
