"""No figure is ever another one's: whatever changes and changes back, results stay where they
belong. R1 to R15 are the faults that an audit of an earlier version reproduced; each has a test
here or where its part is tested."""

import json
import os
import shutil
import subprocess
import sys
import threading
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.errors import StudyError
from swift_sample.core.measure.kinds import KINDS
from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.renderer import RENDERER, BuiltInRenderer
from swift_sample.core.settings import Catalogue
from swift_sample.core.settings.capabilities import ALL
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.events import ReferenceGrew
from swift_sample.core.study.log.identity import reference_identity
from swift_sample.core.study.log.state import StudyState
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import StepStarted, Waits
from swift_sample.core.study.measuring.policies import Remeasuring, Sweeping
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.steps import RunStep
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.file import plan_as_toml
from swift_sample.core.study.plan.model import Study, WatchArea
from swift_sample.core.worker.lease import Lease
from tests.core.scene.gltf_maker import GltfMaker
from tests.core.study.states import HERE, Happenings, measured, only_limits

BASE = configured({"samples.max": 100})
FAST = BASE.replace({"samples.max": 50})
STUDY = Study(
    name="s",
    scene="honey-stall",
    size=(240, 135),
    base=BASE,
    limits=only_limits(grain=2.0, light_shift=1.0, detail_kept=95.0, stray_pixels=20.0),
)


def measured_there() -> Happenings:
    """Base and one faster trial, measured; the faster one has too much grain."""
    made = measured(replace(STUDY, sweeps=()), {BASE: [1.0] * 3, FAST: [0.5] * 3}, {})
    for configuration, grain in ((BASE, 1.0), (FAST, 3.0)):
        made.measure(
            configuration,
            {
                "grain": (grain, 0.95 * grain, 1.05 * grain),
                "light_shift": (0.5, 0.4, 0.6),
                "detail_kept": (99.0, 98.0, 99.5),
                "stray_pixels": (1.0, 0.5, 2.0),
            },
        )

    return made


def figures(state: StudyState) -> list[float | None]:
    return [t.figures["grain"].value if t.figures else None for t in collect(state).trials]


CHANGES = {
    "size": {"size": (480, 270)},
    "frame": {"frame": 3},
    "view": {"view": View(-4.0, "soft")},
    "reference": {
        "reference_keeps": ("light.caustics",),
        "base": BASE.replace({"light.caustics": "none"}),
    },
}


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES)
def test_figures_of_something_else_are_never_shown_and_come_back(change: dict) -> None:
    """R2: of another size, frame, view or reference."""
    made = measured_there()
    before = figures(made.state)
    there = replace(made.state, plan=replace(made.state.plan, **change))
    assert set(figures(there)) == {None}
    assert all(t.verdict == "unmeasured" for t in collect(there).trials)
    assert collect(there).pick() is None
    back = replace(there, plan=made.state.plan)
    assert figures(back) == before == [1.0, 3.0]
    assert [t.verdict for t in collect(back).trials] == ["acceptable", "not acceptable"]


def test_figures_of_other_versions_are_not_shown(monkeypatch: pytest.MonkeyPatch) -> None:
    """R4: of the renderer, where nothing is; of one measure, where only that figure is missing."""
    made = measured_there()
    other = replace(made.state, surroundings=replace(HERE, renderer="another version"))
    assert all(t.runs == () and not t.figures for t in collect(other).trials)
    monkeypatch.setitem(KINDS, "grain", replace(KINDS["grain"], version=KINDS["grain"].version + 1))
    base = collect(replace(made.state)).trials[0]
    assert "grain" not in base.figures
    assert "light_shift" in base.figures
    assert (base.verdict, base.unmeasured) == ("undecided", {"grain"})
    assert replace(made.state).wanting, "its pictures are measured again"


def test_a_base_that_changes_no_pixel_of_the_reference_keeps_it() -> None:
    """R5."""
    state = Happenings(STUDY).state
    name = reference_identity(state.here, STUDY).name

    for change in (
        {"tiles.size": 8},
        {"device.threads": 1},
        {"denoise.strength": 0.5},
        {"tiles.order": "nearby"},
        {"samples.max": 16},
        {"textures.prepared": True},
        {"bounces.total": 2},
        {"scene.keep_built": True},
    ):
        assert (
            reference_identity(state.here, replace(STUDY, base=BASE.replace(change))).name == name
        ), change

    for change in (
        {"samples.pixel_filter": "box"},
        {"geometry.subdivision": 1},
        {"bounces.total": 40},
    ):
        assert (
            reference_identity(state.here, replace(STUDY, base=BASE.replace(change))).name != name
        ), change


def edit(driver: Driver, **changes: object) -> None:
    driver.settle(driver.edit("Edit", lambda plan: replace(plan, **changes)))


def test_pictures_of_one_size_are_not_those_of_another(driver: Driver) -> None:
    """R1: measured small, large, and small again."""

    def sizes() -> set:
        return {
            (picture.width, picture.height)
            for one in driver.snapshot.runs
            if one.picture
            for picture in [read_exr(driver.snapshot.folder.picture(one.picture))]
        }

    assert driver.run_here(Sweeping()).finished
    before = driver.snapshot.runs
    grains = [t.figures["grain"].value for t in driver.snapshot.results.trials]
    assert sizes() == {(32, 18)}
    edit(driver, size=(48, 27))
    assert [t.runs for t in driver.snapshot.results.trials] == [()] * 3
    hidden = driver.snapshot.hidden
    assert (hidden.size, hidden.runs) == ((32, 18), len(before))
    assert driver.run_here(Sweeping()).finished
    assert sizes() == {(48, 27)}
    edit(driver, size=(32, 18))
    assert sizes() == {(32, 18)}
    assert driver.snapshot.runs == before
    assert [t.figures["grain"].value for t in driver.snapshot.results.trials] == grains
    assert driver.snapshot.to_come == ()
    assert {one.size for one in driver.snapshot.versions} == {(32, 18), (48, 27)}
    large = next(one for one in driver.snapshot.versions if one.size == (48, 27))
    driver.settle(driver.show(large.place))
    assert sizes() == {(48, 27)}
    assert "shown are results of an earlier version" in driver.snapshot.remarks[0]
    assert driver.run_here(Remeasuring()).finished


def test_a_scene_that_changes_says_so_and_its_results_come_back(
    tmp_path: Path, tiny_study: Study, capsys
) -> None:
    """R11: an edited scene does not empty the map without a word; nor does one that is gone, or
    moved with its study."""
    scene = (
        GltfMaker().save(tmp_path / "work" / "square.glb")
        if (tmp_path / "work").mkdir() is None
        else None
    )
    study = replace(tiny_study, scene=str(scene), sweeps=(), repeats=1)
    path = create_study(tmp_path / "work" / "a.study", study)
    assert run(["run", str(path), "--json"]) in (0, 3)
    first = json.loads(capsys.readouterr().out)
    assert first["trials"]["measured"] == 1
    original = scene.read_bytes()
    GltfMaker(materials=[{"pbrMetallicRoughness": {"baseColorFactor": [1, 0, 0, 1]}}]).save(scene)
    assert run(["pick", str(path)]) == 3
    said = capsys.readouterr().err
    assert "0 of 1 trials are measured" in said
    assert (
        "nothing was measured of the scene as it is now; measured before: square.glb, 32x18" in said
    )
    version = said.partition("(version ")[2][:8]
    assert run(["pick", str(path), "--json", "--version", version]) in (0, 3)
    assert json.loads(capsys.readouterr().out)["trials"]["measured"] == 1
    scene.unlink()
    assert run(["pick", str(path), "--json"]) in (0, 3)
    gone = json.loads(capsys.readouterr().out)
    assert gone["trials"]["measured"] == 1
    assert "square.glb: no such scene" in gone["remarks"][0]
    scene.write_bytes(original)
    shutil.move(tmp_path / "work", tmp_path / "elsewhere")
    assert run(["pick", str(tmp_path / "elsewhere" / "a.study"), "--json"]) in (0, 3)
    moved = json.loads(capsys.readouterr().out)
    assert (moved["trials"]["measured"], moved["pick"], moved["remarks"]) == (1, first["pick"], [])


def test_other_versions_of_software_hide_nothing(driver: Driver) -> None:
    """R11: a patch release of NumPy is told, and hides no result."""
    edit(driver, sweeps=(), repeats=1)
    assert driver.run_here(Sweeping()).finished
    before = driver.snapshot.results.trials[0].runs

    driver.study.machine = replace(driver.machine, versions="another NumPy")
    driver.study.surround()
    assert driver.snapshot.results.trials[0].runs == before != ()

    edit(driver, repeats=2)
    assert driver.run_here(Sweeping()).finished
    assert any(
        words.startswith("these runs were made with different software: ")
        for words in driver.snapshot.remarks
    )


def test_a_setting_that_is_added_orphans_nothing(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """R3, on disk: the study is opened by a version with one more setting."""
    assert driver.run_here(Sweeping()).finished
    path = driver.path
    trials = driver.snapshot.results.trials
    reference = driver.state.reference
    driver.close()
    new = replace(CATALOGUE["light.indirect"], key="light.new_switch")
    monkeypatch.setattr(
        BuiltInRenderer, "catalogue", Catalogue(CATALOGUE.name, [*CATALOGUE.values(), new], ALL)
    )
    opened = Driver(Store.open(path))
    found = opened.snapshot.results.trials
    assert [(t.id, t.runs, t.figures) for t in found] == [(t.id, t.runs, t.figures) for t in trials]
    assert opened.state.reference == reference
    assert opened.snapshot.to_come == ()
    opened.close()


def test_a_failed_read_of_frames_leaves_nothing_on_another_frame(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """R6: there is no frame in hand that could be left; what is asked of a state changes nothing of
    it."""
    from swift_sample.core.study.answers import frames
    from swift_sample.core.study.plan.model import FramePlan

    made = measured_there()
    plan = FramePlan(0, 40, 3)
    before = made.snapshot()
    monkeypatch.setattr(
        frames, "grain_of", lambda *_: (_ for _ in ()).throw(StudyError("the database is locked"))
    )
    with pytest.raises(StudyError):
        frames.collect_frames(made.state, plan, [BASE])

    assert made.state.place == before.state.place
    assert figures(made.state) == [1.0, 3.0]


def test_a_plan_that_cannot_be_saved_is_not_the_plan(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    """R7: neither in the state nor on disk nor for undo."""
    text = (driver.path / "study.toml").read_text()
    label = driver.state.undo_label
    before = driver.state.plan

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    from swift_sample.core.study.log import store as storing

    monkeypatch.setattr(storing, "write_whole", full)
    with pytest.raises(StudyError, match="the plan cannot be saved"):
        edit(driver, repeats=7)

    monkeypatch.undo()
    assert (driver.state.plan, driver.state.undo_label) == (before, label)
    assert (driver.path / "study.toml").read_text() == text

    def refuse(*_: object) -> None:
        raise storing.sqlite3.OperationalError("disk full")

    # Where only the database refuses, the file goes back to what it was.
    monkeypatch.setattr(storing, "write_event", refuse)
    with pytest.raises(StudyError, match="nothing measured before is lost"):
        edit(driver, repeats=7)

    monkeypatch.undo()
    assert driver.state.plan == before
    assert (driver.path / "study.toml").read_text() == text
    edit(driver, repeats=5)
    assert driver.state.undo_label == "Edit"


def test_an_edit_during_a_render_files_its_picture_where_it_belongs(driver: Driver) -> None:
    """R8: the step names its place when it is proposed."""
    place = driver.state.here
    sizes = []

    def edit_meanwhile(notice: object) -> None:
        step = getattr(notice, "step", None)
        if isinstance(notice, StepStarted) and isinstance(step, RunStep) and not sizes:
            sizes.append(step.spec.size)
            driver.edit("Size", lambda plan: replace(plan, size=(48, 27)))
            driver.stop(after_this_step=True)

    driver.listen(edit_meanwhile)
    driver.run_here(Sweeping())
    assert driver.state.plan.size == (48, 27)
    assert driver.state.here != place
    (only,) = driver.state.at(place).runs
    picture = read_exr(driver.snapshot.folder.picture(only.picture))
    assert (picture.width, picture.height) == (32, 18)
    assert driver.snapshot.runs == ()


def test_a_scene_edited_while_it_is_rendered_files_nothing(
    tmp_path: Path, tiny_study: Study
) -> None:
    scene = GltfMaker().save(tmp_path / "square.glb")
    path = create_study(
        tmp_path / "a.study", replace(tiny_study, scene=str(scene), sweeps=(), repeats=1)
    )
    driver = Driver(Store.open(path))
    edited = []

    def edit_scene(notice: object) -> None:
        if isinstance(notice, StepStarted) and isinstance(notice.step, RunStep) and not edited:
            edited.append(driver.state.here)
            GltfMaker(materials=[{"pbrMetallicRoughness": {"baseColorFactor": [1, 0, 0, 1]}}]).save(
                scene
            )

    driver.listen(edit_scene)
    assert driver.run_here(Sweeping()).finished
    assert len(driver.state.at(edited[0]).runs) == 0
    assert driver.state.here != edited[0]
    assert len(driver.snapshot.results.trials[0].runs) == 1
    assert "scene changed" in {kind for _, kind, _ in driver.words()}
    driver.close()


def test_looking_works_while_it_is_measured_and_on_a_disk_that_cannot_be_written(
    driver: Driver, tmp_path: Path, capsys
) -> None:
    """R12."""
    assert driver.run_here(Sweeping()).finished
    expected = driver.snapshot
    for command in (["pick"], ["log"], ["cost"], ["versions"]):
        assert run([*command, str(driver.path)]) == 0, command

    for name in ("r.json", "r.html"):
        assert (
            run(
                [
                    "export" if name.endswith("json") else "report",
                    str(driver.path),
                    "-o",
                    str(tmp_path / name),
                ]
            )
            == 0
        )

    capsys.readouterr()
    edit(driver, repeats=3)
    driver.stop()
    copied = tmp_path / "copied.study"
    shutil.copytree(
        driver.path, copied
    )  # as a crash would leave it: with a write-ahead log that was not taken in
    assert (copied / "results.db-wal").stat().st_size > 0
    for path in (copied, *copied.rglob("*")):
        path.chmod(0o555 if path.is_dir() else 0o444)

    before = {path: path.stat().st_mtime_ns for path in copied.rglob("*")}
    with look_at_study(copied) as reading:
        found = read_snapshot(reading)
        assert [(t.id, t.runs, t.figures) for t in found.results.trials] == [
            (t.id, t.runs, t.figures) for t in expected.results.trials
        ]
        assert found.study.repeats == 3
        assert reading.record(found.runs[0].number) is not None

    if os.getuid() != 0:
        assert {path: path.stat().st_mtime_ns for path in copied.rglob("*")} == before

    for path in (copied, *copied.rglob("*")):
        path.chmod(0o755)


def test_one_study_at_a_time_is_timed_on_a_machine(
    driver: Driver, tmp_path: Path, tiny_study: Study
) -> None:
    """R13: the second says who holds the machine, waits, and goes on when it is free; also after
    the holder was killed."""
    other = create_study(tmp_path / "other.study", replace(tiny_study, sweeps=(), repeats=1))
    holder = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "import sys\nfrom pathlib import Path\n"
            "from swift_sample.core.worker.lease import Lease\nlease = Lease()\n"
            "print(repr(lease.take(Path('bees.study'))), flush=True)\nsys.stdin.read()",
        ],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )

    assert holder.stdout is not None
    assert holder.stdout.readline() == "''\n"
    waiting: list[str] = []
    free = threading.Timer(1.0, holder.kill)

    def hear(notice: object) -> None:
        if isinstance(notice, Waits):
            if not waiting:
                free.start()
            waiting.append(notice.words)

    second = Driver(Store.open(other), hear)
    assert second.run_here(Sweeping()).finished
    free.join()
    holder.communicate()
    assert (
        waiting[0]
        == f"another study is being timed on this machine: bees.study (process {holder.pid})"
    )
    lease = Lease()
    assert lease.take(other) == "", "it is given back at the end"
    lease.release()
    second.close()


def test_an_unexpected_error_is_kept_with_its_traceback(
    driver: Driver, log_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """R14: wherever it happens, it is in the log file, and measuring ends with words instead of
    silence."""
    monkeypatch.setattr(Sweeping, "propose", lambda *_: {}["a bug in the core"])
    ended = driver.run_here(Sweeping())
    assert ended.problem == (
        "something went wrong (KeyError: 'a bug in the core'); what was measured is kept, see "
        f"{log_file}"
    )
    assert "Traceback" in log_file.read_text()
    assert "a bug in the core" in log_file.read_text()


def test_the_workers_traceback_is_kept(
    monkeypatch: pytest.MonkeyPatch, capsys, tmp_path: Path
) -> None:
    """R14, in the worker's own process."""
    from swift_sample.core.renderers.builtin import pipeline
    from swift_sample.core.renderers.records import RenderSpec
    from swift_sample.core.worker import process as worker
    from swift_sample.core.worker.messages import RenderJob

    monkeypatch.setattr(pipeline, "run_render", lambda *_: 1 + "")
    spec = RenderSpec(scene="honey-stall-small", size=(8, 8), settings={}, seed=1)
    reply = worker.Worker(RENDERER, lambda reply: None).do(
        RenderJob(spec=spec, picture=str(tmp_path / "x.exr"))
    )
    assert "unsupported operand" in reply.reason
    assert "Traceback" in reply.trace
    assert "Traceback" in capsys.readouterr().err, "what the worker prints is kept in worker.log"


def test_reading_again_costs_nothing_until_something_happened() -> None:
    """R15: what follows from a state is worked out once."""
    snapshot = measured_there().snapshot()
    assert snapshot.results is snapshot.results
    assert snapshot.to_come is snapshot.to_come


def test_undo_and_redo_survive_closing_and_join_quick_edits(driver: Driver) -> None:
    plans = [driver.state.plan]
    for repeats in (3, 4):
        driver.settle(
            driver.edit("Runs", lambda plan, n=repeats: replace(plan, repeats=n), "repeats")
        )

    driver.settle(
        driver.edit(
            "Watch jar",
            lambda plan: replace(plan, areas=(WatchArea(name="jar", x=0, y=0, width=4, height=4),)),
        )
    )
    path = driver.path
    plan = driver.state.plan
    assert (plan.repeats, driver.state.undo_label) == (4, "Watch jar")
    driver.close()
    opened = Driver(Store.open(path))
    assert opened.state.plan == plan
    opened.settle(opened.undo())
    assert (opened.state.undo_label, opened.state.redo_label) == ("Runs", "Watch jar")
    opened.settle(opened.undo())
    assert opened.state.plan == plans[0], "two steps of one drag are undone as one"
    assert opened.state.undo_label == ""
    opened.settle(opened.redo())
    opened.settle(opened.redo())
    assert opened.state.plan == plan
    assert (path / "study.toml").read_text() == plan_as_toml(plan, path)
    opened.close()


def test_a_plan_edited_by_hand_is_a_step_that_can_be_undone(
    study_path: Path, tiny_study: Study
) -> None:
    Store.open(study_path).close()
    (study_path / "study.toml").write_text(plan_as_toml(replace(tiny_study, repeats=9), study_path))
    with look_at_study(study_path) as reading:
        assert reading.state.plan.repeats == 9

    opened = Driver(Store.open(study_path))
    assert opened.state.undo_label == "Edit of study.toml by hand"
    opened.settle(opened.undo())
    assert opened.state.plan == tiny_study
    opened.close()


def test_a_reference_grows_for_its_own_place_alone() -> None:
    made = measured_there()
    made.happen(ReferenceGrew(reference="another", samples=5000, chunks=3, floor=0.1, seconds=9.0))
    assert made.state.reference.samples == 1000


def test_snapshots_of_window_command_line_and_replay_agree(driver: Driver) -> None:
    assert driver.run_here(Sweeping()).finished
    edit(driver, size=(48, 27))

    with look_at_study(driver.path) as reading:
        looked: Snapshot = read_snapshot(reading)
        assert (looked.study, looked.runs, looked.state.place) == (
            driver.snapshot.study,
            driver.snapshot.runs,
            driver.snapshot.state.place,
        )

        assert looked.state.records == driver.state.records == driver.study.store.load().records
