"""Renders of three scenes that are kept, and studies that are measured with them instead of with the renderer.

A pool holds some renders of every configuration that was asked for, each with its own seed, time and record. A replay lets
the application's own policies (`core.study.policies`) propose steps, and answers them from a pool: a run is one of the
renders that this replay has not drawn yet, and pictures are measured as the worker does. So everything that a study does is
tried with the renderer's own noise, run by run, in seconds.
"""

import json
import math
import statistics
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from swift_sample.core.measure.compare import measure
from swift_sample.core.measure.comparison import Comparison, Halves
from swift_sample.core.measure.figures import Grain
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.renderers.records import PHASES, RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.settings.setting import KEEPS_SCENE, SAMPLES
from swift_sample.core.study.acceptance import Acceptance
from swift_sample.core.study.events import Event, Happened, RunFinished, SearchConcluded, Surroundings, TrialChosen
from swift_sample.core.study.identity import appearance_identity, seed_of, trial_identity
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.model import Limits, Study, Sweep
from swift_sample.core.study.policies.proposal import Policy
from swift_sample.core.study.policies.sweep import CHUNK_SAMPLES, Sweeping, results_of, spec_of
from swift_sample.core.study.results import Results
from swift_sample.core.study.search import CHEAPER, candidates
from swift_sample.core.study.state import StudyState, apply
from swift_sample.core.study.steps import ReferenceStep, RunStep, Step
from swift_sample.core.worker.merging import merge_reference
from swift_sample.core.worker.messages import Measured, Outcome, ReferenceExtended, Rendered

KEPT = Path("build/bank")
SIZE = (96, 54)
SEEDS, BASE_SEEDS, REFERENCE_CHUNKS, OPENINGS = 8, 24, 24, 8
"""How many renders there are of a configuration, of the base, and of the reference, and how often opening was timed."""
TRUE_REFERENCE_SAMPLES, TRUE_REFERENCE_PARTS = 1000, 4
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


def planned(scene: str, samples: tuple[int, ...], base: Mapping[str, Value], limits: Limits) -> Study:
    """A study of every combination, 1,000 and more."""
    values = {"samples.max": samples, **RENDERED, **AROUND}
    study = demo_study(scene, SIZE)
    return replace(
        study, name=scene, base=Configuration(CATALOGUE, dict(base)), sweeps=(Sweep("one at a time", values),), limits=limits
    )


STUDIES = {
    study.scene: study
    for study in (
        planned(
            "honey-stall",
            (6, 8, 12, 16, 24, 32, 48),
            {"samples.max": 48, "bounces.total": 12, "denoise.method": "wavelet", "denoise.strength": 0.8},
            Limits(6.0, 1.5, 95.0, 11_000.0, 12.0, None, None),
        ),
        planned(
            "honey-jar",
            (8, 12, 16, 24, 32, 48, 64),
            {"samples.max": 64, "bounces.total": 12},
            Limits(6.5, 1.5, 94.0, 8_000.0, 13.0, None, None),
        ),
        # Its reference is too grainy for detail to be told: that has no limit here, as nowhere have light and detail in cells
        # of seven pixels.
        planned(
            "honey-room",
            (16, 24, 32, 48, 64, 96, 128),
            {"samples.max": 128, "bounces.total": 12, "denoise.method": "wavelet", "denoise.strength": 0.8},
            Limits(14.0, 3.5, None, 45_000.0, 26.0, None, None),
        ),
    )
}


@dataclass(frozen=True)
class Shot:
    """One render: its light, the halves of the raw picture where nothing was denoised, and its record."""

    beauty: np.ndarray
    halves: Halves | None
    record: RunRecord


class Pool:
    """Renders of one scene's configurations, made when they are first asked for and kept."""

    def __init__(self, study: Study) -> None:
        self.study, self._folder = study, KEPT / study.scene
        self._folder.mkdir(parents=True, exist_ok=True)
        self._engine = RENDERER.engine()
        self._measured: dict[tuple[object, ...], dict[str, Figure | None]] = {}
        self._seconds: dict[Configuration, float] = {}

    def seeds(self, configuration: Configuration) -> int:
        """How many renders there are of a configuration."""
        return BASE_SEEDS if _raw(configuration) == _raw(self.study.base) else SEEDS

    def shot(self, configuration: Configuration, number: int) -> Shot:
        """Render `number` of a configuration, with the time that it took then."""
        kept = self._kept(_raw(configuration), number)
        record = RunRecord.model_validate_json(str(kept["record"]))
        denoiser = _denoiser(configuration)
        if denoiser is None:
            raw = kept["raw"]
            return Shot(raw.mean(axis=0), (raw[0], raw[1]), self._composed(record, configuration, 0.0, number))
        return Shot(
            kept[f"beauty {denoiser}"],
            None,
            self._composed(record, configuration, float(kept[f"seconds {denoiser}"]), number),
        )

    def make(self, configurations: Sequence[Configuration], tell: Callable[[str], None]) -> None:
        """Render what is missing, one seed of everything after another, so that a slow hour does not belong to a setting."""
        raws = list(dict.fromkeys(map(_raw, configurations)))
        missing = [
            (k, raw) for k in range(BASE_SEEDS) for raw in raws if k < self.seeds(raw) and not self._path(raw, k).is_file()
        ]
        for done, (k, raw) in enumerate(missing):
            if done % 100 == 0:
                tell(f"{self.study.scene}: {len(missing) - done} renders to go")
            self._kept(raw, k)

    def figures(
        self, configuration: Configuration, numbers: Sequence[int], reference: Halves, which: object
    ) -> dict[str, Figure | None]:
        """Measured of some renders beside the halves of a reference; `which` names that."""
        key = (appearance_identity(configuration, self.study.view).name, tuple(numbers), which)
        if key not in self._measured:
            shots = [self.shot(configuration, k) for k in numbers]
            halves = shots[0].halves if len(shots) == 1 else None
            pair = Comparison([s.beauty for s in shots], _mean(reference), self.study.view, halves, reference)
            self._measured[key] = measure(pair)[""]
        return self._measured[key]

    def truth(self, configuration: Configuration) -> dict[str, Figure | None]:
        """Figures of all renders beside a reference that no study has."""
        return self.figures(configuration, range(self.seeds(configuration)), self.true_reference, "true")

    def seconds(self, configuration: Configuration) -> float:
        """The median of all renders' times, each with its part of opening the scene."""
        if configuration not in self._seconds:
            shots = (self.shot(configuration, k) for k in range(self.seeds(configuration)))
            times = [s.record.seconds["total"] + s.record.ready_seconds / self.study.renders_per_opening for s in shots]
            self._seconds[configuration] = statistics.median(times)
        return self._seconds[configuration]

    def share(self, configuration: Configuration) -> Figure:
        """The limit share by all renders, with the upper end of the worst limit."""
        acceptance = Acceptance.of(self.study, self.truth(self.study.base))
        shares = acceptance.shares(self.truth(configuration)).values()
        return Figure(*(max(getattr(share, end) for share in shares) for end in ("value", "low", "high")))

    @cached_property
    def true_reference(self) -> Halves:
        """Far cleaner than a study's."""
        parts = [
            self._reference_part(f"true {k}", TRUE_REFERENCE_SAMPLES, 90_000_000 + k)[:2] for k in range(TRUE_REFERENCE_PARTS)
        ]
        half = len(parts) // 2
        return (
            np.mean([p for pair in parts[:half] for p in pair], axis=0),
            np.mean([p for pair in parts[half:] for p in pair], axis=0),
        )

    def reference_chunk(self, number: int) -> tuple[np.ndarray, np.ndarray, float]:
        """The halves of one chunk of a study's reference, and its seconds."""
        return self._reference_part(f"chunk {number}", CHUNK_SAMPLES, 80_000_000 + number)

    def _reference_part(self, name: str, samples: int, seed: int) -> tuple[np.ndarray, np.ndarray, float]:
        path = self._folder / f"{name}.npz"
        if not path.is_file():
            picture, record = self._render(self.study.reference_configuration(samples), seed)
            assert picture.halves is not None
            np.savez(path, halves=np.array(picture.halves), seconds=record.seconds["sampling"])
        kept = np.load(path)
        return kept["halves"][0], kept["halves"][1], float(kept["seconds"])

    def _kept(self, raw: Configuration, number: int) -> Mapping[str, np.ndarray]:
        path = self._path(raw, number)
        if not path.is_file():
            picture, record = self._render(raw, seed_of(trial_identity(raw).name, number))
            assert picture.halves is not None
            kept: dict[str, object] = {"raw": np.array(picture.halves), "record": record.model_dump_json()}
            for values in DENOISERS:
                tried = raw.replace(values)
                started = time.perf_counter()
                kept[f"beauty {_denoiser(tried)}"] = self._engine.denoise(picture, tried).beauty
                kept[f"seconds {_denoiser(tried)}"] = time.perf_counter() - started
            np.savez(path, **kept)  # type: ignore[arg-type]
        return np.load(path)  # type: ignore[no-any-return]

    def _path(self, raw: Configuration, number: int) -> Path:
        return self._folder / f"{trial_identity(raw).name} {number}.npz"

    def _render(self, configuration: Configuration, seed: int) -> tuple[Picture, RunRecord]:
        """With a scene that is kept, so that thousands of renders take no longer than they must."""
        spec = spec_of(self.study, configuration.replace({"scene.keep_built": True}), seed)
        self._engine.make_ready(spec)
        return self._engine.render(spec, None, lambda share: None, lambda stop: None)

    @cached_property
    def _openings(self) -> list[dict[str, float]]:
        """Seconds by phase of reading and building the scene, as they were timed several times."""
        path = self._folder / "openings.json"
        if not path.is_file():
            engine, spec, found = RENDERER.engine(), spec_of(self.study, self.study.base.replace({"samples.max": 1}), 1), []
            for _ in range(OPENINGS + 1):
                seconds = engine.render(spec, None, lambda share: None, lambda stop: None)[1].seconds
                found.append({phase: seconds[phase] for phase in PREPARING})
            path.write_text(json.dumps(found[1:]))
        return json.loads(path.read_text())  # type: ignore[no-any-return]

    def _composed(self, record: RunRecord, configuration: Configuration, denoise: float, number: int) -> RunRecord:
        """The record as it would be of the whole configuration, with denoising and with or without opening the scene."""
        opening, keeps = self._openings[number % OPENINGS], configuration.is_on(KEEPS_SCENE)
        spent = 0.0 if keeps else sum(opening.values())
        seconds = {**record.seconds, **(dict.fromkeys(PREPARING, 0.0) if keeps else opening), "denoise": denoise}
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


def _mean(halves: Halves) -> np.ndarray:
    return ((halves[0] + halves[1]) / 2).astype(np.float32)


def combinations(study: Study) -> list[Configuration]:
    """Every combination of a study's values that renders another picture or takes another time."""
    return candidates(study.base, study.space(), [], np.random.default_rng(0))


def made_pool(study: Study) -> Pool:
    """With every combination, and the cheaper ones that a search may go on to."""
    pool, space = Pool(study), study.space()
    beyond: dict[str, tuple[Value, ...]] = {
        key: tuple(dict.fromkeys((*(round(share * min(values)) for share in CHEAPER), *values)))  # type: ignore[type-var, operator]
        for key, values in space.items()
        if key in ("samples.max", "bounces.total")
    }
    cheaper = candidates(
        study.base, {**beyond, "light.clamp_indirect": space["light.clamp_indirect"]}, [], np.random.default_rng(0)
    )
    pool.make([*combinations(study), *cheaper], lambda text: print(f"  {text}", flush=True))
    return pool


class Replay:
    """One study that is measured from a pool. `spent` are seconds of its runs, `reference_spent` of its reference."""

    def __init__(self, pool: Pool, study: Study, seed: int) -> None:
        self._pool, self.rng = pool, np.random.default_rng(seed)
        here = Surroundings(SceneContent("0" * 16), "", "renderer", "machine", "software")
        self.state: StudyState = apply(StudyState(study), Happened(0, "", here))
        self._orders: dict[str, list[int]] = {}
        self._drawn: dict[str, tuple[Configuration, int]] = {}
        self._chunks_used = 0
        self._chunks = [int(k) for k in self.rng.permutation(REFERENCE_CHUNKS)]
        self._reference: Halves | None = None
        self._records: dict[int, RunRecord] = {}
        self.spent = self.reference_spent = 0.0

    @property
    def results(self) -> Results:
        return results_of(self.state)

    def record(self, number: int) -> RunRecord | None:
        """The whole record of a run, by its number in the log."""
        return self._records.get(number)

    def happen(self, event: Event) -> None:
        number = self.state.version + 1
        if isinstance(event, RunFinished):
            assert event.record is not None
            self._records[number] = event.record
            kept: Event = replace(event, run=replace(event.run, number=number))
            event = kept
        self.state = apply(self.state, Happened(number, "", event))

    def follow(self, policy: Policy, until: float = math.inf) -> str:
        """Do what a policy proposes until it ends, or so many seconds of runs are spent. Returns why it ended."""
        while self.spent < until:
            proposal = policy.propose(self.state, self.spent)
            for event in proposal.events:
                self.happen(event)
            if proposal.step is not None:
                for event in proposal.step.absorb(self._outcome(proposal.step)):
                    self.happen(event)
            elif not proposal.again:
                return proposal.why
        return "the seconds are spent"

    def choose(self, configuration: Configuration) -> None:
        """Measure a trial as a search does while it explores."""
        assert self.state.here is not None
        self.happen(TrialChosen(self.state.here, configuration.identity_values(), "tried out"))
        self.follow(EXPLORING)

    def settle(self) -> None:
        """Give every trial that may be the pick all its runs."""
        assert self.state.here is not None
        self.happen(SearchConcluded(self.state.here, "settled"))
        self.follow(SETTLING)

    def _outcome(self, step: Step) -> Outcome:
        if isinstance(step, RunStep):
            shot = self._pool.shot(step.configuration, self._draw(step))
            self.spent += shot.record.seconds["total"]
            return Rendered(result=shot.record, digest="")
        if isinstance(step, ReferenceStep):
            return self._extended(step)
        assert self._reference is not None
        names = [self._drawn[name] for name in step.pictures]
        configuration = names[0][0]
        seconds = 0.0
        if step.key.recipe:
            configuration = configuration.replace(
                {key: step.configuration[key] for key in ("denoise.method", "denoise.strength")}
            )
            seconds = statistics.median(self._pool.shot(configuration, k).record.seconds["denoise"] for _, k in names)
            self.spent += seconds * len(names)
        figures = self._pool.figures(
            configuration, [k for _, k in names], self._reference, tuple(self._chunks[: self._chunks_used])
        )
        return Measured(areas={"": {key: f.numbers if f else None for key, f in figures.items()}}, seconds=seconds)

    def _draw(self, step: RunStep) -> int:
        """Which of a configuration's renders a run is; each once, as long as there are others."""
        order = self._orders.setdefault(step.trial.appearance, [])
        if not order:
            order += [int(k) for k in self.rng.permutation(self._pool.seeds(step.configuration))]
        number = order.pop()
        self._drawn[step.picture] = (step.configuration, number)
        return number

    def _extended(self, step: ReferenceStep) -> ReferenceExtended:
        added = int(step.spec.configuration(CATALOGUE).number_in_role(SAMPLES) or 1)
        *halves, seconds = self._pool.reference_chunk(self._chunks[step.chunk % REFERENCE_CHUNKS])
        seconds *= added / CHUNK_SAMPLES
        old = (
            Picture(_mean(self._reference), dict(zip(("half_a", "half_b"), self._reference, strict=True)))
            if self._reference
            else None
        )
        merged = merge_reference(
            old, step.samples, Picture(_mean((halves[0], halves[1])), {"half_a": halves[0], "half_b": halves[1]}), added
        )
        assert merged.halves is not None
        self._reference, self._chunks_used = merged.halves, step.chunk + 1
        self.reference_spent += seconds
        grain = Grain().look(Comparison([merged.beauty], merged.beauty, self._pool.study.view, merged.halves))
        assert grain is not None
        floor = float(grain.maps["variance"].mean()) ** 0.5
        return ReferenceExtended(samples=step.samples + added, floor=floor, seconds=seconds, digest="")


EXPLORING, SETTLING = Sweeping(sought=True, exploring=True), Sweeping(sought=True)
