"""The study on disk: what it refuses, what it survives, studies of earlier versions, and packed
ones."""

import json
import logging
import shutil
import sqlite3
import threading
import zipfile
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from swift_sample.cli import run
from swift_sample.core.errors import (
    StudyBlockedError,
    StudyBusyError,
    StudyError,
    SwiftSampleError,
    one_line,
)
from swift_sample.core.log import catch_all, inspected, report_error
from swift_sample.core.machine import LoadMeter, Machine, peak_memory_bytes, this_machine
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, read_record, rewrite_record, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.scene.staging import Staging
from swift_sample.core.study.log.database import cannot_read, cannot_write
from swift_sample.core.study.log.events import MeasuringEnded, RecordingRefused, Said
from swift_sample.core.study.log.state import validate
from swift_sample.core.study.log.store import Reading, Store, create_study, is_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.package.pack import pack_study, unpack_study
from swift_sample.core.study.plan.model import Study
from swift_sample.core.worker.lease import Lease
from tests.core.scene.gltf_maker import GltfMaker
from tests.fuzzing import examples


def test_a_study_opened_twice_is_refused_the_second_time_and_can_be_looked_at(
    study_path: Path,
) -> None:
    with Store.open(study_path) as store:
        with pytest.raises(StudyBusyError, match="open in another window or command"):
            Store.open(study_path)
        with look_at_study(study_path) as reading:
            assert reading.state.plan == store.opened_as.plan

    Store.open(study_path).close()


def test_a_folder_in_use_is_not_overwritten(study_path: Path, tiny_study: Study) -> None:
    with pytest.raises(StudyError, match="exists already"):
        create_study(study_path, tiny_study)


def test_missing_and_foreign_folders(tmp_path: Path) -> None:
    for path in (tmp_path, tmp_path / "nothing"):
        for look in (Store.open, look_at_study):
            with pytest.raises(StudyError, match="not a study"):
                look(path)


def test_a_study_may_be_given_as_its_plan(study_path: Path, capsys) -> None:
    assert is_study(study_path / "study.toml")
    assert run(["log", str(study_path / "study.toml")]) == 0
    with Store.open(study_path / "study.toml") as store:
        assert store.folder.path == study_path


def test_names_that_are_no_text_are_refused_and_leave_nothing(
    tmp_path: Path, tiny_study: Study, capsys
) -> None:
    scene = tmp_path / "bad\udcff\udcfename.glb"
    shutil.copy(GltfMaker().save(tmp_path / "square.glb"), scene)
    before = sorted(tmp_path.iterdir())
    assert run(["new", str(tmp_path / "a.study"), "--scene", str(scene)]) == 1
    assert (
        "the scene's name has letters that are not valid text (UTF-8); rename it"
        in capsys.readouterr().err
    )
    assert run(["new", str(tmp_path / "st\udcff.study"), "--scene", "honey-stall-small"]) == 1
    assert "the study's name has letters that are not valid text" in capsys.readouterr().err
    assert sorted(tmp_path.iterdir()) == before


def test_a_newer_database_is_refused_with_both_versions(study_path: Path) -> None:
    Store.open(study_path).close()
    database = sqlite3.connect(study_path / "results.db")
    database.execute("PRAGMA user_version = 99")
    database.close()

    for look in (Store.open, look_at_study):
        with pytest.raises(
            StudyError, match="has version 99, this program reads 5; open it with a newer version"
        ):
            look(study_path)


@pytest.mark.parametrize(
    "script",
    [
        "CREATE TABLE bees (name TEXT);",
        "CREATE TABLE runs (x); PRAGMA user_version = 2;",
        "CREATE TABLE runs (x); PRAGMA user_version = 3;",
        "CREATE TABLE x (y); PRAGMA user_version = -1;",
    ],
)
def test_a_database_of_something_else_is_refused_and_stays(study_path: Path, script: str) -> None:
    database = sqlite3.connect(study_path / "results.db")
    database.executescript(script)
    database.close()
    before = (study_path / "results.db").read_bytes()

    for look in (Store.open, look_at_study):
        with pytest.raises(
            StudyError,
            match=r"results\.db: is a database of something else than a study; move it aside",
        ):
            look(study_path)

    assert (study_path / "results.db").read_bytes() == before


def test_a_database_whose_tables_are_no_text_is_damaged(study_path: Path) -> None:
    Store.open(study_path).close()
    database = study_path / "results.db"
    data = database.read_bytes()
    assert b"CREATE TABLE runs" in data
    database.write_bytes(data.replace(b"CREATE TABLE runs", b"CREATE\xff\xfeTABLE runs"[:17]))
    with pytest.raises(StudyError, match=r"results\.db: is damaged"):
        look_at_study(study_path)

    with Store.open(study_path) as store:
        assert store.words()


def test_views_and_triggers_are_refused(study_path: Path) -> None:
    Store.open(study_path).close()
    database = sqlite3.connect(study_path / "results.db")
    database.executescript(
        "DROP TABLE records; CREATE VIEW records AS SELECT 1 AS number, 2 AS record;"
    )
    database.close()
    with pytest.raises(StudyError, match="holds views, triggers or formulas, which no study has"):
        Store.open(study_path)


@pytest.mark.parametrize("damage", ["rubbish", "cut", "middle", "missing"])
def test_a_damaged_database_is_made_anew_from_the_pictures(driver: Driver, damage: str) -> None:
    """The same runs, under the same names and with the same times, are found in the headers; the
    damaged file is kept."""
    driver.run_here(Sweeping())
    path = driver.path
    before = driver.snapshot
    driver.close()
    database = path / "results.db"
    data = database.read_bytes()

    database.write_bytes(
        {
            "rubbish": b"this is no database" * 100,
            "cut": data[: len(data) // 2 + 100],
            "middle": data[:4096] + bytes(len(data) - 4096),
            "missing": b"",
        }[damage]
    )
    if damage == "missing":
        database.unlink()

    with pytest.raises(
        StudyError, match=r"results\.db: is (damaged|missing).* makes it anew from the pictures"
    ):
        look_at_study(path)

    opened = Driver(Store.open(path))
    kept = {(run.trial, run.block, run.control, run.picture): run.result for run in before.runs}
    found = {
        (run.trial, run.block, run.control, run.picture): run.result for run in opened.snapshot.runs
    }
    assert found == kept
    assert opened.state.reference == replace(before.reference, number=opened.state.reference.number)
    assert [version.words.partition(", until")[0] for version in opened.snapshot.versions] == [
        version.words.partition(", until")[0] for version in before.versions
    ]
    assert any(
        "the database was lost: 7 runs were found again" in text
        or f"{len(kept)} runs were found again" in text
        for _, _, text in opened.words()
    )

    assert len(list(path.glob("results.damaged-*.db"))) == (damage != "missing")
    assert opened.run_here(Sweeping()).finished
    assert {t.verdict for t in opened.snapshot.results.trials} == {
        t.verdict for t in before.results.trials
    }
    validate(opened.state)
    opened.close()


def test_rows_that_cannot_be_read_are_told_and_left_out(
    driver: Driver, caplog: pytest.LogCaptureFixture, capsys
) -> None:
    driver.study.keep([RecordingRefused(driver.state.reference_name, "no room")])
    driver.run_here(Sweeping(("samples.max",)))
    path = driver.path
    runs = driver.snapshot.runs
    driver.close()
    database = sqlite3.connect(path / "results.db")

    with database:
        database.execute("UPDATE runs SET total = 'soon' WHERE number = ?", (runs[0].number,))
        database.execute(
            "UPDATE runs SET picture = '../../private.exr' WHERE number = ?", (runs[1].number,)
        )
        database.execute("UPDATE events SET body = '{' WHERE kind = 'reference'")
        # What the siege found: nests, terminals' control characters, and times that are none.
        database.execute("UPDATE events SET body = ? WHERE kind = 'said'", ("[" * 3000,))
        database.execute("INSERT INTO events VALUES (9001, 'noon', 'tried again', '', '{}')")
        database.execute("INSERT INTO events VALUES (9002, 5, 'tried again', '', '{}')")
        database.execute("INSERT INTO events VALUES (9003, '', char(27) || '[2J', '', '{}')")

    database.close()
    assert run(["pick", str(path)]) in (0, 3)
    said = capsys.readouterr().err
    assert "and 3 more entries that cannot be read" in said
    assert "\x1b" not in said
    assert run(["log", str(path)]) == 0
    assert "rendering" in capsys.readouterr().out

    with look_at_study(path) as reading:
        assert [note.partition("(")[2] for note in reading.notes if "entry 900" in note] == [
            (
                "tried again) cannot be read and is left out (ValueError: Invalid isoformat "
                "string: 'noon')"
            ),
            (
                "tried again) cannot be read and is left out (ValueError: Invalid isoformat "
                "string: '5')"
            ),
            "\\x1b[2J) cannot be read and is left out (KeyError: '\\x1b[2J')",
        ]

    assert f"entry {runs[0].number} of the log (run) cannot be read and is left out" in said
    assert "the name of its picture is none that this program gives" in said
    with caplog.at_level(logging.WARNING, "swift_sample"):
        opened = Driver(Store.open(path))

    assert "(reference) cannot be read" in caplog.text
    assert opened.state.reference is None
    assert opened.snapshot.runs == runs[2:]
    opened.close()


@examples(40)
@given(table=st.sampled_from(["events", "runs", "measurements", "identities"]), data=st.data())
def test_any_value_anywhere_in_a_database_opens_or_is_told(
    measured_study: Path, table: str, data: st.DataObject
) -> None:
    copied = measured_study.with_name("fuzzed.study")
    shutil.rmtree(copied, ignore_errors=True)
    shutil.copytree(measured_study, copied)
    database = sqlite3.connect(copied / "results.db")
    columns = [row[1] for row in database.execute(f"PRAGMA table_info({table})")]
    column = data.draw(st.sampled_from(columns))
    value = data.draw(
        st.one_of(
            st.none(),
            st.integers(-(2**62), 2**62),
            st.floats(),
            st.text(max_size=20),
            st.binary(max_size=9),
        )
    )

    try:
        with database:
            database.execute(
                f"UPDATE {table} SET {column} = ? WHERE rowid = (SELECT max(rowid) FROM {table})",
                (value,),
            )
    except (sqlite3.Error, UnicodeEncodeError):
        return
    finally:
        database.close()

    try:
        with look_at_study(copied) as reading:
            snapshot = read_snapshot(reading)
            validate(snapshot.state)
            assert snapshot.results.trials
            assert all(version.words for version in snapshot.versions)
    except SwiftSampleError as error:
        assert "\n" not in one_line(error)


@pytest.fixture(scope="module")
def measured_study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A tiny study that was measured, for tests that damage copies of it."""
    import os

    folder = tmp_path_factory.mktemp("measured")
    os.environ["SWIFT_SAMPLE_LEASE"] = str(folder / "lease")
    plan = Study(
        name="Tiny",
        scene="honey-stall-small",
        size=(16, 9),
        base=configured({"samples.max": 16}),
        repeats=2,
    )
    made = Driver(Store.open(create_study(folder / "a.study", plan)))
    made.run_here(Sweeping())
    made.close()

    return folder / "a.study"


@pytest.mark.parametrize("version", [1, 4])
def test_a_study_of_an_early_version_is_refused_and_stays_as_it_is(
    tmp_path: Path, tiny_study: Study, version: int
) -> None:
    path = create_study(tmp_path / "old.study", tiny_study)
    with Store.open(path):
        pass

    with closing(sqlite3.connect(path / "results.db")) as database:
        database.execute(f"PRAGMA user_version = {version}")

    before = (path / "results.db").read_bytes()

    with pytest.raises(StudyError, match=f"never released .version {version}"):
        Store.open(path)

    with pytest.raises(StudyError, match="never released"), look_at_study(path):
        pass

    assert (path / "results.db").read_bytes() == before


def test_a_packed_study_is_whole_elsewhere(tmp_path: Path, tiny_study: Study, capsys) -> None:
    (tmp_path / "work").mkdir()
    scene = GltfMaker().save(tmp_path / "work" / "square.glb")
    path = create_study(
        tmp_path / "work" / "a.study", replace(tiny_study, scene=str(scene), sweeps=(), repeats=1)
    )
    assert run(["run", str(path)]) in (0, 3)
    capsys.readouterr()
    run(["pick", str(path), "--json"])
    before = json.loads(capsys.readouterr().out)
    with Store.open(path):  # also while it is open
        assert run(["pack", str(path), "-o", str(tmp_path / "a.zip")]) == 0

    shutil.rmtree(tmp_path / "work")
    assert run(["unpack", str(tmp_path / "a.zip"), str(tmp_path / "b.study")]) == 0
    capsys.readouterr()
    run(["pick", str(tmp_path / "b.study"), "--json"])
    after = json.loads(capsys.readouterr().out)
    assert after == before
    assert after["trials"]["measured"] == 1
    driver = Driver(Store.open(tmp_path / "b.study"))
    assert driver.run_here(Sweeping()).finished
    assert driver.snapshot.to_come == ()
    driver.close()
    with pytest.raises(StudyError, match="exists already"):
        unpack_study(tmp_path / "a.zip", tmp_path / "b.study")

    with pytest.raises(StudyError, match="exists already"):
        pack_study(tmp_path / "b.study", tmp_path / "a.zip")


@pytest.mark.parametrize("part", ["environment", "scene"])
def test_only_what_can_be_rendered_is_packed(tmp_path: Path, tiny_study: Study, part: str) -> None:
    """S3: a study of somebody else names a private file of this computer."""
    private = tmp_path / "id_key"
    private.write_text("a private key")
    staging = Staging(str(private)) if part == "environment" else tiny_study.staging
    scene = str(private) if part == "scene" else tiny_study.scene
    path = create_study(tmp_path / "a.study", replace(tiny_study, scene=scene, staging=staging))
    with pytest.raises(SwiftSampleError, match="id_key"):
        pack_study(path, tmp_path / "a.zip")

    assert not (tmp_path / "a.zip").exists()


def test_what_goes_into_a_pack_is_told_before(tmp_path: Path, tiny_study: Study) -> None:
    scene = GltfMaker().save(tmp_path / "square.glb")
    path = create_study(tmp_path / "a.study", replace(tiny_study, scene=str(scene)))
    told: list[str] = []
    pack_study(path, tmp_path / "a.zip", told.append)
    assert told == [f"{scene} goes along as scene/square.glb"]


def test_leftovers_of_a_killed_pack_are_in_nobodys_way(tmp_path: Path, tiny_study: Study) -> None:
    """S11: neither of packing nor of unpacking."""
    path = create_study(tmp_path / "a.study", tiny_study)
    (tmp_path / ".writing-a.zip").write_bytes(b"half")
    (tmp_path / ".unpacking-b.study").mkdir()
    pack_study(path, tmp_path / "a.zip")
    unpack_study(tmp_path / "a.zip", tmp_path / "b.study")
    assert (tmp_path / "b.study" / "study.toml").is_file()


def test_of_two_packs_to_one_name_the_first_stays(tmp_path: Path, tiny_study: Study) -> None:
    """S11: the second one finds the name taken when it is done, and says so."""
    path = create_study(
        tmp_path / "a.study",
        replace(tiny_study, scene=str(GltfMaker().save(tmp_path / "square.glb"))),
    )

    def meanwhile(words: str) -> None:
        if not (tmp_path / "a.zip").exists():
            pack_study(path, tmp_path / "a.zip")

    with pytest.raises(StudyError, match="exists already"):
        pack_study(path, tmp_path / "a.zip", meanwhile)

    assert zipfile.is_zipfile(tmp_path / "a.zip")
    assert not list(tmp_path.glob(".writing-*"))


def test_what_finds_no_room_is_not_unpacked(
    tmp_path: Path, tiny_study: Study, monkeypatch: pytest.MonkeyPatch
) -> None:
    """S11: a small archive may hold much."""
    pack_study(create_study(tmp_path / "a.study", tiny_study), tmp_path / "a.zip")
    with zipfile.ZipFile(tmp_path / "a.zip", "a", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("pictures/a.exr", bytes(30 << 20))

    free = shutil.disk_usage(tmp_path)._replace(free=20 << 20)
    monkeypatch.setattr("swift_sample.core.files.disk_usage", lambda path: free)
    with pytest.raises(StudyError, match=r"there is no room for the 30 MiB in a\.zip"):
        unpack_study(tmp_path / "a.zip", tmp_path / "b.study")


def test_a_log_with_escape_sequences_is_printed_as_text(
    study_path: Path, capsys: pytest.CaptureFixture
) -> None:
    """S9."""
    with Store.open(study_path) as store:
        store.append([Said("note", "\x1b[2Jcleared\x07")])

    assert run(["log", str(study_path)]) == 0
    told = capsys.readouterr().out
    assert "\x1b" not in told
    assert r"\x1b[2Jcleared\x07" in told


def test_a_folder_that_was_moved_away_is_said_to_be_gone(tmp_path: Path) -> None:
    """S13: "check its permissions" would send an artist the wrong way."""
    moved = sqlite3.OperationalError("attempt to write a readonly database")
    for error in (
        cannot_write(moved, tmp_path / "gone.study" / "results.db"),
        cannot_read(moved, tmp_path / "gone" / "a.db"),
    ):
        assert "is not there any more; move it back" in str(error)


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("../outside", "which no study has"),
        ("/etc/passwd", "which no study has"),
        ("pictures/../../x", "which no study has"),
        ("pictures\\x", "which no study has"),
        ("other/file", "which no study has"),
        ("x.exr", "which no study has"),
    ],
)
def test_what_no_study_has_is_not_unpacked(
    tmp_path: Path, tiny_study: Study, name: str, words: str
) -> None:
    from swift_sample.core.study.plan.file import plan_as_toml

    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.writestr("study.toml", plan_as_toml(tiny_study))
        archive.writestr(name, "x")

    with pytest.raises(StudyError, match=words):
        unpack_study(tmp_path / "a.zip", tmp_path / "inner" / "b.study")

    assert sorted(path.name for path in tmp_path.rglob("*") if path.is_file()) == ["a.zip"]


def test_a_record_in_a_header_is_rewritten_in_its_room(tmp_path: Path) -> None:
    import numpy as np

    path = tmp_path / "a.exr"
    light = np.linspace(0, 1, 8 * 4 * 3, dtype=np.float32).reshape(4, 8, 3)
    write_exr(path, Picture(light, notes={RECORD_ATTRIBUTE: '{"a": 1}' + " " * 20}))
    size = path.stat().st_size
    assert rewrite_record(path, '{"a": 12345}')
    assert read_record(path) == '{"a": 12345}'
    assert not rewrite_record(path, "x" * 200), "no room"
    assert path.stat().st_size == size
    from swift_sample.core.picture.exr import read_exr

    assert np.array_equal(read_exr(path).beauty, light)


def test_what_measuring_ended_with_stays_until_it_is_dismissed(driver: Driver) -> None:
    driver.study.keep([MeasuringEnded(False, "the disk is full"), Said("note", "hello")])
    path = driver.path
    driver.close()
    opened = Driver(Store.open(path))
    assert opened.state.outcome == MeasuringEnded(False, "the disk is full")
    assert opened.snapshot.remarks == ("measuring ended early: the disk is full",)
    assert [kind for _, kind, _ in opened.words()][-2:] == ["ended", "note"]
    opened.settle(opened.dismiss_outcome())
    assert (opened.state.outcome, opened.snapshot.remarks) == (None, ())
    opened.close()


def test_a_lease_is_had_by_one_and_survives_bad_files(tmp_path: Path) -> None:
    path = tmp_path / "lease"
    first = Lease(path)
    second = Lease(path)
    assert first.take(Path("a.study")) == ""
    assert second.take(Path("b.study")).startswith("a.study (process ")
    first.release()
    assert second.take(Path("b.study")) == ""
    path.write_bytes(b"\xff rubbish")
    assert first.take(Path("a.study")) == "another study"
    second.release()
    link = tmp_path / "link"
    link.symlink_to(tmp_path / "victim")
    with pytest.raises(StudyError, match="cannot be opened"):
        Lease(link).take(Path("a.study"))

    assert not (tmp_path / "victim").exists()


def test_errors_in_any_thread_and_in_handed_out_work_are_logged(
    log_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import sys
    import threading
    from concurrent.futures import ThreadPoolExecutor

    monkeypatch.setattr(sys, "excepthook", lambda *_: None)
    monkeypatch.setattr(threading, "excepthook", lambda *_: None)
    catch_all()
    thread = threading.Thread(target=lambda: {}["in a thread"])
    thread.start()
    thread.join()
    with ThreadPoolExecutor(1) as pool:
        inspected(pool.submit(lambda: {}["in a pool"]), "work in a pool")

    try:
        raise ValueError("in the main thread")
    except ValueError as error:
        sys.excepthook(ValueError, error, error.__traceback__)

    report_error("told", RuntimeError("by hand"))
    text = log_file.read_text()
    for words in (
        "'in a thread'",
        "'in a pool'",
        "work in a pool",
        "in the main thread",
        "by hand",
    ):
        assert words in text


def test_this_machine_is_described() -> None:
    machine = this_machine()
    assert machine.threads >= 1
    assert "versions" not in machine.hardware()
    assert (
        machine.hardware()
        == replace(machine, versions="others").hardware()
        != Machine(
            processor="p", cores=2, threads=2, memory_bytes=1, system="L", versions="v"
        ).hardware()
    )
    assert peak_memory_bytes() > 1 << 20
    assert 0 <= LoadMeter().share() <= 1
    assert configured()["device.threads"] == machine.threads


@pytest.mark.parametrize("opening", [Store.open, look_at_study])
def test_a_database_that_another_program_holds_is_waited_for_with_a_word(
    study_path: Path, monkeypatch: pytest.MonkeyPatch, opening: Callable[..., Store | Reading]
) -> None:
    Store.open(study_path).close()
    other = sqlite3.connect(
        study_path / "results.db", isolation_level=None, check_same_thread=False
    )
    other.executescript(
        "PRAGMA locking_mode = EXCLUSIVE; BEGIN IMMEDIATE; DELETE FROM events WHERE 0; COMMIT;"
    )
    waiter = threading.Timer(1.5, other.close)
    told = []
    waiter.start()
    with opening(study_path, told.append) as opened:
        assert opened.folder.path == study_path

    waiter.join()
    assert [words.partition("; ")[0] for words in told] == [
        f"waiting: {study_path / 'results.db'}: another program holds it"
    ]

    with closing(sqlite3.connect(study_path / "results.db", isolation_level=None)) as holds_on:
        holds_on.executescript(
            "PRAGMA locking_mode = EXCLUSIVE; BEGIN IMMEDIATE; DELETE FROM events WHERE 0; COMMIT;"
        )
        monkeypatch.setattr("swift_sample.core.study.log.database.PATIENCE_SECONDS", 0.1)
        with pytest.raises(StudyBlockedError, match="another program holds it; end that one"):
            opening(study_path, told.append)


def test_a_database_that_is_held_or_full_keeps_nothing_and_says_which(study_path: Path) -> None:
    with Store.open(study_path) as store:
        with closing(sqlite3.connect(study_path / "results.db", isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            with pytest.raises(StudyBlockedError, match="another program holds it") as held:
                store.append([Said("test", "not kept")])
            assert held.value.held

        pages = store._database.execute("PRAGMA page_count").fetchone()[0]
        store._database.execute(f"PRAGMA max_page_count = {pages}")
        with pytest.raises(StudyBlockedError, match="the disk is full; make room on it") as full:
            store.append([Said("test", "x" * 100_000)])

        assert not full.value.held
        store._database.execute(f"PRAGMA max_page_count = {pages + 1000}")
        store.append([Said("test", "kept")])
        assert [text for _, kind, text in store.words() if kind == "test"] == ["kept"]
