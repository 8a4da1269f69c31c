"""Recent studies, as far as they can be told without opening them: what was found, when, and
whether they still measure."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import report_error
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.study.answers.pick_report import show_factor, show_seconds
from swift_sample.core.study.log.store import look_at_study
from swift_sample.core.study.measuring.snapshot import local_time
from swift_sample.core.study.measuring.surroundings import read_snapshot

THUMBNAIL_WIDTH = 208


@dataclass(frozen=True)
class Recent:
    """A study in a line or two. `thumbnail` is uint8[h, w, 3] in display pixels, None where there
    is no picture."""

    path: Path
    name: str
    words: str
    thumbnail: np.ndarray | None = None


def look_at(path: Path) -> Recent:
    """What a study says of itself; whatever is wrong with it is told in its words."""
    try:
        with look_at_study(path) as reading:
            snapshot = read_snapshot(reading)
            hidden = snapshot.hidden
            snapshot = snapshot.at(hidden.place) if hidden is not None else snapshot
            results = snapshot.results
            pick = snapshot.results.pick()
            trial = pick.trial if pick is not None else results.base
            at = max((run.finished_at for run in snapshot.runs), default="")
            when = f" · {local_time(at)}" if at else ""

            if pick is not None and pick.trial.seconds is not None:
                seconds = show_seconds(pick.trial.seconds.value)
                factor = pick.trial.times_faster
                found = (
                    f"{seconds}, {show_factor(factor)}"
                    if not pick.trial.is_base
                    else f"{seconds}, as it is today"
                )
            else:
                found = "no pick yet" if at else "nothing measured yet"

            earlier = " · of an earlier version" if hidden is not None else ""
            broken = f" · {snapshot.problem}" if snapshot.problem else ""
            picture = snapshot.picture_of(trial.id) if trial is not None else None
            shown = None

            if picture is not None and picture.is_file():
                light = read_exr(picture).beauty
                step = max(1, light.shape[1] // THUMBNAIL_WIDTH)
                shown = snapshot.study.view.eight_bit(light[::step, ::step])

            return Recent(path, snapshot.study.name, f"{found}{when}{earlier}{broken}", shown)
    except SwiftSampleError as error:
        return Recent(path, path.stem, one_line(error))
    except Exception as error:  # one study must not hide the others
        report_error(f"looking at {path}", error)
        return Recent(path, path.stem, f"cannot be read ({one_line(error)})")


class RecentStudies(QObject):
    """Looks at studies off the window's thread; `looked_at` follows for each."""

    looked_at = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work = ThreadPoolExecutor(1, thread_name_prefix="recent")
        self._closed = False

    def look(self, paths: list[Path]) -> None:
        for path in paths:
            if not self._closed:
                self._work.submit(self._one, path)

    def _one(self, path: Path) -> None:
        found = look_at(path)
        if not self._closed:
            self.looked_at.emit(found)

    def close(self) -> None:
        self._closed = True
        self._work.shutdown(wait=True, cancel_futures=True)
