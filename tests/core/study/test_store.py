import sqlite3
from pathlib import Path

import pytest

from swift_sample.core.errors import StudyBusyError, StudyError
from swift_sample.core.settings import Configuration
from swift_sample.core.study.machine import LoadMeter, Machine, peak_memory_bytes, this_machine
from swift_sample.core.study.model import Study
from swift_sample.core.study.store import PLAN, RESULTS, ReferenceState, StoredMeasures, StudyFolder
from tests.core.study.test_results import result

MACHINE = Machine("p", 2, 2, 1 << 30, "Linux", "v")


def test_everything_comes_back_after_closing(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    with StudyFolder.create(path, tiny_study) as folder:
        trial = folder.trial_number(tiny_study.base)
        assert folder.trial_number(tiny_study.base) == trial
        folder.add_run(trial, "key", False, 0, MACHINE, "a.exr", result(2.0), None)
        folder.add_run(trial, "key", True, 1, MACHINE, None, None, "it failed")
        folder.save_measures(trial, StoredMeasures("1|96", {"grain": (1.0, 0.9, 1.1), "psnr": None}))
        folder.reference_path("key").write_bytes(b"x")
        folder.save_reference("key", ReferenceState(96, 0.5, 3.0))
        folder.add_event("note", "hello")
    with StudyFolder.open(path) as folder:
        assert folder.study == tiny_study
        assert folder.trials() == {trial: tiny_study.base}
        good, bad = folder.runs()
        assert good.result == result(2.0)
        assert (bad.control, bad.reason, bad.result) == (True, "it failed", None)
        assert folder.measures()[trial].figures == {"grain": (1.0, 0.9, 1.1), "psnr": None}
        assert folder.reference("key") == ReferenceState(96, 0.5, 3.0)
        assert folder.reference("other") is None
        assert folder.events()[0][1:] == ("note", "hello")
        assert folder.machine_description(MACHINE.fingerprint)["cores"] == 2
        folder.reference_path("key").unlink()
        assert folder.reference("key") is None
        folder.discard_run(good.number, "its picture is missing")
        assert folder.runs()[0].reason == "its picture is missing"


def test_a_study_opened_twice_is_refused_the_second_time(folder: StudyFolder) -> None:
    with pytest.raises(StudyBusyError, match="open in another window or command"):
        StudyFolder.open(folder.path)


def test_a_folder_in_use_is_not_overwritten(folder: StudyFolder, tiny_study: Study) -> None:
    with pytest.raises(StudyError, match="exists already"):
        StudyFolder.create(folder.path, tiny_study)


def test_missing_and_foreign_folders(tmp_path: Path) -> None:
    for path in (tmp_path, tmp_path / "nothing"):
        with pytest.raises(StudyError, match="not a study"):
            StudyFolder.open(path)


def test_damaged_database_is_told_and_the_plan_stays(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    StudyFolder.create(path, tiny_study).close()
    (path / RESULTS).write_bytes(b"this is no database" * 100)
    with pytest.raises(StudyError, match=r"results\.db: cannot be opened.*move it aside"):
        StudyFolder.open(path)
    (path / RESULTS).unlink()
    with StudyFolder.open(path) as folder:
        assert folder.runs() == []


def test_a_newer_database_is_refused_with_both_versions(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    StudyFolder.create(path, tiny_study).close()
    database = sqlite3.connect(path / RESULTS)
    database.execute("PRAGMA user_version = 99")
    database.close()
    with pytest.raises(StudyError, match="has version 99, this program reads up to 2"):
        StudyFolder.open(path)


def test_a_study_of_the_first_version_is_brought_up_to_date(tmp_path: Path, tiny_study: Study) -> None:
    path = tmp_path / "a.study"
    with StudyFolder.create(path, tiny_study) as folder:
        folder.add_run(folder.trial_number(tiny_study.base), "key", False, 0, MACHINE, "a.exr", result(2.0), None)
    database = sqlite3.connect(path / RESULTS)
    database.executescript("DROP TABLE chosen; DROP TABLE frame_grains; PRAGMA user_version = 1;")
    database.close()
    with StudyFolder.open(path) as folder:
        assert len(folder.runs()) == 1
        assert folder.chosen("key") == ()
        other = tiny_study.base.replace({"samples.max": 17})
        folder.choose(other, "key")
        folder.choose(other, "key")
    with StudyFolder.open(path) as folder:
        assert (folder.chosen("key"), folder.chosen("another scene")) == ((other,), ())


def test_damaged_records_count_as_failed(folder: StudyFolder, tiny_study: Study) -> None:
    trial = folder.trial_number(tiny_study.base)
    folder.add_run(trial, "key", False, 0, MACHINE, "a.exr", result(2.0), None)
    other = sqlite3.connect(folder.path / RESULTS)
    with other:
        other.execute("UPDATE runs SET result = '{\"size\": 1}'")
        other.execute("INSERT INTO trials (digest, configuration) VALUES ('x', '{\"gone.setting\": 1}')")
    other.close()
    assert folder.runs()[0].reason == "its record is damaged"
    assert list(folder.trials()) == [trial]


def test_plan_edits_are_on_disk_at_once(folder: StudyFolder, tiny_study: Study) -> None:
    edited = tiny_study.with_values_to_try({"bounces.total": (1,)})
    folder.save_plan(edited)
    text = (folder.path / PLAN).read_text()
    assert "one at a time" in text
    assert folder.study == edited
    assert [p for p in folder.path.iterdir() if p.name.startswith(".writing")] == []


def test_this_machine_is_described() -> None:
    machine = this_machine()
    assert machine.threads >= 1
    assert machine.fingerprint == this_machine().fingerprint
    assert machine.fingerprint != MACHINE.fingerprint
    assert peak_memory_bytes() > 1 << 20
    assert 0 <= LoadMeter().share() <= 1
    assert Configuration()["device.threads"] == machine.threads
