"""A session without threads or disk, for tests of single widgets: what the widgets read, and what they ask for."""

from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

from immutables import Map

from swift_sample.app.session import Activity
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.study.folder import Folder
from swift_sample.core.study.records import ReferenceState
from swift_sample.core.study.results import Results
from swift_sample.core.study.snapshot import Snapshot
from swift_sample.core.study.state import StudyState
from tests.core.study.states import HERE, showing

CLEAN = ReferenceState(1000, 0.5, 60.0)


def snapshot_of(
    results: Results,
    reference: ReferenceState | None = CLEAN,
    problem: str = "",
    folder: Path = Path("none"),
    **worked_out: object,
) -> Snapshot:
    """A snapshot that shows these results. `worked_out` stands for what would follow from runs: runs, to_come, elsewhere."""
    state = StudyState(results.study, surroundings=replace(HERE, problem=problem))
    if reference is not None:
        state = replace(state, references=Map({state.reference_name: reference}))
    made = showing(Snapshot(state, Folder(folder), RENDERER), results)
    given = {
        "runs": tuple(sorted((run for trial in results.trials for run in trial.runs), key=lambda run: run.number)),
        "to_come": (),
        "hidden": None,
    }
    made.__dict__.update({**given, **worked_out})
    return made


class FakeSession(SimpleNamespace):
    """`line` follows `set_line`; everything else stays as it was made."""

    def __init__(self, results: Results, **changes) -> None:
        given = {
            "results": results,
            "study": results.study,
            "snapshot": snapshot_of(results),
            "line": results.line,
            "selected_setting": None,
            "selected": [],
            "advice": None,
            "activity": Activity(),
            "path": Path("none"),
        }
        super().__init__(**{**given, **changes})

    def pick(self):
        return self.results.pick()

    def set_line(self, line: float) -> None:
        self.line = line
        self.results = self.results.with_line(line)
