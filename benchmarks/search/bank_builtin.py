"""Renders of three scenes by the built-in path tracer, kept (`bank`)."""

import json
import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import cached_property
from pathlib import Path

import numpy as np

from benchmarks.search.bank import Pool, Shot, combinations
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import PHASES, RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import KEEPS_SCENE
from swift_sample.core.study.log.identity import seed_of, trial_identity
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.model import Limits, Study, Sweep
from swift_sample.core.study.search.search import CHEAPER, candidates

SIZE = (96, 54)
SEEDS, BASE_SEEDS, OPENINGS = 8, 24, 8
"""How many renders there are of a configuration and of the base, and how often opening was
timed."""
PREPARING = ("load", "textures", "build")
DENOISERS: tuple[dict[str, Value], ...] = (
    {"denoise.method": "wavelet", "denoise.strength": 0.8},
    {"denoise.method": "wavelet", "denoise.strength": 1.0},
    {"denoise.method": "patches", "denoise.strength": 0.8},
    {"denoise.method": "patches", "denoise.strength": 1.0},
)
RENDERED = {"bounces.total": (2, 3, 4, 6, 8, 12), "light.clamp_indirect": (0.0, 2.0)}
AROUND: dict[str, tuple[Value, ...]] = {
    "denoise.method": ("none", "wavelet", "patches"),
    "denoise.strength": (0.8, 1.0),
    "scene.keep_built": (False, True),
}


def planned(
    scene: str, samples: tuple[int, ...], base: Mapping[str, Value], limits: Limits
) -> Study:
    """A study of every combination, 1,000 and more."""
    values = {"samples.max": samples, **RENDERED, **AROUND}
    study = demo_study(scene, SIZE)

    return replace(
        study,
        name=scene,
        base=Configuration(CATALOGUE, dict(base)),
        sweeps=(Sweep("one at a time", values),),
        limits=limits,
    )


STUDIES = {
    study.scene: study
    for study in (
        planned(
            "honey-stall",
            (6, 8, 12, 16, 24, 32, 48),
            {
                "samples.max": 48,
                "bounces.total": 12,
                "denoise.method": "wavelet",
                "denoise.strength": 0.8,
            },
            Limits(
                grain=6.0,
                light_shift=1.5,
                detail_kept=95.0,
                stray_pixels=11_000.0,
                grain_worst=12.0,
                light_shift_worst=None,
                detail_kept_worst=None,
            ),
        ),
        planned(
            "honey-jar",
            (8, 12, 16, 24, 32, 48, 64),
            {"samples.max": 64, "bounces.total": 12},
            Limits(
                grain=6.5,
                light_shift=1.5,
                detail_kept=94.0,
                stray_pixels=8_000.0,
                grain_worst=13.0,
                light_shift_worst=None,
                detail_kept_worst=None,
            ),
        ),
        # Its reference is too grainy for detail to be told: that has no limit here, as nowhere have
        # light and detail in cells of seven pixels.
        planned(
            "honey-room",
            (16, 24, 32, 48, 64, 96, 128),
            {
                "samples.max": 128,
                "bounces.total": 12,
                "denoise.method": "wavelet",
                "denoise.strength": 0.8,
            },
            Limits(
                grain=14.0,
                light_shift=3.5,
                detail_kept=None,
                stray_pixels=45_000.0,
                grain_worst=26.0,
                light_shift_worst=None,
                detail_kept_worst=None,
            ),
        ),
    )
}


class BuiltinPool(Pool):
    """Renders by the built-in path tracer."""

    def __init__(self, study: Study) -> None:
        super().__init__(study.scene, study)
        self._engine = RENDERER.engine()

    def seeds(self, configuration: Configuration) -> int:
        return BASE_SEEDS if _raw(configuration) == _raw(self.study.base) else SEEDS

    def shot(self, configuration: Configuration, number: int) -> Shot:
        kept = self._kept(_raw(configuration), number)
        record = RunRecord.model_validate_json(str(kept["record"]))
        denoiser = _denoiser(configuration)

        if denoiser is None:
            raw = kept["raw"]
            return Shot(
                raw.mean(axis=0),
                (raw[0], raw[1]),
                self._composed(record, configuration, 0.0, number),
            )

        return Shot(
            kept[f"beauty {denoiser}"],
            None,
            self._composed(record, configuration, float(kept[f"seconds {denoiser}"]), number),
        )

    def make(self, tell: Callable[[str], None]) -> None:
        """One seed of everything after another, so that a slow hour does not belong to a
        setting."""
        raws = list(dict.fromkeys(map(_raw, (*combinations(self.study), *self._cheaper()))))
        missing = [
            (k, raw)
            for k in range(BASE_SEEDS)
            for raw in raws
            if k < self.seeds(raw) and not self._path(raw, k).is_file()
        ]

        for done, (k, raw) in enumerate(missing):
            if done % 100 == 0:
                tell(f"{self.name}: {len(missing) - done} renders to go")
            self._kept(raw, k)

    def _cheaper(self) -> list[Configuration]:
        """What a search may go on to below the study's own values."""
        space = self.study.space()
        beyond: dict[str, tuple[Value, ...]] = {
            key: tuple(dict.fromkeys((*(round(share * min(values)) for share in CHEAPER), *values)))  # type: ignore[type-var, operator]
            for key, values in space.items()
            if key in ("samples.max", "bounces.total")
        }

        beyond["light.clamp_indirect"] = space["light.clamp_indirect"]
        return candidates(self.study.base, beyond, [], np.random.default_rng(0))

    def reference_part(self, name: str, samples: int, seed: int) -> tuple[Picture, float]:
        path = self.folder / f"{name}.npz"
        if not path.is_file():
            picture, record = self._render(self.study.reference_configuration(samples), seed)
            assert picture.halves is not None
            np.savez(path, halves=np.array(picture.halves), seconds=record.seconds["sampling"])

        kept = np.load(path)
        half_a, half_b = kept["halves"]
        return Picture(kept["halves"].mean(axis=0), {"half_a": half_a, "half_b": half_b}), float(
            kept["seconds"]
        )

    def _kept(self, raw: Configuration, number: int) -> Mapping[str, np.ndarray]:
        path = self._path(raw, number)
        if not path.is_file():
            picture, record = self._render(raw, seed_of(trial_identity(raw).name, number))
            assert picture.halves is not None
            kept: dict[str, object] = {
                "raw": np.array(picture.halves),
                "record": record.model_dump_json(),
            }

            for values in DENOISERS:
                tried = raw.replace(values)
                started = time.perf_counter()
                kept[f"beauty {_denoiser(tried)}"] = self._engine.denoise(picture, tried).beauty
                kept[f"seconds {_denoiser(tried)}"] = time.perf_counter() - started

            np.savez(path, **kept)  # type: ignore[arg-type]

        return np.load(path)  # type: ignore[no-any-return]

    def _path(self, raw: Configuration, number: int) -> Path:
        return self.folder / f"{trial_identity(raw).name} {number}.npz"

    def _render(self, configuration: Configuration, seed: int) -> tuple[Picture, RunRecord]:
        """With a scene that is kept, so that thousands of renders take no longer than they must."""
        spec = spec_of(self.study, configuration.replace({"scene.keep_built": True}), seed)
        self._engine.make_ready(spec)
        return self._engine.render(spec, None, lambda share: None, lambda stop: None)

    @cached_property
    def _openings(self) -> list[dict[str, float]]:
        """Seconds by phase of reading and building the scene, as they were timed several times."""
        path = self.folder / "openings.json"
        if not path.is_file():
            engine = RENDERER.engine()
            spec = spec_of(self.study, self.study.base.replace({"samples.max": 1}), 1)
            found = []

            for _ in range(OPENINGS + 1):
                seconds = engine.render(spec, None, lambda share: None, lambda stop: None)[
                    1
                ].seconds
                found.append({phase: seconds[phase] for phase in PREPARING})

            path.write_text(json.dumps(found[1:]))

        return json.loads(path.read_text())  # type: ignore[no-any-return]

    def _composed(
        self, record: RunRecord, configuration: Configuration, denoise: float, number: int
    ) -> RunRecord:
        """The record as it would be of the whole configuration, with denoising and with or without
        opening the scene."""
        opening = self._openings[number % OPENINGS]
        keeps = configuration.is_on(KEEPS_SCENE)
        spent = 0.0 if keeps else sum(opening.values())
        seconds = {
            **record.seconds,
            **(dict.fromkeys(PREPARING, 0.0) if keeps else opening),
            "denoise": denoise,
        }
        seconds["total"] = sum(seconds[phase] for phase in PHASES)
        seconds["first_picture"] += spent

        return record.model_copy(
            update={
                "seconds": seconds,
                "settings": dict(configuration),
                "ready_seconds": sum(opening.values()) if keeps else 0.0,
                "cpu_seconds": record.cpu_seconds + spent + denoise,
            }
        )


def _raw(configuration: Configuration) -> Configuration:
    """What is rendered for a configuration, before anything is denoised; caches apart."""
    return configuration.replace({"denoise.method": "none", "scene.keep_built": False}).effective()


def _denoiser(configuration: Configuration) -> str | None:
    """The name of a configuration's denoising in a pool; None for none."""
    denoising = configuration.denoising()
    return None if denoising is None else " ".join(map(str, denoising))
