"""Findings: advice from one trial's own record. Each renderer knows what to look for in its records
(`Renderer.findings`)."""

from collections.abc import Callable, Sequence

from swift_sample.core.renderers.port import Case, Finding, Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.study.answers.costs import phases_of, typical_run
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult


def find(
    results: Results,
    trial: TrialResult,
    record: Callable[[int], RunRecord | None],
    renderer: Renderer,
) -> list[Finding]:
    """All findings about a trial, those about the most time first; `record` reads a run's whole
    record. Empty where the trial was not rendered yet."""
    run = typical_run(trial)
    known = record(run.number) if run is not None else None
    if known is None:
        return []

    figures = trial.all_figures or trial.figures
    case = Case(
        settings=trial.configuration,
        record=known,
        phases=phases_of(trial),
        figures=figures,
        limits=results.wanted,
        renders_per_opening=results.study.renders_per_opening,
    )
    findings = [finding for kind in renderer.findings if (finding := kind.look(case)) is not None]

    return sorted(findings, key=lambda finding: -finding.time_share)


MOST_OF_THE_TIME = 0.4
"""The share of a render's time from which it is said first that nothing which is tried acts on
it."""
WORTH_TRYING = 0.2
"""The share from which a search tries what spares it, where that changes no pixel."""


def untouched_words(
    results: Results,
    trial: TrialResult,
    record: Callable[[int], RunRecord | None],
    renderer: Renderer,
) -> str:
    """That most of a trial's time goes where nothing that is tried acts, with the setting that
    would help; "" where it does not."""
    space = results.study.space()
    for finding in find(results, trial, record, renderer):
        if finding.mends or finding.time_share < MOST_OF_THE_TIME or not finding.changes:
            continue
        if space.keys().isdisjoint(finding.changes):
            changes = trial.configuration.replace(finding.changes).describe(trial.configuration)
            return f"{finding.text} Nothing that is tried acts on it; try {changes}."

    return ""


def spared_for_nothing(findings: Sequence[Finding]) -> list[Finding]:
    """Those about much of the time whose changes change no pixel: they are worth trying whatever
    else is."""
    return [
        finding
        for finding in findings
        if finding.time_share >= WORTH_TRYING and finding.changes and not finding.mends
    ]


def trial_for(results: Results, finding: Finding) -> TrialResult | None:
    """The trial that already tests a finding about the base, if it is measured."""
    wanted = results.study.base.replace(finding.changes)
    return next((t for t in results.trials if t.configuration == wanted and t.is_on_map), None)


def held(results: Results, finding: Finding) -> bool | None:
    """Whether what a finding about the base led to expect came out: the limit is kept, or at least
    half of the time that it is about was saved. None while its trial is not measured, or where
    chance decides."""
    trial = trial_for(results, finding) if finding.changes else None
    if trial is None or trial.times_faster is None:
        return None

    if finding.mends:
        share = trial.shares.get(finding.mends)
        return None if share is None or share.low <= 1 < share.high else share.high <= 1

    least, _ = finding.gain
    saved = [1 - 1 / end for end in (trial.times_faster.low, trial.times_faster.high)]
    if max(saved) < least:
        return False

    return True if min(saved) >= least else None


def judged_words(results: Results, finding: Finding) -> str:
    """What came of a finding, for people; "" while nothing did."""
    trial = trial_for(results, finding) if finding.changes else None
    if trial is None:
        return ""

    found = {True: "as expected", False: "not as expected", None: "too close to tell"}[
        held(results, finding)
    ]
    if finding.mends:
        return f"measured: {found}, it is {trial.verdict}"

    least, most = finding.gain
    return f"measured: {found}, {least:.0%} to {most:.0%} of the time were to be saved"


def score_words(results: Results, findings: Sequence[Finding]) -> str:
    """How many of these findings were tested, and held; "" for none."""
    told = [answer for finding in findings if (answer := held(results, finding)) is not None]
    return (
        f"{sum(told)} of {len(told)} findings that were tested came out as expected" if told else ""
    )
