"""Make every picture in docs/screenshots from the demo study: `make screenshots`.

The demo is measured once (under ten minutes) and kept in build/; delete that folder to measure
anew.
"""

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QPointF, QSettings
from PyQt6.QtTest import QTest

from swift_sample.app.session import wait_for_closed
from swift_sample.cli import run
from swift_sample.core.study.answers.field import combinations
from swift_sample.core.study.log.store import create_study, is_study
from swift_sample.core.study.measuring.steps import RunStep
from swift_sample.core.study.plan import edits
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.core.study.plan.model import FramePlan
from swift_sample.ui.dialogs.finished import FinishedRenders
from swift_sample.ui.look.head import REFERENCE
from swift_sample.ui.pages import CostPage, FramesPage, LookPage, MachinesPage, ReportPage
from swift_sample.ui.theme import DAY, DUSK, apply_theme
from swift_sample.ui.window.application import make_application
from swift_sample.ui.window.shell import MainWindow

ROOT = Path(__file__).resolve().parent.parent
WORK = ROOT / "build"
OUT = ROOT / "docs" / "screenshots"
DOTS_APART = 8
"""One in so many combinations is derived for the map."""
OUTSIDE = ROOT / "examples" / "outside"


def wait_until(condition: Callable[[], object], seconds: float = 120) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        if time.monotonic() > deadline:
            raise TimeoutError("the window did not get there in time")
        QTest.qWait(50)


def shoot(window: MainWindow, name: str) -> None:
    QTest.qWait(700)
    window.grab().save(str(OUT / f"{name}.png"))
    print(name, file=sys.stderr)


def open_window(
    study: Path | None, size: tuple[int, int] = (1280, 800), recent: tuple[Path, ...] = ()
) -> MainWindow:
    wait_for_closed(30)
    settings = QSettings(str(WORK / "window.ini"), QSettings.Format.IniFormat)
    settings.clear()
    settings.setValue("recent", [str(path) for path in recent])
    window = MainWindow(settings)
    window.set_theme(DAY)
    window.resize(*size)
    window.show()

    if study is not None:
        window.open_study(study)
        wait_until(lambda: window.session is not None and window.session.snapshot is not None)

    return window


def shoot_frames(window: MainWindow) -> None:
    """Five frames of the stall's camera move, measured where they are not."""
    session = window.session
    assert session is not None
    window.show_page("Frames")
    window.page(FramesPage).ask_for(FramePlan(0, 47, 5))
    wait_until(
        lambda: (
            not session.activity.measuring
            and (found := session.view().frames) is not None
            and found.left == 0
        ),
        600,
    )
    shoot(window, "frames")


def shoot_beginning(window: MainWindow) -> None:
    """The product scene while a study of it is begun, up to its cost."""
    window.begin("honey-jar")
    wait_until(
        lambda: (
            window.beginning is not None
            and window.beginning.costs is not None
            and window.beginning.crops
        ),
        300,
    )
    shoot(window, "begin")


def shoot_materials() -> None:
    """What the features of the jar cost, as `scripts/audits.py` measured them; left out where this
    version did not."""
    audit = WORK / "audits" / "honey-jar.study"
    window = open_window(audit) if is_study(audit) else None
    snapshot = (
        window.session.snapshot if window is not None and window.session is not None else None
    )

    if (
        window is None
        or snapshot is None
        or snapshot.results.base is None
        or not snapshot.results.base.is_on_map
    ):
        print("cost-materials is left as it is: `make audits` measures it", file=sys.stderr)
        if window is not None:
            window.close()
        return

    window.show_page("Cost")
    QTest.qWait(1500)
    window.page(CostPage).show_materials()
    QTest.qWait(2500)
    window.page(CostPage).refresh()
    shoot(window, "cost-materials")
    window.close()


def shoot_outside() -> None:
    """The stand-in for another renderer, tested, and some of its renders as finished ones."""
    os.chdir(ROOT)
    window = open_window(None)
    dialog = window.files.use_other_renderer(
        "examples/outside/beadlight.toml", "examples/outside/shelf.beads"
    )
    dialog.may.setChecked(True)
    dialog.test.click()
    wait_until(lambda: dialog.test.text() == "Test it", 300)
    QTest.qWait(500)
    dialog.grab().save(str(OUT / "other-renderer.png"))
    dialog.reject()
    renders = WORK / "beads"
    command = [sys.executable, str(OUTSIDE / "beadlight.py"), str(OUTSIDE / "shelf.beads")]
    shutil.rmtree(renders, ignore_errors=True)
    renders.mkdir()

    for passes, depth in ((8, 2), (8, 8), (32, 2), (32, 8)):
        began = time.perf_counter()
        picture = renders / f"passes{passes}_depth{depth}.png"
        subprocess.run(
            [*command, "--picture", str(picture), "--passes", str(passes), "--depth", str(depth)],
            check=True,
        )
        took = time.perf_counter() - began
        picture.rename(picture.with_name(f"{picture.stem}_{took:.1f}s.png"))

    subprocess.run(
        [*command, "--picture", str(renders / "reference.png"), "--passes", "256", "--depth", "8"],
        check=True,
    )
    window.files.take(sorted(renders.glob("*.png")))
    finished = window.findChild(FinishedRenders)
    assert finished is not None
    QTest.qWait(500)
    finished.grab().save(str(OUT / "finished.png"))
    finished.reject()
    window.close()


def shoot_machines() -> None:
    """Two parts of this computer as two kinds of machine, while they measure the last of a small
    study of the stall."""
    study = WORK / "machines.study"
    address = "127.0.0.1:8798"
    shutil.rmtree(study, ignore_errors=True)
    plan = replace(demo_study(), name="Honey stall", size=(160, 90), sweeps=())
    tried = {**demo_study().values_to_try(), "tiles.size": (8, 32, 128)}
    keys = ("samples.max", "denoise.method", "tiles.size")
    create_study(study, plan.with_values_to_try({key: tried[key] for key in keys}))
    command = [sys.executable, "-m", "swift_sample.cli", "machines"]
    started = [subprocess.Popen([*command, "start", "--at", address, "--not-here"])]
    time.sleep(4)
    for name, processors in (("bench", "0"), ("workshop", "0,1")):
        started.append(
            subprocess.Popen(
                [*command, "join", address, "--name", name, "--processors", processors]
            )
        )

    try:
        run(["run", str(study), "--on", address])
        window = open_window(study)
        window.show_page("Machines")
        assert window.session is not None
        window.session.edit(
            PlanEdit("One more run of each", lambda now: replace(now, repeats=now.repeats + 1))
        )
        window.session.use_machines(address, "", True)
        window.measure()
        shown = window.page(MachinesPage)
        wait_until(
            lambda: any("rendering" in one.state for one in shown.model.machines.members), 120
        )
        shoot(window, "machines")
        window.session.stop()
        wait_until(lambda: not window.session.activity.measuring)
        window.close()
    finally:
        for process in reversed(started):
            process.terminate()
            process.wait()


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    WORK.mkdir(exist_ok=True)
    study = WORK / "honey-stall.study"

    if run(["demo", "--headless", "--out", str(study)]) not in (0, 3):
        raise SystemExit("the demo study could not be measured")

    application = make_application(sys.argv[:1])
    apply_theme(application, DAY)

    window = open_window(None, recent=(study,))
    QTest.qWait(3000)
    shoot(window, "welcome")
    shoot_beginning(window)
    window.close()

    window = open_window(study)
    session = window.session
    assert session is not None
    session.derive(list(combinations(session.study))[::DOTS_APART])
    wait_until(lambda: not session.activity.measuring and session.field is not None, 1200)
    shoot(window, "map")
    sheet = window.take_pick()
    assert sheet is not None
    QTest.qWait(500)
    sheet.grab().save(str(OUT / "take.png"))
    sheet.reject()
    session.select_setting("bounces.total")
    shoot(window, "map-trail")
    session.select_setting(None)
    results = session.results
    assert results is not None
    window.show_page("Look")
    few = next(
        t.id
        for t in results.trials
        if dict(t.configuration.differences(results.study.base)) == {"bounces.total": 2}
    )
    session.compare([few, REFERENCE])
    QTest.qWait(1500)
    shoot(window, "look-side")
    look = window.page(LookPage)
    pick = session.pick()
    assert pick is not None
    assert results.base is not None
    session.compare([pick.trial.id, REFERENCE])
    QTest.qWait(500)
    look.set_mode("blend")
    blend = look.blend
    assert blend is not None
    wait_until(lambda: bool(blend.figures), 300)
    look.blend_bar.erase.click()
    for x in range(10, 200, 6):
        look.canvas.painted.emit(QPointF(x, 155), QPointF(x + 6, 155), x == 10)

    QTest.qWait(300)
    wait_until(lambda: not blend.is_measuring, 60)
    shoot(window, "look-blend")
    session.compare([few, REFERENCE])
    pick_point = session.pick()
    assert pick_point is not None
    session.show_settings(pick_point.trial.configuration)
    session.turn_knob("bounces.total", 2)
    wait_until(lambda: not session.activity.measuring and session.field is not None, 120)
    shoot(window, "knobs")
    session.compare([few, REFERENCE])
    for _ in range(2):
        window.page(LookPage).canvas.zoom_by_step(True)

    window.page(LookPage).canvas.fit()
    window.page(LookPage).set_mode("side by side")
    for x, y, width, height, name in ((195, 51, 53, 83, "candles"), (16, 83, 83, 53, "honey")):
        session.edit(edits.watch(name, x, y, width, height))

    QTest.qWait(500)
    window.page(LookPage).choose_area("honey")
    session.measure()  # where it has not begun by itself

    wait_until(
        lambda: (
            not session.activity.measuring
            and session.snapshot is not None
            and any("grain@honey" in t.shares for t in session.snapshot.results.trials)
        ),
        600,
    )
    QTest.qWait(1500)
    shoot(window, "look-areas")
    for area in list(session.study.areas):
        session.edit(edits.remove_area(area.name))

    session.compare([])
    wait_until(lambda: session.pick() is not None)
    wait_until(lambda: not session.activity.measuring, 600)
    window.show_page("Plan")
    shoot(window, "plan")
    window.show_page("Cost")
    QTest.qWait(1500)
    shoot(window, "cost")
    window.show_page("Report")
    wait_until(lambda: window.page(ReportPage).page_count > 0)
    shoot(window, "report")
    shoot_frames(window)
    window.show_page("Map")
    window.set_theme(DUSK)
    shoot(window, "dusk")
    window.set_theme(DAY)
    window.close()

    shoot_materials()
    shoot_outside()
    shoot_machines()

    fresh = WORK / "measuring.study"
    if not is_study(fresh):
        create_study(fresh, demo_study())

    window = open_window(fresh)
    session = window.session
    assert session is not None
    window.measure()

    wait_until(
        lambda: (
            session.snapshot is not None
            and len(session.snapshot.runs) >= 14
            and isinstance(session.activity.step, RunStep)
            and session.activity.share > 0.3
        ),
        600,
    )
    shoot(window, "measuring")
    window.close()


if __name__ == "__main__":
    main()
