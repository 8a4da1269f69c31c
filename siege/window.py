"""The window, driven while its study is attacked: its worker is killed and held, pictures and
references are deleted and damaged, the scene changes and goes, the plan is edited by hand, the
database is held.

Nothing unexpected may be logged, the window may not hang, and in the end all is measured.
"""

import logging
import os
import random
import shutil
import signal
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtWidgets import QApplication

from siege.findings import Findings
from siege.studies import COLOURS, Finished, check, plan_of, write_scene
from swift_sample.app.session import Session
from swift_sample.core import log
from swift_sample.core.errors import one_line
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan.edits import PlanEdit
from swift_sample.ui.window.application import make_application
from swift_sample.ui.window.shell import MainWindow

LONGEST_TURN = 5.0
"""Seconds for which the window may not answer."""
TURN_SECONDS = 0.15
AT_THE_END = 120.0


class Siege:
    def __init__(self, findings: Findings, rng: random.Random, most: int) -> None:
        self.findings = findings
        self.rng = rng
        self.most = most
        self.folder = Path(tempfile.mkdtemp(prefix="siege-"))
        self.scene = self.folder / "scene.gltf"
        self.study = self.folder / "window.study"
        write_scene(self.scene)
        create_study(self.study, plan_of(self.scene, (48, 27), 32, 3))
        self.application = make_application(sys.argv[:1])
        self.window = MainWindow(
            QSettings(str(self.folder / "settings.ini"), QSettings.Format.IniFormat)
        )
        self.longest = 0.0
        self.turned = time.monotonic()
        self.held: sqlite3.Connection | None = None

    @property
    def session(self) -> Session | None:
        return self.window.session

    def run(self) -> None:
        log.listen(
            lambda where, error: self.findings.fault(
                f"{where}: {type(error).__name__}: {one_line(error)}"
            )
        )
        beat = QTimer()
        beat.timeout.connect(self._beat)
        beat.start(20)
        self.window.resize(1280, 800)
        self.window.show()
        self.window.open_study(self.study, True)
        self._wait(2)
        moves: list[Callable[[], None]] = (
            [self._page] * 4 + [self._edit] * 4 + [self._measure] * 4 + self._attacks
        )

        while self.findings.tried.total() < self.most and not self.findings.time_is_up:
            move = self.rng.choice(moves)
            self.findings.tried[move.__name__.strip("_").replace("_", " ")] += 1

            try:
                move()
            except OSError as error:
                self.findings.figures["an attack that failed itself"] = one_line(error)
            except Exception as error:
                self.findings.fault(f"{move.__name__}: {type(error).__name__}: {one_line(error)}")

            self._wait(self.rng.uniform(0, 2 * TURN_SECONDS))

        self._let_go()
        self._finish()

    @property
    def _attacks(self) -> list[Callable[[], None]]:
        return [
            self._kill_the_worker,
            self._hold_the_worker,
            self._delete_a_picture,
            self._damage_a_picture,
            self._damage_the_reference,
            self._change_the_scene,
            self._take_the_scene_away,
            self._hold_the_database,
            self._close_and_open,
        ]

    def _beat(self) -> None:
        now = time.monotonic()
        self.longest = max(self.longest, now - self.turned)
        self.turned = now

    def _wait(self, seconds: float, until: Callable[[], bool] = lambda: False) -> None:
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline and not until():
            QApplication.processEvents()
            time.sleep(0.005)

    def _page(self) -> None:
        self.window.show_page(self.rng.choice(list(self.window.pages)))

    def _edit(self) -> None:
        session = self.session
        if session is None or session.snapshot is None:
            return

        kind = self.rng.randrange(5)
        if kind == 0:
            exposure = self.rng.choice((0.0, 0.5, 1.0))
            session.edit(
                PlanEdit(
                    "View", lambda plan: replace(plan, view=replace(plan.view, exposure=exposure))
                )
            )
        elif kind == 1:
            session.undo()
        elif kind == 2:
            session.redo()
        elif kind == 3:
            session.set_limit("grain", self.rng.choice((40.0, 60.0)))
        else:
            session.set_values("samples.max", self.rng.choice(((16,), (16, 24), (8, 16, 24))))

    def _measure(self) -> None:
        session = self.session
        if session is not None and session.snapshot is not None:
            (session.stop if self.rng.random() < 0.3 else session.measure)()

    def _kill_the_worker(self) -> None:
        self._signal(signal.SIGKILL)

    def _hold_the_worker(self) -> None:
        self._signal(signal.SIGSTOP)
        self._wait(0.2)
        self._signal(signal.SIGCONT)

    def _signal(self, which: signal.Signals) -> None:
        pid = self.session.worker_pid if self.session is not None else None
        if pid:
            os.kill(pid, which)

    def _picture(self) -> Path | None:
        pictures = sorted((self.study / "pictures").glob("*.exr"))
        return self.rng.choice(pictures) if pictures else None

    def _delete_a_picture(self) -> None:
        picture = self._picture()
        if picture is not None:
            picture.unlink()

    def _damage_a_picture(self) -> None:
        picture = self._picture()
        if picture is not None:
            data = bytearray(picture.read_bytes())
            for _ in range(20):
                data[self.rng.randrange(len(data))] ^= 0xFF
            picture.write_bytes(data)

    def _damage_the_reference(self) -> None:
        for reference in (self.study / "reference").glob("*.exr"):
            reference.write_bytes(reference.read_bytes()[: self.rng.randrange(4000)])

    def _change_the_scene(self) -> None:
        write_scene(self.scene, self.rng.choice(COLOURS))
        if self.session is not None:
            self.session.look_around()

    def _take_the_scene_away(self) -> None:
        away = self.scene.with_suffix(".away")
        if self.scene.exists():
            self.scene.rename(away)
            self._wait(0.5)
            away.rename(self.scene)

    def _hold_the_database(self) -> None:
        holder = sqlite3.connect(self.study / "results.db", timeout=1, isolation_level=None)
        try:
            holder.execute("BEGIN IMMEDIATE")
            self._wait(1.0)
            holder.execute("ROLLBACK")
        except sqlite3.Error:
            return
        finally:
            holder.close()

    def _close_and_open(self) -> None:
        self.window.open_study(self.study, True)
        self._wait(3, lambda: self.session is not None and self.session.snapshot is not None)

    def _let_go(self) -> None:
        write_scene(self.scene)

    def _finish(self) -> None:
        """Undisturbed it measures to the end."""
        session = self.session
        self._wait(10, lambda: session is not None and session.snapshot is not None)

        if session is None or session.snapshot is None:
            self.findings.fault("the study is not open in the end")
            return

        session.look_around()
        session.measure()

        done = lambda: (  # noqa: E731
            session.snapshot is not None
            and not session.activity.measuring
            and session.snapshot.problem is None
            and not session.snapshot.to_come
            and not session.snapshot.trials_unmeasured
        )
        deadline = time.monotonic() + AT_THE_END

        while not done() and time.monotonic() < deadline:
            self._wait(5, done)
            if not session.activity.measuring and not done():
                session.measure()

        if not done():
            left = session.snapshot
            self.findings.fault(
                f"it did not measure to the end: {len(left.to_come)} runs to come, "
                f"{left.trials_unmeasured} unmeasured, "
                f"{left.remarks}, {session.activity}, {session.snapshot.state.outcome}"
            )

        self.findings.figures["longest that the window did not answer"] = f"{self.longest:.1f} s"
        if self.longest > LONGEST_TURN:
            self.findings.fault(f"the window did not answer for {self.longest:.1f} s")

        self.window.close()
        self._wait(3)

        try:
            check(self.study, Finished())
        except AssertionError as error:
            self.findings.fault(f"{self.study}: {error}")
        else:
            shutil.rmtree(self.folder, ignore_errors=True)


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    os.environ["SWIFT_SAMPLE_STATE"] = tempfile.mkdtemp(prefix="siege-")
    logging.getLogger("swift_sample").setLevel(logging.INFO)
    Siege(findings, rng, most).run()
