"""Findings: advice from one trial's own record. Each renderer knows what to look for in its records (`Renderer.findings`)."""

from collections.abc import Callable

from swift_sample.core.renderers.port import Case, Finding, Renderer
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.study.costs import phases_of, typical_run
from swift_sample.core.study.results import Results, TrialResult


def find(
    results: Results, trial: TrialResult, record: Callable[[int], RunRecord | None], renderer: Renderer
) -> list[Finding]:
    """All findings about a trial, those about the most time first; `record` reads a run's whole record. Empty where the trial
    was not rendered yet."""
    run = typical_run(trial)
    known = record(run.number) if run is not None else None
    if known is None:
        return []
    case = Case(trial.configuration, known, phases_of(trial), trial.figures, results.wanted)
    findings = [finding for kind in renderer.findings if (finding := kind.look(case)) is not None]
    return sorted(findings, key=lambda finding: -finding.time_share)


def trial_for(results: Results, finding: Finding) -> TrialResult | None:
    """The trial that already tests a finding about the base, if it is measured."""
    wanted = results.study.base.replace(finding.changes)
    return next((t for t in results.trials if t.configuration == wanted and t.is_on_map), None)
