"""A recording as one file: a zip of NumPy arrays, a few for each number of samples, and a header.

The sums of a film with a clamp, and the guides of an end, stand there only for pixels where they
differ from what they began as. It is a cache: whatever is wrong with it, it can be made again from
its seed.
"""

import io
import json
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any, Self

import numpy as np

from swift_sample.core.errors import UnfitPictureError
from swift_sample.core.files import written_whole
from swift_sample.core.renderers.builtin.film.derived import Sums
from swift_sample.core.renderers.builtin.film.film import FilmArrays
from swift_sample.core.renderers.builtin.film.recording import (
    Clamp,
    PathEnd,
    RecordedSums,
    RecordingPlan,
)
from swift_sample.core.renderers.builtin.lowlevel.records import GUIDES

FORMAT = 1
"""Raised whenever older files can no longer be read."""

HEADER = "recording.json"


class RecordingWriter:
    """Writes a recording while its samples are taken."""

    def __init__(self, path: Path, plan: RecordingPlan) -> None:
        self._zip = zipfile.ZipFile(path, "w", zipfile.ZIP_STORED, allowZip64=True)
        self._plan = plan

    @classmethod
    @contextmanager
    def at(cls, path: Path, plan: RecordingPlan) -> "Iterator[Self]":
        """A recording that stands at `path` once the block has ended well. Raises OSError."""
        with written_whole(path) as temporary:
            writer = cls(temporary, plan)
            try:
                yield writer
            finally:
                writer._zip.close()

    def keep(self, count: int, recorded: RecordedSums, own: FilmArrays) -> None:
        """Keep all films as they are when every pixel has `count` samples."""
        self._put(f"{count}/guides", own.guides)
        self._put(f"{count}/guides_half", own.guides_half)

        for e in range(len(self._plan.ends)):
            sums = recorded.sums[:, :, e]
            self._put(f"{count}/{e}/sums", np.moveaxis(sums, 2, 0))
            self._put(f"{count}/{e}/cycles", recorded.cycles[:, :, e].astype(np.float32))

            guided = np.flatnonzero(recorded.guided[:, :, e])
            self._put(f"{count}/{e}/guided", guided.astype(np.int32))
            self._put(
                f"{count}/{e}/guides", recorded.guides[:, :, e].reshape(-1, 2 * GUIDES)[guided]
            )

            for k in range(len(self._plan.clamps)):
                split = (recorded.splits[:, :, e] >> np.uint32(k)) & np.uint32(1)
                clamped = np.flatnonzero(split)
                own_sums = recorded.clamp_sums[:, :, e, k].reshape(-1, 2, 3)
                self._put(f"{count}/{e}/clamped-{k}", clamped.astype(np.int32))
                self._put(f"{count}/{e}/clamp-sums-{k}", own_sums[clamped])

    def finish(self, own: FilmArrays, facts: dict[str, Any]) -> None:
        """Write what holds for the whole recording; `facts` are kept as they are."""
        self._put("material", own.material)
        self._put("object", own.object)
        header = {"format": FORMAT, "plan": asdict(self._plan), "facts": facts}
        self._zip.writestr(HEADER, json.dumps(header))

    def _put(self, name: str, array: np.ndarray) -> None:
        with self._zip.open(f"{name}.npy", "w", force_zip64=True) as member:
            np.lib.format.write_array(member, np.ascontiguousarray(array), allow_pickle=False)


class RecordingFile:
    """A recording that was made, read as far as it is asked for; closed by `close`, or at the end
    of a `with` block.

    Raises UnfitPictureError, there and in `sums`, where the file is missing, damaged, or of another
    version.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        with self._telling_faults():
            self._zip = zipfile.ZipFile(path)
            header = json.loads(self._zip.read(HEADER))
            if header["format"] != FORMAT:
                raise UnfitPictureError(path, "is of another version of the program")

            plan = header["plan"]
            self.plan = RecordingPlan(
                ends=tuple(PathEnd(**end) for end in plan["ends"]),
                clamps=tuple(Clamp(**clamp) for clamp in plan["clamps"]),
                counts=tuple(plan["counts"]),
            )
            self.facts: dict[str, Any] = header["facts"]
            self.material = self._get("material")
            self.object = self._get("object")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        self._zip.close()

    def sums(self, count: int, end: PathEnd, clamp: Clamp) -> Sums:
        """The sums of one film at one number of samples; all three are in the plan."""
        e = self.plan.ends.index(end)

        with self._telling_faults():
            halves = self._get(f"{count}/{e}/sums")
            if clamp.acts:
                k = self.plan.clamps.index(clamp)
                clamped = self._get(f"{count}/{e}/clamped-{k}")
                halves.reshape(2, -1, 3)[:, clamped] = np.moveaxis(
                    self._get(f"{count}/{e}/clamp-sums-{k}"), 1, 0
                )

            guides = self._get(f"{count}/guides")
            guides_half = self._get(f"{count}/guides_half")
            guided = self._get(f"{count}/{e}/guided")
            own = self._get(f"{count}/{e}/guides")
            guides.reshape(-1, GUIDES)[guided] = own[:, :GUIDES]
            guides_half.reshape(-1, GUIDES)[guided] = own[:, GUIDES:]

            return Sums(halves[0], halves[1], guides, guides_half, self._get(f"{count}/{e}/cycles"))

    def cycles(self, count: int, end: PathEnd) -> float:
        """Processor cycles for a pixel's first `count` samples with an end, on average."""
        e = self.plan.ends.index(end)
        with self._telling_faults():
            return float(self._get(f"{count}/{e}/cycles").mean())

    def _get(self, name: str) -> np.ndarray:
        array: np.ndarray = np.lib.format.read_array(
            io.BytesIO(self._zip.read(f"{name}.npy")), allow_pickle=False
        )
        return array

    @contextmanager
    def _telling_faults(self) -> Iterator[None]:
        try:
            yield
        except FileNotFoundError as error:
            raise UnfitPictureError(self.path, "is missing") from error
        except (OSError, zipfile.BadZipFile, KeyError, TypeError, ValueError, IndexError) as error:
            raise UnfitPictureError(self.path, "is damaged") from error
