"""Renders by Beadlight, the stand-in for a program with a command line, kept (`bank`): started,
timed and read by the command renderer, so that a search has its times and pictures alone."""

import json
import os
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.search.bank import KEPT, Pool, Shot, combinations
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.command.renderer import CommandRenderer
from swift_sample.core.renderers.command.trust import confirm, seen_file
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.identity import seed_of, trial_identity
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan.model import Limits, Study, Sweep

EXAMPLES = Path(__file__).resolve().parents[2] / "examples" / "outside"
SIZE = (96, 54)
SEEDS = 4
CONTENDER_SEEDS = 16
"""How many renders there are of a configuration, and of the base and of those that may be the
fastest acceptable one."""
CONTENDS = 1.35
"""A configuration that takes no longer than this over the fastest, and that few renders do not rule
out."""
LIMITS = Limits(
    grain=9.0,
    light_shift=2.0,
    detail_kept=90.0,
    stray_pixels=20_000.0,
    grain_worst=30.0,
    light_shift_worst=None,
    detail_kept_worst=None,
)


class OutsidePool(Pool):
    """Renders by a program that is started for each. The number of rows at once is left alone: 540
    combinations."""

    def __init__(self) -> None:
        os.environ["XDG_DATA_HOME"] = str((KEPT / "confirmed").absolute())
        described = EXAMPLES / "beadlight.toml"
        confirm(seen_file(described))
        renderer = CommandRenderer(described)
        self._engine = renderer.engine()
        catalogue = renderer.catalogue
        values = {
            key: declared.suggested for key, declared in catalogue.items() if key != "picture.rows"
        }

        super().__init__(
            "beads",
            Study(
                name="beads",
                scene=str(EXAMPLES / "shelf.beads"),
                size=SIZE,
                view=View(),
                sweeps=(Sweep("grid", values),),
                limits=LIMITS,
                base=Configuration(catalogue, {}),
            ),
        )
        self._list = self.folder / "contenders.json"
        self._contenders = self._listed()

    def seeds(self, configuration: Configuration) -> int:
        return CONTENDER_SEEDS if configuration.effective() in self._contenders else SEEDS

    def shot(self, configuration: Configuration, number: int) -> Shot:
        path = self._path(configuration, number)
        if not path.is_file():
            self._render(path, configuration, seed_of(trial_identity(configuration).name, number))

        kept = np.load(path)
        return Shot(kept["light"], None, RunRecord.model_validate_json(str(kept["record"])))

    def make(self, tell: Callable[[str], None]) -> None:
        """One seed of everything after another, so that a slow hour does not belong to a setting;
        then more of those that may be the best, by which they are told apart."""
        every = combinations(self.study)
        for _ in range(2):
            missing = [
                (k, one)
                for k in range(CONTENDER_SEEDS)
                for one in every
                if k < self.seeds(one) and not self._path(one, k).is_file()
            ]
            for done, (k, one) in enumerate(missing):
                if done % 100 == 0:
                    tell(f"{self.name}: {len(missing) - done} renders to go")
                self.shot(one, k)

            if self._list.is_file():
                return

            hopeful = [one for one in every if self.share(one).low <= 1]
            least = min(self.seconds(one) for one in hopeful if self.share(one).value <= 1)
            chosen = [
                self.study.base,
                *(one for one in hopeful if self.seconds(one) <= CONTENDS * least),
            ]
            self._list.write_text(json.dumps([dict(one) for one in chosen]), "utf-8")
            self._contenders = self._listed()
            self.forget()

    def _listed(self) -> frozenset[Configuration]:
        if not self._list.is_file():
            return frozenset()
        told = json.loads(self._list.read_text("utf-8"))
        return frozenset(Configuration(self.study.catalogue, one).effective() for one in told)

    def reference_part(self, name: str, samples: int, seed: int) -> tuple[Picture, float]:
        """In two renders of half the samples, as the worker does where a renderer keeps no
        halves."""
        halves = []
        seconds = 0.0

        for k, own in enumerate((seed, seed + samples // 2)):
            path = self.folder / f"{name} half {k}.npz"
            if not path.is_file():
                self._render(path, self.study.reference_configuration(samples // 2), own)
            kept = np.load(path)
            halves.append(kept["light"])
            seconds += RunRecord.model_validate_json(str(kept["record"])).seconds["total"]

        return Picture(
            (halves[0] + halves[1]) / 2, {"half_a": halves[0], "half_b": halves[1]}
        ), seconds

    def _path(self, configuration: Configuration, number: int) -> Path:
        return self.folder / f"{trial_identity(configuration.effective()).name} {number}.npz"

    def _render(self, path: Path, configuration: Configuration, seed: int) -> None:
        spec = spec_of(self.study, configuration, seed)
        picture, record = self._engine.render(spec, None, lambda share: None, lambda stop: None)
        np.savez(path, light=picture.beauty, record=record.model_dump_json())
