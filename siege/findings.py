"""What a part of the siege tried and found."""

import json
import sys
import time
from collections import Counter
from dataclasses import dataclass, field

MOST_SHOWN = 20


@dataclass(kw_only=True)
class Findings:
    """Counts of what was tried, by kind; figures worth telling; and every fault, in words."""

    part: str
    seconds: float
    """how long it may go on"""
    tried: Counter[str] = field(default_factory=Counter)
    figures: dict[str, str] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)
    began: float = field(default_factory=time.monotonic)

    @property
    def share(self) -> float:
        """Of the time that there is, how much is spent."""
        return (time.monotonic() - self.began) / self.seconds

    @property
    def time_is_up(self) -> bool:
        return self.share >= 1

    def fault(self, words: str) -> None:
        print(f"{self.part}: FAULT: {words}", file=sys.stderr, flush=True)
        self.faults.append(words)

    def tell(self) -> int:
        """Print it as one JSON object; returns the exit status."""
        print(
            json.dumps(
                {
                    "part": self.part,
                    "seconds": round(time.monotonic() - self.began),
                    "tried": dict(self.tried),
                    "figures": self.figures,
                    "faults": self.faults[:MOST_SHOWN],
                    "fault_count": len(self.faults),
                }
            )
        )
        return 1 if self.faults else 0
