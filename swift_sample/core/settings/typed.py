"""Values as they are typed: several at once, or as a progression."""

import math
import re

from swift_sample.core.errors import UsageError
from swift_sample.core.settings.setting import Setting, Value

MOST_TYPED = 64
"""Values of one setting that are taken without being asked for again."""


class ManyValuesError(UsageError):
    """A progression makes `count` values, more than are taken without being asked for again."""

    def __init__(self, text: str, count: int) -> None:
        super().__init__(f"{text}: makes {count:,} values; use a larger step")
        self.count = count


def read_values(declared: Setting, text: str, most: int = MOST_TYPED) -> tuple[Value, ...]:
    """Typed values: `1 2 4 8`, or `16..256 x2` for doubling, or `0.2..1 +0.2` for steps.

    Raises UsageError with what was expected; ManyValuesError for a progression of more than `most`
    values.
    """
    text = text.strip()
    progression = re.fullmatch(r"(\S+?)\s*\.\.\s*(\S+?)\s*([x+])\s*(\S+)", text)

    if progression is None:
        words = [word for word in re.split(r"[\s,;]+", text) if word]
        return tuple(dict.fromkeys(declared.parse(_plain(word)) for word in words))

    try:
        first, last, step = (float(progression[k]) for k in (1, 2, 4))
    except ValueError:
        raise UsageError(f"{text}: expected numbers, for example 16..256 x2") from None

    grows = step > 1 if progression[3] == "x" else step > 0
    if not (grows and first <= last and (progression[3] == "+" or first > 0)):
        raise UsageError(f"{text}: expected growing numbers, for example 16..256 x2 or 0.2..1 +0.2")

    count = (
        1
        + (
            math.log(last / first) / math.log(step)
            if progression[3] == "x"
            else (last - first) / step
        )
        + 1e-9
    )
    if count >= most + 1:
        raise ManyValuesError(text, int(count))

    values: list[Value] = []
    current = first

    while current <= last * (1 + 1e-9):
        values.append(declared.check(round(current, 9)))
        current = current * step if progression[3] == "x" else current + step

    return tuple(values)


def _plain(word: str) -> str:
    return {"yes": "true", "no": "false", "on": "true", "off": "0", "auto": "0"}.get(
        word.lower(), word
    )
