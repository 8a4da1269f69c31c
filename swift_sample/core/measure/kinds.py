"""Which errors of a picture are measured, by name and unit, and what a measured figure is;
figures.py computes them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace


@dataclass(frozen=True)
class Figure:
    """A measured value with its 95 % interval; of a worst place, with that place."""

    value: float
    low: float
    high: float
    place: tuple[int, int, int, int] | None = None
    """left, top, width and height in pixels of the picture"""

    @property
    def has_interval(self) -> bool:
        """Whether it is known how sure it is."""
        return self.low < self.high

    @property
    def numbers(self) -> list[float]:
        """For messages and storage: value, low, high, and the place where there is one."""
        return [self.value, self.low, self.high, *(self.place or ())]

    @staticmethod
    def of(numbers: Sequence[float]) -> "Figure":
        """From `numbers`. Raises ValueError for another count of them."""
        if len(numbers) not in (3, 7):
            raise ValueError(f"a figure has 3 or 7 numbers, not {len(numbers)}")

        value, low, high = (float(number) for number in numbers[:3])
        if len(numbers) == 3:
            return Figure(value, low, high)

        x, y, width, height = (int(number) for number in numbers[3:])
        return Figure(value, low, high, (x, y, width, height))


@dataclass(frozen=True)
class Kind:
    """One kind of image error as people read it."""

    key: str
    label: str
    unit: str
    higher_is_better: bool = False
    version: int = 1
    """Of the formula: raise it when figures change, and stored ones are measured again instead of
    being shown."""


GRAIN = Kind("grain", "grain", "levels", version=2)
LIGHT_SHIFT = Kind("light_shift", "light shift", "levels", version=3)
DETAIL_KEPT = Kind("detail_kept", "detail kept", "%", higher_is_better=True, version=2)
STRAY_PIXELS = Kind("stray_pixels", "stray pixels", "per million", version=3)
RMS = Kind("rms", "overall difference", "levels", version=2)
PSNR = Kind("psnr", "peak signal to noise", "dB", higher_is_better=True, version=2)
SSIM = Kind("ssim", "structural similarity", "", higher_is_better=True, version=2)
PERCEPTUAL = Kind("perceptual", "visible difference", "CIELAB units", version=2)
BRIGHTNESS = Kind("brightness", "brightness", "levels", version=3)
"""Signed: how much brighter the picture is than the reference on average. Told beside light shift,
never a limit."""


IN_WORST_PLACE = " in the worst place"


def in_worst_place(kind: Kind) -> Kind:
    """The same error in the worst place of the picture."""
    return replace(
        kind, key=f"{kind.key}{WORST_MARK}", label=kind.label + IN_WORST_PLACE, version=3
    )


WORST_MARK = "_worst"
"""Behind the key of a measure: in the worst place."""
WORST = {kind.key: in_worst_place(kind) for kind in (GRAIN, LIGHT_SHIFT, DETAIL_KEPT)}
"""By the measure whose worst place is sought."""

ALL = (
    GRAIN,
    LIGHT_SHIFT,
    DETAIL_KEPT,
    STRAY_PIXELS,
    RMS,
    PSNR,
    SSIM,
    PERCEPTUAL,
    BRIGHTNESS,
    *WORST.values(),
)


def place_words(place: Sequence[int], size: tuple[int, int]) -> str:
    """Where a rectangle lies in a picture of this size: "at the upper left", "in the middle"."""
    x, y = (place[k] + place[k + 2] / 2 for k in (0, 1))
    down = ("upper", "", "lower")[min(2, int(3 * y / size[1]))]
    across = ("left", "", "right")[min(2, int(3 * x / size[0]))]

    if not down and not across:
        return "in the middle"
    if not across:
        return "at the top" if down == "upper" else "at the bottom"

    return f"at the {f'{down} {across}'.strip()}"


KINDS = {kind.key: kind for kind in ALL}
AREA_KINDS = {key: kind for key, kind in KINDS.items() if not key.endswith(WORST_MARK)}
"""What is measured of a watch area, which is a place already."""


MEANINGS = {
    "grain": (
        "how far pixels scatter around their true value; one level is 1/255 of the display's range"
    ),
    "light_shift": "how much brighter or darker regions are than in the reference",
    "detail_kept": "how much of the fine structure of the reference is still there",
    "stray_pixels": "single pixels that stand out from all around them",
    "grain_worst": "grain where the picture is worst, in places an eighth of its height large",
    "light_shift_worst": "light shift where the picture is worst",
    "detail_kept_worst": "detail kept where the picture is worst",
    "rms": "the root of the mean square difference from the reference",
    "perceptual": "how large differences look, seen from where single pixels are just told apart",
    "seconds": "how long a render takes",
    "first_picture": "how long it takes until anything is visible",
    "memory": "the most memory that a render takes",
    "file": "how large the finished file is",
}
"""What measures and costs mean, in words for a person."""
