"""A session without threads or disk, for tests of single widgets: what the widgets read, and what
they ask for."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from immutables import Map

from swift_sample.app.session import Session
from swift_sample.app.view_model import ViewModel
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.records import ReferenceState
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.ui.pages import Page
from tests.core.study.states import HERE, showing

CLEAN = ReferenceState(samples=1000, floor=0.5, seconds=60.0)


def snapshot_of(
    results: Results,
    reference: ReferenceState | None = CLEAN,
    problem: str = "",
    folder: Path = Path("none"),
    **worked_out: object,
) -> Snapshot:
    """A snapshot that shows these results. `worked_out` stands for what would follow from runs:
    runs, to_come, elsewhere."""
    state = StudyState(plan=results.study, surroundings=replace(HERE, problem=problem))
    if reference is not None:
        state = replace(state, references=Map({state.reference_name: reference}))

    made = showing(Snapshot(state, Folder(folder), RENDERER), results)
    given = {
        "runs": tuple(
            sorted(
                (run for trial in results.trials for run in trial.runs), key=lambda run: run.number
            )
        ),
        "to_come": (),
        "hidden": None,
    }

    made.__dict__.update({**given, **worked_out})
    return made


def view_of(snapshot: Snapshot, results: Results | None = None, **changes: Any) -> ViewModel:
    """What strips and pages are given of a snapshot; `results` where those are under another
    line."""
    shown = results if results is not None else snapshot.results
    return ViewModel(
        path=Path("none"),
        study=changes.pop("study", snapshot.study),
        snapshot=snapshot,
        results=shown,
        line=shown.line,
        **changes,
    )


class FakeSession:
    """Shows a page a study, and keeps what the page asks for: as (method of Session, arguments).
    The line and the selection follow; everything else stays as it was made."""

    def __init__(self, results: Results, **changes: Any) -> None:
        given = {
            "snapshot": snapshot_of(results),
            "results": results,
            "line": results.line,
            "path": Path("none"),
        }
        self.model = ViewModel(**{"study": results.study, **given, **changes})
        self.asked: list[tuple[str, tuple[Any, ...]]] = []

    def attach(self, page: Page) -> None:
        self._page = page
        page.asked.connect(self._do)
        page.show_view(self.model)

    def change(self, **changes: Any) -> None:
        """Show something else."""
        self.model = replace(self.model, **changes)
        self._page.show_view(self.model)

    def _do(self, ask: Callable[[Any], object]) -> None:
        ask(self)
        self._page.show_view(self.model)

    def set_line(self, line: float) -> None:
        assert self.model.results is not None
        self.model = replace(self.model, line=line, results=self.model.results.with_line(line))

    def compare(self, trial_ids: list[str]) -> None:
        self.model = replace(self.model, selected=tuple(trial_ids))

    def show_report(self, path: Path) -> None:
        self.asked.append(("show_report", (path,)))
        self.model = replace(self.model, reporting=True)

    def __getattr__(self, name: str) -> Callable[..., None]:
        assert callable(getattr(Session, name)), f"a session has no {name}"
        return lambda *given: self.asked.append((name, given))
