"""What a window or a terminal shows of a study: a state, and what follows from it. Everything is
worked out when it is first asked for, and once."""

import statistics
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path

from swift_sample.core.errors import SettingError, plain
from swift_sample.core.machine import BUSY_SHARE, Machine
from swift_sample.core.measure.drift import DRIFT_WARNING
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.answers.costs import typical_run
from swift_sample.core.study.answers.field import FieldPoint
from swift_sample.core.study.answers.findings import find, untouched_words
from swift_sample.core.study.answers.frames import FrameResults, collect_frames
from swift_sample.core.study.answers.guidance import Help, without_pick
from swift_sample.core.study.answers.holding import Answer, answers
from swift_sample.core.study.answers.kinds import Kind, kinds_of, machines_of
from swift_sample.core.study.answers.pick_report import show_seconds, show_time_left
from swift_sample.core.study.answers.results import Results, collect_earlier, results_of
from swift_sample.core.study.answers.taking_back import taken_back
from swift_sample.core.study.answers.trial import TrialResult
from swift_sample.core.study.log.events import STOPPED, Happened, PlaceShown, Run
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import Identity, Place, chunk_of_seed, machine_identity
from swift_sample.core.study.log.records import NO_PROOFS, ReferenceState
from swift_sample.core.study.log.state import (
    PlannedTrial,
    StudyState,
    apply,
    kind_of,
    replace_state,
)
from swift_sample.core.study.measuring.policies.reference import wanted_floor
from swift_sample.core.study.measuring.policies.sweep import Sweeping, predicted_seconds
from swift_sample.core.study.measuring.steps.run import NOT_AS_DERIVED
from swift_sample.core.study.measuring.time_left import seconds_left
from swift_sample.core.study.plan.model import GOALS, Study
from swift_sample.core.study.search.scoring import Score, score

LATEST = 3
"""Runs by which the machine is told to be busy now."""
BUSY_RUNS_SHARE = 0.2
"""Of all runs; fewer busy ones are found out as odd, and left out."""
FAILURES_TOLD = 3
MOST_EARLIER = 300
"""Trials that are not planned any more and still shown."""
MOST_OF_A_REASON = 160
"""Characters."""
COST_UNKNOWN = "what it takes can be told once the base is rendered"
USUAL_COST = (20, 35)
"""How many times as long as the base the runs of a search usually take (`python -m benchmarks
search`)."""


@dataclass(frozen=True)
class ToCome:
    """A run that is still to be made. `seconds` is predicted; None while nothing was measured
    yet."""

    trial: PlannedTrial
    block: int
    control: int
    seconds: float | None


@dataclass(frozen=True, kw_only=True)
class Version:
    """Results of one place: a version of scene, size, frame and renderer."""

    place: Place
    scene: str
    size: tuple[int, int]
    """(0, 0) where it is not known any more, as with studies of earlier versions"""
    frame: int
    renderer: str
    trials: int
    runs: int
    first_at: str
    last_at: str
    is_here: bool
    """whether the plan would be measured there now"""

    @property
    def name(self) -> str:
        """Eight hexadecimal digits for people to type."""
        return Identity("place", asdict(self.place)).name[:8]

    @property
    def words(self) -> str:
        """What it is, for people: "honey.glb, 480x270, frame 0, 61 runs of 24 trials, until
        2026-11-25 14:02"."""
        size = f", {self.size[0]}x{self.size[1]}" if self.size != (0, 0) else ""
        frame = f", frame {self.frame}" if self.frame else ""
        renderer = f", renderer {self.renderer}" if self.renderer else ""

        return (
            f"{self.scene or 'scene'}{size}{frame}, {counted(self.runs, 'run')} of "
            f"{counted(self.trials, 'trial')}, "
            f"until {local_time(self.last_at)}{renderer}"
        )


@dataclass(frozen=True)
class Snapshot:
    """A study at one moment. `record` reads the whole record of a run, `values_of` what trials
    were."""

    state: StudyState
    folder: Folder
    renderer: Renderer
    record: Callable[[int], RunRecord | None] = lambda number: None
    values_of: Callable[[Sequence[str]], Mapping[str, Mapping[str, Value]]] = lambda trials: {}

    @property
    def study(self) -> Study:
        return self.state.plan

    @property
    def version(self) -> int:
        """The number of the last event that this shows."""
        return self.state.version

    @property
    def results(self) -> Results:
        return results_of(self.state)

    @cached_property
    def earlier(self) -> tuple[TrialResult, ...]:
        """Trials that are measured here and not planned any more, such as those of another base;
        the latest first, no more than MOST_EARLIER."""
        planned = {trial.id for trial in self.state.planned}
        latest = dict.fromkeys(
            run.trial
            for run in reversed(self.runs)
            if run.result is not None and run.trial not in planned
        )
        configurations = {}

        for name, values in self.values_of(list(latest)[:MOST_EARLIER]).items():
            with suppress(SettingError):  # of a catalogue that had other settings
                configurations[name] = Configuration.from_identity_values(
                    self.study.catalogue, values
                )

        return collect_earlier(self.state, self.results, configurations)

    @property
    def problem(self) -> str | None:
        """Why the study cannot be measured at present, for example a missing scene."""
        return self.state.problem or None

    @cached_property
    def runs(self) -> tuple[Run, ...]:
        """Of this machine in the place that is looked at, failed ones among them, in order."""
        return tuple(run for run in self.state.results.runs if run.machine == self.state.machine)

    @cached_property
    def kinds(self) -> tuple[Kind, ...]:
        """The answer on every machine whose times are known here, for showing them side by side;
        nothing where it is this one alone."""
        machines = machines_of(self.state)
        return () if set(machines) <= {self.state.surroundings.machine} else kinds_of(self.state)

    @cached_property
    def elsewhere(self) -> int:
        """Runs of this scene that worked on other machines, which are kept apart."""
        return sum(
            run.result is not None and run.machine != self.state.machine
            for run in self.state.results.runs
        )

    @cached_property
    def software(self) -> tuple[str, ...]:
        """The versions of software that the runs were made with, the latest last; more than one is
        worth telling."""
        return tuple(
            dict.fromkeys(
                run.software for run in self.runs if run.result is not None and run.software
            )
        )

    @cached_property
    def to_come(self) -> tuple[ToCome, ...]:
        """Runs that are still to be made, in order."""
        if self.state.problem or not self.state.can_render:
            return ()

        measured = {t.id: t.seconds.value for t in self.results.trials if t.seconds is not None}
        predicted: dict[str, float | None] = {}
        runs = []

        for run in Sweeping().waiting(self.state):
            name = run.trial.id
            if name not in predicted:
                predicted[name] = predicted_seconds(self.study, run.trial, measured)
            runs.append(ToCome(run.trial, run.block, run.control, predicted[name]))

        return tuple(runs)

    @cached_property
    def seconds_left(self) -> tuple[float, float] | None:
        """Between which seconds all runs, what is left of the reference, and comparing will take;
        None while nothing was measured yet."""
        if any(run.seconds is None for run in self.to_come):
            return None

        rendering = sum(run.seconds for run in self.to_come if run.seconds is not None)
        return seconds_left(self.state, rendering, len(self.to_come))

    @cached_property
    def time_left_words(self) -> str:
        """The same for people: "about 3 to 5 min"; "" while nothing is known."""
        return "" if self.seconds_left is None else show_time_left(*self.seconds_left)

    @cached_property
    def seconds_to_come(self) -> tuple[float, ...]:
        """Predicted seconds of the runs to come, 0 where nothing is known yet."""
        return tuple(run.seconds or 0.0 for run in self.to_come)

    @cached_property
    def runs_done(self) -> int:
        """Runs that worked."""
        return sum(run.result is not None for run in self.runs)

    @cached_property
    def seconds_rendered(self) -> float:
        """What all runs that worked took."""
        return sum(run.result.seconds["total"] for run in self.runs if run.result is not None)

    @cached_property
    def trials_waiting(self) -> int:
        """Trials that still have runs to be made."""
        return len({run.trial.id for run in self.to_come})

    @cached_property
    def trials_unmeasured(self) -> int:
        """Trials with pictures that are not measured as the plan wants it now."""
        return sum(bool(trial.runs) and bool(trial.unmeasured) for trial in self.results.trials)

    @property
    def reference(self) -> ReferenceState | None:
        return self.state.reference

    def digest_of(self, name: str) -> str:
        """Of a picture's file, or the reference's, as it was written; "" where that was not
        kept."""
        if self.reference is not None and name == self.reference_path.name:
            return self.reference.digest
        return self.state.results.digests.get(name, "")

    @property
    def reference_path(self) -> Path:
        return self.folder.reference(self.state.reference_name or "none")

    @cached_property
    def frames(self) -> FrameResults | None:
        """What is known of the sequence; None where the plan has none."""
        plan = self.study.frames
        pick = self.results.pick()
        if plan is None or self.state.problem:
            return None

        return collect_frames(
            self.state, plan, [self.study.base, *([pick.trial.configuration] if pick else [])]
        )

    def trial(self, trial_id: str) -> TrialResult | None:
        """A trial that is planned, or was earlier."""
        found = self.results.by_id.get(trial_id)
        return (
            found
            if found is not None
            else next((trial for trial in self.earlier if trial.id == trial_id), None)
        )

    def piece_of(self, picture: str) -> tuple[Path, int] | None:
        """The recording of the reference's chunk whose samples a picture holds, by the name of its
        file, and how many those of the chunk are; None where it is independent of the reference, or
        nothing was recorded."""
        if picture not in self.state.results.of_chunks:
            return None

        seed = next(run.seed for run in self.state.results.runs if run.picture == picture)
        chunk = chunk_of_seed(seed)
        assert chunk is not None
        name = self.state.reference_name
        kept = self.state.recordings.get((name, chunk))
        return (self.folder.recording(name, chunk), kept.samples) if kept is not None else None

    def picture_of(self, trial_id: str) -> Path | None:
        """A picture of a trial: that of its typical run, else any that renders the same pixels."""
        trial = self.trial(trial_id)
        run = typical_run(trial) if trial is not None else None
        if run is not None and run.picture:
            return self.folder.picture(run.picture)

        planned = next((one for one in self.state.planned if one.id == trial_id), None)
        names = (
            self.state.results.pictures.get(planned.appearance, ())
            if planned is not None and trial is not None and trial.runs
            else ()
        )

        return self.folder.picture(names[0]) if names else None

    @cached_property
    def help(self) -> Help | None:
        """What may lead to a pick, where there is none."""
        closest = self.results.origin.closest
        findings = (
            find(self.results, closest, self.record, self.renderer) if closest is not None else []
        )
        return without_pick(
            self.results, self.record, [finding for finding in findings if finding.mends]
        )

    @cached_property
    def untouched_words(self) -> str:
        """That most of the pick's time, or of the base's, goes where nothing that is tried acts; ""
        where it does not."""
        pick = self.results.origin.pick()
        trial = pick.trial if pick is not None else self.results.base
        return (
            untouched_words(self.results, trial, self.record, self.renderer)
            if trial is not None
            else ""
        )

    @cached_property
    def score(self) -> Score:
        """How far a search's predictions held."""
        return score(self.results, self.state.results.predictions)

    @cached_property
    def held(self) -> tuple[Answer, ...]:
        """What pick, base and runners-up came to at other sizes and frames."""
        return answers(self.results, self.state)

    @property
    def search_cost_words(self) -> str:
        """What a search is likely to take, once the base was timed."""
        base = self.results.base
        if base is None or base.seconds is None or not base.runs:
            return COST_UNKNOWN

        once = statistics.median(
            run.result.seconds["total"] for run in base.runs if run.result is not None
        )
        low, high = (show_seconds(times * once) for times in USUAL_COST)
        return (
            f"it is likely to take {low} to {high} of rendering, and the reference up to as "
            "long again"
        )

    @property
    def search_words(self) -> tuple[str, ...]:
        """What the last search concluded, and how well it predicts; nothing where there was
        none."""
        concluded = self.state.results.concluded
        said = (f"the search ended: {concluded}" if concluded else "", self.score.words)
        return tuple(words for words in said if words)

    @property
    def reference_words(self) -> str:
        """That the reference is grainier than it should be; "" where it is not."""
        known = self.reference
        wanted = wanted_floor(self.study)
        if known is None or known.floor is None or known.floor <= wanted:
            return ""

        return (
            f"the reference's own grain is {known.floor:.2g} levels, {wanted:.2g} would be better; "
            "it is in every interval, "
            "and gets less with more runs"
        )

    @cached_property
    def without_changes(self) -> Mapping[str, FieldPoint]:
        """What was derived of the pick without each of its changes, by the setting."""
        pick = self.results.pick()
        if pick is None:
            return {}

        return taken_back(self.state, self.results, pick.trial.configuration)

    @property
    def proof_words(self) -> str:
        """How many renders had exactly the pixels that were derived for them; "" while there are
        none that could show it."""
        proofs = self.state.proofs.get(self.state.reference_name, NO_PROOFS)
        if proofs.other:
            return NOT_AS_DERIVED
        if not proofs.same:
            return ""

        return f"{proofs.same} of {proofs.same} renders had exactly the pixels that were derived"

    @cached_property
    def machine_words(self) -> str:
        """What about the machine makes times less sure than they could be; "" for nothing."""
        loads = [run.result.load_of_others for run in self.runs if run.result is not None]
        said = []
        drift = self.results.correction.largest_drift
        busy = [load for load in loads if load > BUSY_SHARE]

        if len(busy) > BUSY_RUNS_SHARE * len(loads):
            between = f"{min(busy):.0%} to {max(busy):.0%}" if len(busy) > 1 else f"{busy[0]:.0%}"
            said.append(
                f"other programs took {between} of the processor during {len(busy)} of "
                f"{len(loads)} runs"
            )

        if drift > DRIFT_WARNING:
            said.append(
                f"the machine's speed drifted by up to {drift:.0%}, which was corrected for"
            )

        return "; ".join(said)

    @cached_property
    def versions(self) -> tuple[Version, ...]:
        """Every place that results are kept of, the latest first; frames of the sequence among
        them."""
        versions = []
        for place, records in self.state.records.items():
            runs = [run for run in records.runs if run.result is not None]
            if not runs:
                continue

            size, frame = self.state.size_and_frame(place) or ((0, 0), 0)
            named = self.state.names.get(place.scene)
            renderer = self.state.names.get(place.renderer)

            versions.append(
                Version(
                    place=place,
                    scene=named.label if named is not None else "",
                    size=size,
                    frame=frame,
                    renderer=str(renderer.record.get("sources", ""))
                    if renderer is not None
                    else "",
                    trials=len({run.trial for run in runs}),
                    runs=len(runs),
                    first_at=runs[0].finished_at,
                    last_at=runs[-1].finished_at,
                    is_here=place == self.state.here,
                )
            )

        return tuple(sorted(versions, key=lambda version: version.last_at, reverse=True))

    @cached_property
    def hidden(self) -> Version | None:
        """Results that a change of scene, size, frame or renderer has put out of sight: the latest,
        where nothing was measured in the present place yet."""
        if (
            self.state.place is None
            or self.state.place != self.state.here
            or len(self.state.results.runs)
        ):
            return None

        frames = (
            set(self.study.frames.frames()) - {self.study.frame}
            if self.study.frames is not None
            else set()
        )
        versions = [version for version in self.versions if version.frame not in frames]
        # Where an answer was only checked at the side, few trials were measured: that is not what
        # was measured before.
        whole = max((version.trials for version in versions), default=0) / 2

        return next((version for version in versions if version.trials >= whole), None)

    @property
    def ended_early(self) -> str:
        """Why the last measuring ended before it was finished, until it is dismissed or begun anew;
        "" where it finished or a person stopped it, and where the scene's own problem says so
        already."""
        ended = self.state.outcome
        return (
            ""
            if ended is None or ended.finished or ended.words in (STOPPED, self.problem)
            else ended.words
        )

    @cached_property
    def remarks(self) -> tuple[str, ...]:
        """Why what is shown may not be what is expected, one sentence each."""
        said = []
        shown = self.state.place
        if self.ended_early:
            said.append(f"measuring ended early: {self.ended_early}")

        if self.problem is not None:
            said.append(self.problem)
            version = self._version_of(shown)
            if version is not None:
                said.append(f"shown is what was measured last: {version.words}")
        elif shown != self.state.here:
            version = self._version_of(shown)
            said.append(
                "shown are results of an earlier version"
                + (f": {version.words}" if version is not None else "")
            )
        elif self.hidden is not None:
            said.append(
                "nothing was measured of the scene as it is now; measured before: "
                f"{self.hidden.words} (version {self.hidden.name})"
            )

        said += self._failures
        if len(self.software) > 1:
            said.append(
                f"these runs were made with different software: {' / '.join(self.software)}"
            )
        if self.unmeasured_words:
            said.append(self.unmeasured_words)

        return tuple(said)

    @property
    def unmeasured_words(self) -> str:
        """That trials have pictures which are not measured as the plan wants it; "" where there are
        none."""
        if not self.trials_unmeasured or self.problem is not None:
            return ""
        return (
            f"{counted(self.trials_unmeasured, 'trial')} with pictures that are not measured as "
            "the plan wants it now"
        )

    @property
    def _failures(self) -> list[str]:
        """What could not be measured, and why."""
        failed = [trial for trial in self.results.trials if trial.failure is not None]
        said = []

        for trial in failed[:FAILURES_TOLD]:
            what = "the base" if trial.is_base else trial.configuration.describe(self.study.base)
            said.append(
                f"{what} could not be measured: {plain(trial.failure or '', MOST_OF_A_REASON)}"
            )

        if len(failed) > FAILURES_TOLD:
            said.append(
                f"{counted(len(failed) - FAILURES_TOLD, 'more trial')} could not be measured, "
                "see the log"
            )

        return [*said[:-1], f"{said[-1]}; measuring again tries anew"] if said else []

    def _version_of(self, place: Place | None) -> Version | None:
        """None for a place without a run that worked."""
        return next((version for version in self.versions if version.place == place), None)

    def at(self, place: Place | None) -> "Snapshot":
        """The same study with the results of another place looked at."""
        shown = PlaceShown(place if place != self.state.here else None)
        return replace(self, state=apply(self.state, Happened(0, "", shown)))

    def timed_on(self, own: Machine) -> Machine:
        """The machine whose times are shown, as far as it is known; `own` is this one."""
        named = self.state.names.get(kind_of(self.state.machine))
        if self.state.machine == machine_identity(own).name or named is None:
            return own

        told = {
            key: value for key, value in named.record.items() if key in Machine.__dataclass_fields__
        }
        return replace(own, **told, versions=" and ".join(self.software) or own.versions)

    def seen_from(self, machine: str) -> "Snapshot":
        """The same study with the times of another machine."""
        return replace(self, state=self.state.seen_from(machine))

    @cached_property
    def of_other_goal(self) -> Results | None:
        """The results under the other goal; None where the renderer tells no first picture."""
        if not self.study.catalogue.capabilities.first_picture:
            return None
        return self.with_goal(next(goal for goal in GOALS if goal != self.study.goal)).results

    def with_goal(self, goal: str) -> "Snapshot":
        """The same study with another goal."""
        return replace(self, state=replace_state(self.state, plan=replace(self.study, goal=goal)))


def busy_words(runs: Sequence[Run]) -> str:
    """What other programs take now, by the latest runs; "" where that is little."""
    late = [run.result.load_of_others for run in runs[-LATEST:] if run.result is not None]
    if not late or min(late) <= BUSY_SHARE:
        return ""

    return (
        f"other programs take {min(late):.0%} of the processor: close what you can, times are "
        "uncertain"
    )


def counted(number: int, noun: str) -> str:
    """ "1 run", "2 runs"."""
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"


def local_time(at: str) -> str:
    """A time of the log on this machine's clock, to the minute."""
    try:
        return datetime.fromisoformat(at).astimezone().strftime("%Y-%m-%d %H:%M")
    except ValueError:
        return at
