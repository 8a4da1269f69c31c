"""Where one render's time, samples and memory went, as rows that a page or a terminal can show."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from swift_sample.core.picture.colour import LUMINANCE
from swift_sample.core.renderers.records import PHASES, RunRecord
from swift_sample.core.study.events import Run
from swift_sample.core.study.results import TrialResult

MOST_ROWS = 12


@dataclass(frozen=True)
class Part:
    """A named share of a whole: seconds of time, or bytes of memory."""

    name: str
    amount: float
    share: float


@dataclass(frozen=True)
class Bounce:
    """What one bounce cost and brought. Bounce 0 is what the camera sees, with its light samples."""

    number: int
    rays: int
    seconds: float
    """of all threads together"""
    time_share: float
    light_share: float
    """of all light in the picture; may be 0 for a bounce that found none"""


def typical_run(trial: TrialResult) -> Run | None:
    """The run whose total lies in the middle of those that count."""
    own = [run for run in trial.runs if run.result is not None and run.number not in trial.left_out]
    return sorted(own, key=lambda run: run.result.seconds["total"] if run.result else 0.0)[len(own) // 2] if own else None


def phases_of(trial: TrialResult) -> list[Part]:
    """Medians of the phases, in the order in which they run."""
    return _parts({phase: trial.phases[phase].value for phase in PHASES if phase in trial.phases})


def bounces_of(result: RunRecord) -> list[Bounce]:
    """Time beside light for every bounce that had rays."""
    seconds = [sum(kinds.values()) for kinds in result.seconds_by_bounce]
    light = [float(sum(w * v for w, v in zip(LUMINANCE, colour, strict=True))) for colour in result.light_by_bounce]
    rays = result.rays.get("by_bounce")
    counts = [sum(kinds.values()) for kinds in rays] if isinstance(rays, list) else []
    rows = max(len(seconds), len(light), len(counts))
    seconds, light, counts = (values + [0] * (rows - len(values)) for values in (seconds, light, counts))
    time_total, light_total = sum(seconds) or 1.0, sum(light) or 1.0
    return [Bounce(k, int(counts[k]), seconds[k], seconds[k] / time_total, light[k] / light_total) for k in range(rows)]


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
    parts = sorted(_parts(amounts), key=lambda part: -part.amount)
    rest: Sequence[Part] = parts[MOST_ROWS:]
    if not rest:
        return parts
    return [*parts[:MOST_ROWS], Part(f"{len(rest)} others", sum(p.amount for p in rest), sum(p.share for p in rest))]


def _parts(amounts: Mapping[str, float]) -> list[Part]:
    total = sum(amounts.values()) or 1.0
    return [Part(name, amount, amount / total) for name, amount in amounts.items()]
