"""Results as open data: what is written is what the study knows, and can be read by anything."""

import csv
import json
from pathlib import Path

import pytest

from swift_sample.core.errors import StudyError, UsageError
from swift_sample.core.machine import this_machine
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.report.open_data import results_as_csv, results_as_data, write_results
from swift_sample.core.study.answers.pick_report import figures_as_data
from swift_sample.core.study.measuring.snapshot import Snapshot
from tests.core.study.answers.test_results import BASE, with_runs_state


@pytest.fixture
def snapshot() -> Snapshot:
    return with_runs_state(
        {100: [10.0, 10.1, 9.9], 50: [5.0, 5.05, 8.0], 20: [2.0, 2.02, 1.99]}
    ).snapshot()


def test_json_has_every_trial_and_every_run(snapshot: Snapshot, tmp_path: Path) -> None:
    write_results(tmp_path / "r.json", snapshot, this_machine())
    found = json.loads((tmp_path / "r.json").read_text())
    assert found["study"]["base"]["samples.max"] == BASE["samples.max"]
    assert found["machine"]["processor"] == this_machine().processor
    assert found["identities"]["scene"] == snapshot.state.place.scene
    assert [trial["seconds"]["value"] for trial in found["trials"]] == [
        10.0,
        pytest.approx(5.025),
        2.0,
    ]
    assert len(found["runs"]) == 9
    odd = [run for run in found["runs"] if run["left_out"]]
    assert [run["seconds"]["total"] for run in odd] == [8.0]
    assert found["pick"]["configuration"] == found["trials"][2]["configuration"]


def test_csv_has_a_row_a_trial_with_intervals_and_all_settings(
    snapshot: Snapshot, tmp_path: Path
) -> None:
    write_results(tmp_path / "r.csv", snapshot, this_machine())
    rows = list(csv.DictReader((tmp_path / "r.csv").read_text().splitlines()))
    assert [row["samples.max"] for row in rows] == ["100", "50", "20"]
    assert [row["pick"] for row in rows] == ["False", "False", "True"]
    assert all(
        float(row["seconds_low"]) < float(row["seconds"]) < float(row["seconds_high"])
        for row in rows
    )
    assert set(CATALOGUE) < set(rows[0])
    assert results_as_csv(snapshot).count("\n") == 4


def test_infinite_figures_and_bad_names(snapshot: Snapshot, tmp_path: Path) -> None:
    assert figures_as_data({"psnr": Figure(float("inf"), 40.0, float("inf"))}) == {
        "psnr": {"value": None, "low": 40.0, "high": None}
    }
    json.dumps(results_as_data(snapshot, this_machine()), allow_nan=False)
    with pytest.raises(UsageError, match=r"ends in \.json or \.csv"):
        write_results(tmp_path / "r.xlsx", snapshot, this_machine())

    with pytest.raises(StudyError, match="cannot be written"):
        write_results(tmp_path / "missing" / "r.csv", snapshot, this_machine())
