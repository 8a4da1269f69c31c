"""From a dropped scene to a picture and an estimate, in the window: how long each takes, how long
the window was ever busy, and how near the estimate comes to what rendering then takes."""

import os
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QPointF, QSettings, QTimer
from PyQt6.QtTest import QTest

from swift_sample.app.session import wait_for_closed
from swift_sample.core.settings import Configuration
from swift_sample.core.study.beginning.pilot import Pilot, pilot_of
from swift_sample.core.study.plan.model import Study, Sweep
from swift_sample.ui.theme import DAY, apply_theme
from swift_sample.ui.window.application import make_application
from swift_sample.ui.window.shell import MainWindow

SCENES = ("honey-stall", "honey-room", "honey-jar")
TICK_MILLISECONDS = 2
LONGEST = 300.0
REPEATS = 3
LARGE = (3840, 2160)
STEPS = 20
STUDIES = tuple(
    (scene, changes)
    for scene in ("honey-stall-small", "honey-jar", "honey-room")
    for changes in (
        {"samples.max": (16, 32), "bounces.total": (2, 4, 8)},
        {"samples.max": (24, 48), "denoise.method": ("wavelet", "patches")},
        {"light.clamp_indirect": (2.0, 8.0), "tiles.size": (8, 64), "scene.keep_built": (True,)},
    )
)


class Ticks:
    """How long the event loop was ever away."""

    def __init__(self) -> None:
        self.longest = 0.0
        self._last = time.perf_counter()
        self._timer = QTimer()
        self._timer.timeout.connect(self._tick)
        self._timer.start(TICK_MILLISECONDS)

    def _tick(self) -> None:
        now = time.perf_counter()
        self.longest = max(self.longest, now - self._last)
        self._last = now


def until(condition) -> float:  # type: ignore[no-untyped-def]
    started = time.perf_counter()
    while not condition():
        QTest.qWait(5)
        if time.perf_counter() - started > LONGEST:
            raise TimeoutError("the window did not get there")

    return time.perf_counter() - started


def drop(scene: str) -> tuple[float, float, float, float, float]:
    """Seconds to the first picture, to one of full size, to another after the camera moved, to the
    estimate; and the longest absence of the event loop."""
    folder = Path(tempfile.mkdtemp())
    window = MainWindow(QSettings(str(folder / "window.ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.entrance.prepares_previews = True
    window.show()
    QTest.qWait(3000)
    ticks = Ticks()
    window.begin(scene)
    first = until(lambda: window.beginning is not None and window.beginning.light is not None)
    beginning = window.beginning
    assert beginning is not None
    full = first + until(
        lambda: beginning.light is not None and beginning.light.shape[1] == beginning.size[0]
    )
    before = beginning.light
    beginning.place_camera(lambda view: view.orbited(10, 0))
    again = until(lambda: beginning.light is not before)
    cost = until(lambda: beginning.costs is not None)
    longest = ticks.longest
    window.close()
    wait_for_closed(30)
    shutil.rmtree(folder, ignore_errors=True)

    return first, full, again, first + cost, longest


def estimates() -> list[float]:
    """What rendering a plan's runs took, over what the pilot said of them."""
    from swift_sample.core.renderers.builtin.renderer import RENDERER
    from swift_sample.core.study.measuring.policies.specs import spec_of

    engine = RENDERER.engine()
    ratios = []
    engine.warm_up(lambda share, text: None)

    def seconds(plan: Study, configuration: Configuration, seed: int) -> float:
        _, record = engine.render(
            spec_of(plan, configuration, seed), None, lambda share: None, lambda stop: None
        )
        return record.seconds["total"]

    for scene, values in STUDIES:
        base = Configuration(RENDERER.catalogue, {"samples.max": 64, "bounces.total": 12})
        plan = Study(
            name="Scripted",
            scene=scene,
            size=(192, 108),
            base=base,
            sweeps=(Sweep("one at a time", values),),
        )
        _, record = engine.render(
            spec_of(plan, pilot_of(base), 1), None, lambda share: None, lambda stop: None
        )
        pilot = Pilot(plan, record)
        told = sum(pilot.seconds(one) for one in plan.planned())
        ratios.append(sum(seconds(plan, one, 2) for one in plan.planned()) / told)
        print(f"  {scene}, {', '.join(values)}: took {ratios[-1]:.2f} of what was told", flush=True)

    return ratios


def look_at_large_pictures() -> dict[str, float]:
    """Milliseconds of a step in Look with two pictures of 3840x2160, in a window of 1280x800 and
    zoomed to their pixels; the median, drawing included."""
    from swift_sample.app.pictures import PictureStore, layers_of
    from swift_sample.core.picture.picture import Picture
    from swift_sample.ui.look.page import DIFFERENCE, SIDE_BY_SIDE, WIPE, LookPage
    from tests.core.study.answers.test_results import with_runs
    from tests.ui.fake_session import FakeSession, snapshot_of

    width, height = LARGE
    rng = np.random.default_rng(1)
    light = rng.random((height, width, 3), np.float32)
    plain = {
        name: rng.random((height, width), np.float32)
        for name in ("depth", "samples", "seconds", "error")
    }
    results = with_runs({100: [10.0] * 3, 50: [5.0] * 3})
    store = PictureStore()
    folder = Path(tempfile.mkdtemp())
    snapshot = snapshot_of(results, folder=folder)
    page = LookPage(DAY, store)
    page.resize(1280, 800)
    session = FakeSession(
        results, path=folder, snapshot=snapshot, selected=tuple(t.id for t in results.trials)
    )
    started = time.perf_counter()

    for trial in results.trials:
        path = snapshot.picture_of(trial.id)
        assert path is not None
        layers = {"raw": light, "albedo": light, "normal": light, **plain}
        store._keep(layers_of(path, Picture(light, layers), frozenset(layers)))

    kept = (time.perf_counter() - started) / len(results.trials)
    page.show()
    session.attach(page)
    QTest.qWait(300)
    told = {"keeping one, off the window's thread": 1000 * kept}

    def step(name: str, *acts: Callable[[], object]) -> None:
        times = []
        for k in range(STEPS):
            started = time.perf_counter()
            acts[k % len(acts)]()
            page.canvas.repaint()
            times.append(time.perf_counter() - started)

        told[name] = 1000 * statistics.median(times)

    for where in ("whole", "at its pixels"):
        if where == "whole":
            page.canvas.fit()
        else:
            page.canvas.viewport.zoom = 1.0
            page.canvas.viewport.centre = QPointF(width / 2, height / 2)

        exposures = [lambda k=k: page._exposure.setValue(k / 10) for k in range(1, 30)]
        step(f"exposure, {where}", *exposures)
        page.set_mode(DIFFERENCE)
        step(
            f"gain, {where}",
            *(lambda k=k: (page._gain.setCurrentIndex(k), page.refresh()) for k in range(5)),
        )
        page.set_mode(SIDE_BY_SIDE)
        step(
            f"curve, {where}",
            *(lambda k=k: (page._curve.setCurrentIndex(k), page.refresh()) for k in (1, 2)),
        )
        step(
            f"pass, {where}",
            *(
                lambda key=key: page.set_pass(key)
                for key in ("albedo", "samples", "normal", "beauty")
            ),
        )
        step(f"mode, {where}", lambda: page.set_mode(WIPE), lambda: page.set_mode(SIDE_BY_SIDE))
        step(
            f"moving, {where}",
            lambda: page.canvas._move_by(QPointF(13, 7)),
            lambda: page.canvas._move_by(QPointF(-13, -7)),
        )

    page.hide()
    page.finish()
    store.close()
    shutil.rmtree(folder)

    return told


def main() -> None:
    """Print the table; with `look` as argument only the part on large pictures."""
    application = make_application(["benchmark"])
    apply_theme(application, DAY)
    for name, milliseconds in look_at_large_pictures().items():
        print(f"  two pictures of {LARGE[0]}x{LARGE[1]}, {name}: {milliseconds:.1f} ms", flush=True)

    if "look" in sys.argv:
        return

    for scene in SCENES:
        rows = [drop(scene) for _ in range(REPEATS)]
        first, full, again, cost, longest = (
            statistics.median(column) for column in zip(*rows, strict=True)
        )

        print(
            f"  {scene}: first picture {first:.2f} s after the drop, of full size {full:.2f} s, "
            "after the camera moved "
            f"{again:.2f} s, estimate {cost:.1f} s; the window was away for {1000 * longest:.0f} "
            "ms at most",
            flush=True,
        )

    ratios = estimates()
    print(
        f"  estimates within 25 %: {sum(0.75 <= ratio <= 1.25 for ratio in ratios)} of "
        f"{len(ratios)}"
    )
