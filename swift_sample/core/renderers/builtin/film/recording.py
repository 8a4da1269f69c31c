"""What a recording keeps: the sums of every film whose picture can be derived from it.

A *path end* says how often paths may scatter, a *clamp* what limits one sample. A recording adds up
a film for each end with each clamp (kernels/recording.py), and keeps all of them whenever pixels
have one of the numbers of samples that its plan names.
"""

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from swift_sample.core.renderers.builtin.film.rounds import Schedule
from swift_sample.core.renderers.builtin.lowlevel.records import END_FIELDS, GUIDES
from swift_sample.core.settings import Configuration, Derivation, Value

SCATTERINGS = ("diffuse", "glossy", "transmission", "volume")
"""Ways of scattering that have a cap each, in the order of their counts in kernels."""

OPEN_CAP = 64
"""A cap that no path comes to."""

MOST_CAP = 127
"""The largest that a count of 7 bits can be compared with."""

MOST_ENDS = 32
"""Each costs about a hundredth of the recording's time, and 24 bytes for a pixel and a number of
samples."""

MOST_CLAMPS = 32
"""A bit of 32 says for each clamp whether it has acted."""


@dataclass(frozen=True, kw_only=True)
class PathEnd:
    """How paths end: caps on all scatterings and on those of each kind, and whether there is
    bounced light."""

    total: int
    diffuse: int = OPEN_CAP
    glossy: int = OPEN_CAP
    transmission: int = OPEN_CAP
    volume: int = OPEN_CAP
    indirect: bool = True

    @classmethod
    def of(cls, configuration: Configuration) -> "PathEnd":
        caps = {kind: int(configuration[f"bounces.{kind}"]) for kind in SCATTERINGS}
        total = int(configuration["bounces.total"])
        indirect = bool(configuration["light.indirect"])

        return cls(total=total, indirect=indirect, **caps)

    def row(self) -> list[int]:
        """As kernels read it, a row of `path_ends`."""
        caps = [min(getattr(self, kind), MOST_CAP) for kind in SCATTERINGS]
        packed = sum(cap << (8 * k) for k, cap in enumerate(caps))
        capped = any(cap < OPEN_CAP for cap in caps)

        return [self.total, packed, int(self.indirect), int(capped)]


@dataclass(frozen=True, kw_only=True)
class Clamp:
    """Most light of one sample, direct and indirect; 0 for no limit."""

    direct: float = 0.0
    indirect: float = 0.0

    @classmethod
    def of(cls, configuration: Configuration) -> "Clamp":
        # Kernels compare in single precision, in which the value is kept and found again.
        direct = float(np.float32(configuration["light.clamp_direct"]))
        indirect = float(np.float32(configuration["light.clamp_indirect"]))

        return cls(direct=direct, indirect=indirect)

    @property
    def acts(self) -> bool:
        return self.direct > 0 or self.indirect > 0


@dataclass(frozen=True, kw_only=True)
class RecordingPlan:
    """What is recorded: every end with every clamp, at every number of samples. The first end is
    the one of the recording's own film; `clamps` are those that act."""

    ends: tuple[PathEnd, ...]
    clamps: tuple[Clamp, ...]
    counts: tuple[int, ...]

    @classmethod
    def for_values(
        cls, own: Configuration, base: Configuration, values: Mapping[str, Sequence[Value]]
    ) -> "RecordingPlan":
        """The plan that holds every combination of these values over `base`, as far as the
        recording with the configuration `own` reaches.

        Ends, clamps and numbers of samples are combined with one another in any case. Where the
        values of those that end paths have too many combinations, they stand alone.
        """

        def those_that(*kinds: Derivation) -> dict[str, Sequence[Value]]:
            return {k: each for k, each in values.items() if base.catalogue[k].derived in kinds}

        wanted = [base]
        ends = those_that(Derivation.PATH)
        if math.prod(map(len, ends.values())) <= MOST_ENDS:
            wanted.extend(configurations_of(base, ends))
        else:
            for key, each in ends.items():
                wanted.extend(configurations_of(base, {key: each}))

        wanted.extend(configurations_of(base, those_that(Derivation.SAMPLE)))
        numbers = those_that(Derivation.SAMPLES, Derivation.STOPS)
        wanted.extend(configurations_of(base, numbers))

        return cls.of(own, wanted)

    @classmethod
    def of(cls, own: Configuration, wanted: Iterable[Configuration]) -> "RecordingPlan":
        """The plan that holds the pictures of all `wanted` configurations, as far as the recording
        with the configuration `own` reaches."""
        ends = [PathEnd.of(own)]
        clamps: list[Clamp] = []
        counts = {int(own["samples.max"])}

        for one in wanted:
            ends.append(PathEnd.of(one))
            clamps.append(Clamp.of(one))
            counts.update(Schedule.of(one).targets())

        most = int(own["samples.max"])
        acting = dict.fromkeys(clamp for clamp in clamps if clamp.acts)
        return cls(
            ends=tuple(dict.fromkeys(ends)),
            clamps=tuple(acting)[:MOST_CLAMPS],
            counts=tuple(sorted(count for count in counts if count <= most)),
        )

    def holds(self, configuration: Configuration) -> bool:
        """Whether the film of a configuration is among those that are kept."""
        clamp = Clamp.of(configuration)
        return (
            PathEnd.of(configuration) in self.ends
            and (not clamp.acts or clamp in self.clamps)
            and set(Schedule.of(configuration).targets()) <= set(self.counts)
        )

    def memory_a_pixel(self) -> int:
        """Bytes of `RecordedSums` for a pixel."""
        end = 24 * (1 + len(self.clamps)) + 2 * GUIDES * 4 + 4 + 1 + 8
        return len(self.ends) * end

    def bytes_a_pixel(self) -> int:
        """An upper bound of what is kept of a pixel, where every clamp acts and no guides are
        shared."""
        films = len(self.ends) * (1 + len(self.clamps))
        guides = 2 * GUIDES * 4 * (1 + len(self.ends))
        cycles = 4 * len(self.ends)

        return len(self.counts) * (24 * films + guides + cycles)


def configurations_of(
    base: Configuration, values: Mapping[str, Sequence[Value]]
) -> Iterator[Configuration]:
    """Every combination of these values of settings over a base."""
    keys = list(values)
    for combination in product(*values.values()):
        yield base.replace(dict(zip(keys, combination, strict=True)))


class RecordedSums:
    """The sums of all films so far, as kernels add to them; h rows and w columns."""

    def __init__(self, plan: RecordingPlan, height: int, width: int) -> None:
        self.plan = plan
        films = (height, width, len(plan.ends))

        self.sums = np.zeros((*films, 2, 3), np.float32)
        """radiance of the samples of both halves"""
        self.splits = np.zeros(films, np.uint32)
        """a bit for each clamp that has acted on the pixel"""
        self.clamp_sums = np.zeros((*films, len(plan.clamps), 2, 3), np.float32)
        """the same sums with each clamp, where it has acted"""
        self.guides = np.zeros((*films, 2 * GUIDES), np.float32)
        """guides of all samples, and of the second half, where they are not those of the own
        film"""
        self.guided = np.zeros(films, np.uint8)
        """1 where they are not"""
        self.cycles = np.zeros(films, np.uint64)
        """processor cycles up to where paths of this end would have ended"""

    def arrays(self) -> dict[str, np.ndarray]:
        """The arrays by the names of the fields that lead kernels to them."""
        ends = np.array([end.row() for end in self.plan.ends], np.int32)
        assert ends.shape[1] == END_FIELDS
        pairs = [(clamp.direct, clamp.indirect) for clamp in self.plan.clamps]

        return {
            "path_ends": ends,
            "clamps": np.array(pairs, np.float32).reshape(-1, 2),
            "end_sums": self.sums,
            "end_splits": self.splits,
            "clamp_sums": self.clamp_sums,
            "end_guides": self.guides,
            "end_guided": self.guided,
            "end_cycles": self.cycles,
        }
