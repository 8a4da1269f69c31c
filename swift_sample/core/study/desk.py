"""The study as seen by schedule and results: what was done, what is to come. No process and no clock in it."""

from collections import defaultdict
from dataclasses import dataclass, replace
from pathlib import Path

from swift_sample.core.errors import SceneError, SwiftSampleError, one_line
from swift_sample.core.scene import environment_fingerprint, scene_fingerprint
from swift_sample.core.settings import Configuration
from swift_sample.core.study import results
from swift_sample.core.study.machine import Machine, this_machine
from swift_sample.core.study.messages import RenderSpec
from swift_sample.core.study.model import Study
from swift_sample.core.study.schedule import Done, RunStep, predicted_seconds, remaining_runs
from swift_sample.core.study.store import ReferenceState, StoredRun, StudyFolder

FIRST_CHUNK_SAMPLES, CHUNK_SAMPLES = 96, 128
"""Samples of the reference's first and later chunks: the first is shorter so that results come soon."""


@dataclass(frozen=True)
class Snapshot:
    """Everything a window or a terminal shows about a study at one moment."""

    study: Study
    results: results.Results
    runs: tuple[StoredRun, ...]
    to_come: tuple[tuple[RunStep, float | None], ...]
    """runs still to be made and their predicted seconds"""
    reference: ReferenceState | None
    reference_path: Path
    problem: str | None = None
    """why the study cannot be measured at present, for example a missing scene"""
    elsewhere: int = 0
    """finished runs of this scene on other machines, which are kept apart"""

    @property
    def seconds_left(self) -> float | None:
        """Predicted, or None while nothing was measured yet."""
        if any(seconds is None for _, seconds in self.to_come):
            return None
        return sum(seconds for _, seconds in self.to_come if seconds is not None)


class Desk:
    """The study as seen by schedule and results: what was done, what is to come. No process in it."""

    def __init__(self, folder: StudyFolder, machine: Machine | None = None) -> None:
        self.folder = folder
        self.machine = machine or this_machine()
        self.only: tuple[str, ...] = ()
        """settings to which measuring is limited for now; empty for all"""
        self.searching = False
        """whether only the base and what a search chose is measured for now,"""
        self.exploring = False
        """and so far only enough to go on searching"""
        self.frame: int | None = None
        """another frame than the plan's that is in hand; None for the plan's"""

    @property
    def study(self) -> Study:
        """The plan, with what searches chose for the scene as it is."""
        try:
            return replace(self._plan, chosen=self.folder.chosen(self.scene_key()))
        except SceneError:
            return self._plan

    @property
    def _plan(self) -> Study:
        return self.folder.study if self.frame is None else replace(self.folder.study, frame=self.frame)

    def scene_key(self) -> str:
        """Names the version of scene, size and machine-independent choices that pictures depend on.

        Raises SceneError where the scene is gone.
        """
        study = self._plan
        extra = f"-{environment_fingerprint(study.environment)}" if study.environment else ""
        return f"{scene_fingerprint(study.scene)}{extra}-{study.size[0]}x{study.size[1]}-{study.frame}"

    def reference_key(self) -> str:
        reference = self._plan.reference_configuration(1)
        return f"{self.scene_key()}-{reference.digest}"

    def done(self, runs_since_extension: int) -> Done:
        """What the schedule needs to know."""
        trials, runs, measures = self.folder.trials(), self._runs(), self.folder.measures()
        blocks: dict[Configuration, list[int]] = defaultdict(list)
        controls: dict[int, int] = defaultdict(int)
        failures: dict[Configuration, int] = defaultdict(int)
        for run in runs:
            configuration = trials.get(run.trial)
            if configuration is None:
                continue
            if run.result is None:
                failures[configuration] += 1
            elif run.control:
                controls[run.block] += 1
            else:
                blocks[configuration].append(run.block)
                failures[configuration] = 0  # those before may have been the machine's
        state = self.folder.reference(self.reference_key())
        numbers = {configuration: number for number, configuration in trials.items()}
        unmeasured, outdated = [], []
        study = self.to_measure()
        for configuration in study.planned():
            number = numbers.get(configuration)
            if number is None or not (blocks[configuration] or configuration == study.base):
                continue
            wanted = self.measured_from(number, runs)
            if wanted is None:
                continue
            had = measures[number].measured_from if number in measures else ""
            if had.partition("|")[0] != wanted.partition("|")[0]:
                unmeasured.append(configuration)
            elif had != wanted:
                outdated.append(configuration)
        planned = study.planned()
        found = results.collect(study, {numbers[c]: c for c in planned if c in numbers}, runs, measures,
                                self.scene_key(), self.machine.fingerprint)
        chunks = 0 if state is None else 1 + max(0, state.samples - FIRST_CHUNK_SAMPLES) // CHUNK_SAMPLES
        return Done(blocks, controls, failures, unmeasured, outdated, chunks, state.floor if state else None,
                    runs_since_extension, results.wanted_runs(found, self.exploring))

    def measured_from(self, number: int, runs: list[StoredRun]) -> str | None:
        """What a measurement of a trial rests on: its pictures and view, then the reference's length."""
        own = [str(run.number) for run in runs if run.trial == number and run.result is not None]
        if not own:
            return None
        state, view = self.folder.reference(self.reference_key()), self._plan.view
        areas = "".join(f"{a.name},{a.x},{a.y},{a.width},{a.height};" for a in self._plan.areas)
        return f"{','.join(own)};{view.exposure:g};{view.curve};{areas}{self.reference_key()}|{state.samples if state else 0}"

    def to_measure(self) -> Study:
        """The study with only what is to be measured now."""
        study = self.study
        if self.searching:
            return replace(study, sweeps=())
        if not self.only:
            return study
        kept = {key: values for key, values in study.values_to_try().items() if key in self.only}
        return replace(study, sweeps=()).with_values_to_try(kept)

    def snapshot(self, study: Study | None = None) -> Snapshot:
        """The state now, under another goal or other limits if a study is given.

        Never raises for a missing scene: it is told as `problem`.
        """
        study = self.study if study is None else replace(study, chosen=self.study.chosen)
        planned = study.planned()
        numbers = {number: c for c, number in self.folder.trial_numbers(planned).items()}
        try:
            key, reference_key, problem = self.scene_key(), self.reference_key(), None
        except SwiftSampleError as error:
            key = reference_key = "missing"
            problem = one_line(error)
        runs = [run for run in self.folder.runs() if run.scene_key == key]
        found = results.collect(study, numbers, runs, self.folder.measures(), key, self.machine.fingerprint)
        to_come: list[tuple[RunStep, float | None]] = []
        if problem is None:
            measured = {t.configuration: t.seconds.value for t in found.trials if t.seconds is not None}
            to_come = [(step, predicted_seconds(study, step, measured)) for step in remaining_runs(study, self.done(0))]
        here = tuple(run for run in runs if run.machine == self.machine.fingerprint)
        elsewhere = sum(run.result is not None for run in runs) - sum(run.result is not None for run in here)
        return Snapshot(study, found, here, tuple(to_come), self.folder.reference(reference_key),
                        self.folder.reference_path(reference_key), problem, elsewhere)

    def _runs(self) -> list[StoredRun]:
        key = self.scene_key()
        return [r for r in self.folder.runs() if r.scene_key == key and r.machine == self.machine.fingerprint]

    def spec(self, configuration: Configuration, seed: int) -> RenderSpec:
        study = self._plan
        return RenderSpec(scene=study.scene, size=study.size, settings=dict(configuration), seed=seed,
                          exposure=study.view.exposure, curve=study.view.curve, environment=study.environment,
                          frame=study.frame)
