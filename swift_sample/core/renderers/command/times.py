"""What a program tells of its times, by its output lines or a JSON file that it leaves."""

import json
from collections.abc import Callable
from pathlib import Path

import regex

from swift_sample.core.files import read_text
from swift_sample.core.renderers.command.description import RendererFile
from swift_sample.core.renderers.records import PHASES

MATCH_SECONDS = 0.02
"""That a pattern may look at one line; one that takes longer is not asked again."""


class Told:
    """Hears a program's lines as they arrive."""

    def __init__(self, described: RendererFile, progress: Callable[[float], None]) -> None:
        self._patterns = {
            name: regex.compile(pattern) for name, pattern in described.patterns.items()
        }
        self._progress = progress
        self._tells_first = described.times.first_picture is not None
        self._phases = [phase.name for phase in described.times.phases]
        self.ends: dict[str, float] = {}
        self.first_picture: float | None = None
        self.notes: list[str] = []

    def hear(self, at: float, line: str) -> None:
        """One line, and the seconds since the program began."""
        for name in list(self._patterns):
            try:
                found = self._patterns[name].search(line, timeout=MATCH_SECONDS)
            except TimeoutError:
                del self._patterns[name]
                self.notes.append(
                    f"times.{name}: the pattern takes too long to look for and was given up"
                )
                continue

            if found is None:
                continue

            if name == "progress":
                self._tell(found)
            elif name == "first_picture":
                self.first_picture = at if self.first_picture is None else self.first_picture
            else:
                self.ends.setdefault(name.removeprefix("phase "), at)

    def _tell(self, found: "regex.Match[str]") -> None:
        try:
            share = float(found[1].replace(",", ".")) / 100
        except (IndexError, ValueError, AttributeError):
            return

        self._progress(min(max(share, 0.0), 1.0))

    def seconds(self, total: float, report: Path | None) -> dict[str, float]:
        """By phase, with `total`, and `first_picture` where it is told. What is not told is left
        out."""
        found: dict[str, float] = {}
        last = 0.0

        for name in self._phases:
            if name in self.ends:
                found[name] = max(0.0, self.ends[name] - last)
                last = max(last, self.ends[name])

        if self._tells_first:
            if self.first_picture is None:
                self.notes.append(
                    "no line told when there was a first picture; it counts as the end"
                )
            found["first_picture"] = total if self.first_picture is None else self.first_picture

        if report is not None:
            found |= self._reported(report)

        known = {name: seconds for name, seconds in found.items() if name != "first_picture"}
        if known and sum(known.values()) > total * 1.05 + 0.05:
            self.notes.append(
                "its phases add up to more than the whole render, so they are left out"
            )
            found = {name: seconds for name, seconds in found.items() if name == "first_picture"}

        return {**found, "total": total}

    def _reported(self, report: Path) -> dict[str, float]:
        try:
            told = json.loads(read_text(report))
        except (OSError, ValueError, RecursionError):
            self.notes.append(f"{report.name}: there is no such JSON file that tells its times")
            return {}

        numbers = told.items() if isinstance(told, dict) else ()
        return {
            name: float(value)
            for name, value in numbers
            if name in PHASES and isinstance(value, int | float) and 0 <= value < 1e7
        }
