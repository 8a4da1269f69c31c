"""How much picture a second of rendering gives, against an earlier version of this program beside
it.

Efficiency is 1 / (time x mean square error in display levels against a deep reference), at equal
settings. Four scenes: the demo, an interior lit through a window, a product under a picture sky,
and foliage with cut-outs. The earlier version is checked out under build/, and both render the same
scenes in turn, each in a process of its own.
"""

import dataclasses
import hashlib
import json
import os
import pickle
import statistics
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.speed.foliage import foliage
from swift_sample.core.picture.view import View
from swift_sample.core.scene.model import Scene, Texture
from swift_sample.core.scene.open import open_scene

BEFORE = os.environ.get("EFFICIENCY_BEFORE", "547836f")
SIZE = (320, 180)
SETTINGS: dict[str, Any] = {"samples.max": 16, "bounces.total": 12, "device.threads": 2}
ROUNDS, REFERENCE_PARTS, REFERENCE_SAMPLES = 6, 4, 160
STRAY = 60.0
"""Levels by which a pixel is brighter than the reference to be counted as stray here."""
KEPT = Path("build/efficiency")
SCENES: dict[str, Callable[[], Scene]] = {
    "demo": lambda: open_scene("honey-stall"),
    "interior": lambda: open_scene("honey-room"),
    "product": lambda: open_scene("honey-jar"),
    "foliage": foliage,
}


def as_data(value: Any) -> Any:
    """A scene as plain data that other versions can read."""
    if isinstance(value, Texture):
        names = ("name", "pixels", "srgb", "wrap", "nearest")
        return {"class": "Texture", "fields": {name: getattr(value, name) for name in names}}

    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        fields = {one.name: as_data(getattr(value, one.name)) for one in dataclasses.fields(value)}
        return {"class": type(value).__name__, "fields": fields}

    if isinstance(value, list | tuple):
        return type(value)(map(as_data, value))
    if isinstance(value, dict):
        return {key: as_data(one) for key, one in value.items()}

    return value


class Version:
    """A checkout that renders on request."""

    def __init__(self, name: str, folder: Path) -> None:
        self.name = name
        child = Path(__file__).with_name("efficiency_child.py").resolve()

        self._process = subprocess.Popen(
            [sys.executable, str(child)],
            env={**os.environ, "PYTHONPATH": str(folder.resolve())},
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )

    def ask(self, **wanted: Any) -> dict[str, Any]:
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        print(json.dumps(wanted), file=self._process.stdin, flush=True)
        answer = self._process.stdout.readline()

        if not answer:
            raise RuntimeError(f"{self.name} ended")

        return json.loads(answer)  # type: ignore[no-any-return]

    def render(
        self, seed: int, samples: int | None = None, size: tuple[int, int] = SIZE
    ) -> tuple[np.ndarray, float]:
        """The picture in display levels' linear light, and the seconds of its sampling."""
        out = KEPT / f"{self.name}.npy"
        settings = SETTINGS if samples is None else {**SETTINGS, "samples.max": samples}
        answer = self.ask(settings=settings, seed=seed, size=size, out=str(out))

        return np.load(out), float(answer["seconds"])

    def close(self) -> None:
        assert self._process.stdin is not None
        self._process.stdin.close()
        self._process.wait()


def before_folder() -> Path:
    """The earlier version's checkout."""
    folder = KEPT / BEFORE
    if not folder.is_dir():
        subprocess.run(["git", "worktree", "prune"], check=True)
        subprocess.run(
            ["git", "worktree", "add", "--detach", str(folder), BEFORE],
            check=True,
            capture_output=True,
        )

    return folder


def reference_of(name: str, now: Version) -> tuple[np.ndarray, float]:
    """A deep picture in levels, and its own mean square error; kept for the scene as it is."""
    scene = hashlib.sha256((KEPT / f"{name}.pickle").read_bytes()).hexdigest()[:12]
    path = KEPT / f"{name}-{scene}-{REFERENCE_PARTS}x{REFERENCE_SAMPLES}.npz"

    if not path.is_file():
        parts = [now.render(9_000_000 + k, REFERENCE_SAMPLES)[0] for k in range(REFERENCE_PARTS)]
        np.savez(path, parts=parts)

    view = View(0.0, "soft")
    parts = np.load(path)["parts"]
    halves = [
        view.levels(part.mean(axis=0).astype(np.float32)) for part in (parts[::2], parts[1::2])
    ]

    return view.levels(parts.mean(axis=0).astype(np.float32)), float(
        ((halves[0] - halves[1]) ** 2).mean() / 4
    )


def main() -> None:
    """Print the table."""
    KEPT.mkdir(parents=True, exist_ok=True)
    view = View(0.0, "soft")
    gains = []
    before = Version("before", before_folder())
    now = Version("now", Path("."))
    print(
        f"  {'scene':10s} {'time':>18s} {'mean square error':>20s} {'stray pixels':>16s}   "
        f"efficiency over {BEFORE}"
    )

    for name, make in SCENES.items():
        path = KEPT / f"{name}.pickle"
        path.write_bytes(pickle.dumps(as_data(make())))

        for version in (before, now):
            version.ask(scene=str(path))
            version.render(1)

        reference, own = reference_of(name, now)
        seconds: dict[str, list[float]] = {"before": [], "now": []}
        errors: dict[str, list[float]] = {"before": [], "now": []}
        strays: dict[str, list[float]] = {"before": [], "now": []}

        for seed in range(ROUNDS):
            for version in (before, now) if seed % 2 else (now, before):
                picture, took = version.render(100 + seed)
                off = view.levels(picture) - reference
                seconds[version.name].append(took)
                errors[version.name].append(float((off**2).mean()) - own)
                strays[version.name].append(float((off.max(axis=2) > STRAY).mean() * 1e6))

        ratios = [b / n for b, n in zip(seconds["before"], seconds["now"], strict=True)]
        faster = statistics.median(ratios)
        cleaner = np.mean(errors["before"]) / np.mean(errors["now"])
        gains.append(faster * cleaner)
        told = [
            " -> ".join(f"{np.mean(of[which]):.{places}f}" for which in ("before", "now"))
            for of, places in ((seconds, 3), (errors, 2), (strays, 0))
        ]

        print(
            f"  {name:10s} {told[0]:>18s} {told[1]:>20s} {told[2]:>16s}   {gains[-1]:.2f} "
            f"(time {faster:.2f}, error {cleaner:.2f})",
            flush=True,
        )

    print(
        f"  geometric mean of the gains {np.exp(np.mean(np.log(gains))):.2f}   reach 3, at "
        "least 1.5 each"
    )
    before.close()
    now.close()
