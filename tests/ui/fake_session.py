"""A session without threads or disk, for tests of single widgets: what the widgets read, and what they ask for."""

from pathlib import Path
from types import SimpleNamespace

from swift_sample.core.study.desk import Snapshot
from swift_sample.core.study.results import Results
from swift_sample.core.study.store import ReferenceState
from swift_sample.ui.session import Activity


def snapshot_of(results: Results, **changes) -> Snapshot:
    given = {"runs": tuple(run for trial in results.trials for run in trial.runs), "to_come": (),
             "reference": ReferenceState(1000, 0.5, 60.0), "reference_path": Path("none"), "problem": None}
    return Snapshot(results.study, results, **{**given, **changes})


class FakeSession(SimpleNamespace):
    """`line` follows `set_line`; everything else stays as it was made."""

    def __init__(self, results: Results, **changes) -> None:
        given = {"results": results, "study": results.study, "snapshot": snapshot_of(results), "line": results.line,
                 "selected_setting": None, "selected": [], "advice": None, "activity": Activity(), "path": Path("none")}
        super().__init__(**{**given, **changes})

    def pick(self):
        return self.results.pick()

    def set_line(self, line: float) -> None:
        self.line = line
        self.results = self.results.with_line(line)
