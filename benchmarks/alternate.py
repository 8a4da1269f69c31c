"""Alternating repeats: what a noisy machine needs for ratios that hold."""

import gc
import statistics
from collections.abc import Callable, Mapping

REPEATS = 5


def alternate(
    measures: Mapping[str, Callable[[], float]], repeats: int = REPEATS
) -> dict[str, list[float]]:
    """Call each measure in turn, round after round; the first round is not counted."""
    found: dict[str, list[float]] = {name: [] for name in measures}
    for round_number in range(repeats + 1):
        for name, measure in measures.items():
            gc.collect()
            value = measure()
            if round_number:
                found[name].append(value)

    return found


def ratio(found: Mapping[str, list[float]], above: str, below: str) -> tuple[float, float, float]:
    """Median, least and most of the ratio, round by round."""
    ratios = [a / b for a, b in zip(found[above], found[below], strict=True)]
    return statistics.median(ratios), min(ratios), max(ratios)


def show(text: str, value: tuple[float, float, float], reach: str) -> None:
    """Print one line of a table."""
    print(f"  {text:58s} {value[0]:6.2f}  ({value[1]:.2f} to {value[2]:.2f})   reach {reach}")
