"""A study's results as open data: JSON with every run, or CSV with a row a trial, for others to
check and plot."""

import csv
import io
import json
from pathlib import Path
from typing import Any

from swift_sample.core.errors import StudyError, UsageError, one_line
from swift_sample.core.machine import Machine
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.study.answers.field import derived_points, point_as_data
from swift_sample.core.study.answers.kinds import kinds_as_data, kinds_of
from swift_sample.core.study.answers.pick_report import pick_as_data, trial_as_data
from swift_sample.core.study.log.events import Run
from swift_sample.core.study.measuring.snapshot import Snapshot

FORMAT = "swift-sample-results"
VERSION = 2
FORMATS = (".json", ".csv")


def write_results(path: Path, snapshot: Snapshot, machine: Machine) -> None:
    """Write what a study knows. Raises UsageError for another suffix, StudyError where the file
    cannot be written."""
    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path}: expected a name that ends in {' or '.join(FORMATS)}")

    text = (
        results_as_csv(snapshot)
        if path.suffix.lower() == ".csv"
        else json.dumps(results_as_data(snapshot, machine), indent=1) + "\n"
    )
    try:
        path.write_text(text, encoding="utf-8", newline="")
    except OSError as error:
        raise StudyError(f"{path}: cannot be written ({one_line(error)})") from error


def results_as_data(snapshot: Snapshot, machine: Machine) -> dict[str, Any]:
    """Plan, machine, reference, pick, every trial with its intervals, every run with its times, and
    every combination that was derived: its figures are measured, its time is foreseen."""
    study = snapshot.study
    results = snapshot.results
    reference = snapshot.reference

    return {
        "format": FORMAT,
        "version": VERSION,
        "study": {
            "name": study.name,
            "scene": study.scene,
            "size": list(study.size),
            "frame": study.frame,
            "goal": study.goal,
            "repeats": study.repeats,
            "renders_per_opening": study.renders_per_opening,
            "base": dict(study.base),
            "view": {"exposure": study.view.exposure, "curve": study.view.curve},
            "limits": dict(results.limits.items()),
        },
        "machine": {
            **machine.hardware(),
            "versions": list(snapshot.software) or [machine.versions],
            "machine": snapshot.state.machine,
        },
        "identities": {
            "scene": snapshot.state.place.scene,
            "renderer": snapshot.state.place.renderer,
            "reference": snapshot.state.reference_name,
        }
        if snapshot.state.place is not None
        else None,
        "reference": None
        if reference is None
        else {"samples": reference.samples, "grain": reference.floor},
        "pick": pick_as_data(results, results.pick())["pick"],
        **kinds_as_data(kinds_of(snapshot.state)),
        "trials": [
            {"trial": trial.id, **trial_as_data(trial, results)} for trial in results.trials
        ],
        "runs": [_run(run, snapshot) for run in snapshot.runs],
        "derived": {
            "proof": snapshot.proof_words,
            "combinations": [
                point_as_data(point, study.base) for point in derived_points(snapshot.state)
            ],
        },
    }


def _run(run: Run, snapshot: Snapshot) -> dict[str, Any]:
    correction = snapshot.results.correction
    result = run.result

    head = {
        "run": run.number,
        "trial": run.trial,
        "appearance": run.appearance,
        "block": run.block,
        "control": run.control,
        "finished_at": run.finished_at,
        "picture": run.picture,
        "left_out": run.number in correction.left_out,
        "divided_by": correction.factor(run.number),
    }
    if result is None:
        return {**head, "failed": run.reason}

    return {
        **head,
        "seconds": result.seconds,
        "processor_seconds": result.cpu_seconds,
        "seed": run.seed,
        "samples_mean": result.samples_mean,
        "peak_memory_bytes": result.peak_memory_bytes,
        "picture_bytes": result.picture_bytes,
        "load_of_others": result.load_of_others,
    }


def results_as_csv(snapshot: Snapshot) -> str:
    """A row for each trial: verdict, time and factor with intervals, figures with intervals,
    phases, and all settings."""
    results = snapshot.results
    pick = snapshot.results.pick()
    rows = []

    for trial in results.trials:
        row: dict[str, Any] = {
            "trial": trial.id,
            "base": trial.is_base,
            "verdict": trial.verdict,
            "pick": pick is not None and pick.trial.id == trial.id,
            "runs": len(trial.runs),
            "figures_of": "derived" if trial.derived else "rendered",
            "pictures": trial.pictures,
            "runs_left_out": len(trial.left_out),
        }
        row |= _columns("seconds", trial.seconds) | _columns("times_faster", trial.times_faster)
        row |= _columns("limit_share", trial.share)

        for key, figure in trial.all_figures.items():
            if key != "seconds":
                row |= _columns(key, figure)

        row |= {f"phase_{phase}": spent.value for phase, spent in trial.phases.items()}
        rows.append(row | dict(trial.configuration))

    head = list(
        dict.fromkeys(key for row in rows for key in row if key not in results.study.catalogue)
    )
    text = io.StringIO()
    writer = csv.DictWriter(text, [*head, *results.study.catalogue], restval="")
    writer.writeheader()
    writer.writerows(rows)

    return text.getvalue()


def _columns(name: str, figure: Figure | None) -> dict[str, float]:
    return (
        {}
        if figure is None
        else {name: figure.value, f"{name}_low": figure.low, f"{name}_high": figure.high}
    )
