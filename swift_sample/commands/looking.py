"""Commands that only look at a study: they hold and change nothing, and work while it is measured
and on read-only disks."""

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.terminal import check_writable, quoted, say
from swift_sample.core.errors import StudyError, UsageError, plain
from swift_sample.core.settings import format_value

if TYPE_CHECKING:
    from swift_sample.core.machine import Machine
    from swift_sample.core.renderers.port import Finding
    from swift_sample.core.study.measuring.snapshot import Snapshot, Version

NONE_ACCEPTABLE = 3
LOG_CHARACTERS = 2000
"""Of a line of a study's log."""

_version = click.option(
    "--version",
    "version",
    metavar="NAME",
    help="Results of an earlier version of scene, size, frame or renderer, as `versions` names it.",
)


_machine = click.option(
    "--machine",
    "machine",
    metavar="NAME",
    default="",
    help="Times of another machine: its name, or a part of its description.",
)


@contextmanager
def looking(path: Path, version: str | None = None, machine: str = "") -> "Iterator[Snapshot]":
    """A study as it is now, or the results of one of its versions; with the times of a machine, of
    this one where it has some, else of the one that has most."""
    from swift_sample.core.study.answers.kinds import label_of, machine_named, machine_to_show
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.measuring.surroundings import read_snapshot

    with look_at_study(path, say) as reading:
        for note in reading.notes[:3]:
            say(f"{path}: {note}")

        if len(reading.notes) > 3:
            say(f"{path}: and {len(reading.notes) - 3} more entries that cannot be read")

        snapshot = read_snapshot(reading)
        snapshot = snapshot if version is None else snapshot.at(_chosen(snapshot, version).place)
        shown = (
            machine_named(snapshot.state, machine) if machine else machine_to_show(snapshot.state)
        )

        if shown and shown != snapshot.state.machine:
            snapshot = snapshot.seen_from(shown)
            say(f"times are those of {label_of(snapshot.state, shown)}")

        yield snapshot


def _chosen(snapshot: "Snapshot", name: str) -> "Version":
    chosen = [version for version in snapshot.versions if version.name.startswith(name)]
    if len(chosen) != 1:
        known = ", ".join(version.name for version in snapshot.versions) or "there is none yet"
        raise UsageError(f"--version {name}: expected the beginning of one of {known}")

    return chosen[0]


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--goal", type=click.Choice(["final", "first-picture"]), help="Which time counts.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@_version
@_machine
def pick(study: Path, goal: str | None, as_json: bool, version: str | None, machine: str) -> int:
    """The fastest acceptable configuration, and why."""
    with looking(study, version, machine) as snapshot:
        snapshot = snapshot if goal is None else snapshot.with_goal(goal)
        status = print_pick(snapshot, as_json)
        say_state(snapshot)
        return status


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def versions(study: Path, as_json: bool) -> int:
    """What was measured of which version of scene, size, frame and renderer."""
    with looking(study) as snapshot:
        versions_there = snapshot.versions

    if as_json:
        print(
            json.dumps(
                {
                    "versions": [
                        {
                            "name": version.name,
                            "scene": version.scene,
                            "size": list(version.size),
                            "frame": version.frame,
                            "renderer": version.renderer,
                            "trials": version.trials,
                            "runs": version.runs,
                            "first_at": version.first_at,
                            "last_at": version.last_at,
                            "present": version.is_here,
                        }
                        for version in versions_there
                    ]
                }
            )
        )
        return 0

    for version in versions_there:
        print(f"{version.name}  {version.words}" + (", as it is now" if version.is_here else ""))

    if not versions_there:
        say("nothing was measured yet")

    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="A .json or .csv file.",
)
@_version
@_machine
def export(study: Path, output: Path, version: str | None, machine: str) -> int:
    """Write all results as open data: JSON with every run, or CSV with a row a trial."""
    from swift_sample.core.report.open_data import write_results

    return _write(study, output, version, machine, write_results)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    "output",
    required=True,
    type=click.Path(path_type=Path),
    help="An .html or .pdf file.",
)
@_version
@_machine
def report(study: Path, output: Path, version: str | None, machine: str) -> int:
    """Write what was found, the pictures, curves, figures and method, as a page for others."""
    from swift_sample.core.report.write import write_report

    return _write(study, output, version, machine, write_report)


def _what_to_try(finding: "Finding") -> str:
    changes = ", ".join(f"{key}={format_value(value)}" for key, value in finding.changes.items())
    return f"Try {changes}." if changes else ""


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--of-pick", is_flag=True, help="Look at the pick instead of the base.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@_version
@_machine
def cost(study: Path, of_pick: bool, as_json: bool, version: str | None, machine: str) -> int:
    """Where the time of the base goes, and what is worth trying because of it."""
    from swift_sample.core.renderers.costs import bounces_of, materials_of, memory_of, objects_of
    from swift_sample.core.study.answers.costs import phases_of, typical_run
    from swift_sample.core.study.answers.findings import find, judged_words, score_words
    from swift_sample.core.study.answers.pick_report import cache_words

    with looking(study, version, machine) as snapshot:
        results = snapshot.results
        pick = results.pick()

        if not of_pick:
            trial = results.base
        elif pick is not None:
            trial = pick.trial
        else:
            trial = None

        run = typical_run(trial) if trial is not None else None
        record = snapshot.record(run.number) if run is not None else None
        findings = (
            find(results, trial, snapshot.record, snapshot.renderer) if trial is not None else []
        )

        if trial is None or record is None:
            say_state(snapshot)
            which = "pick" if of_pick else "base"
            raise StudyError(
                f"{study}: there is no measured {which} yet; `swift-sample run "
                f"{quoted(study)}` measures it"
            )

    phases = phases_of(trial)
    bounces = bounces_of(record)
    ranked = {
        "materials": materials_of(record),
        "objects": objects_of(record),
        "memory": memory_of(record),
    }

    if as_json:
        print(
            json.dumps(
                {
                    "findings": [
                        {
                            **asdict(finding),
                            "expected_to_save": finding.gain,
                            "outcome": judged_words(results, finding),
                        }
                        for finding in findings
                    ],
                    "findings_held": score_words(results, findings),
                    "phases": [asdict(p) for p in phases],
                    "bounces": [asdict(b) for b in bounces],
                    **{name: [asdict(part) for part in parts] for name, parts in ranked.items()},
                }
            )
        )
        return 0

    if phases:
        print(", ".join(f"{part.name} {part.amount:.2f} s ({part.share:.0%})" for part in phases))
    if cache_words(trial):
        print(cache_words(trial))

    for finding in findings:
        print(
            f"- {finding.text} {judged_words(results, finding) or _what_to_try(finding)}".rstrip()
        )

    if score_words(results, findings):
        print(score_words(results, findings))

    for bounce in bounces:
        print(
            f"  bounce {bounce.number:2d}  {bounce.time_share:6.1%} of the time  "
            f"{bounce.light_share:7.2%} of the light"
        )

    for name, parts in ranked.items():
        if not parts:
            continue
        print(f"  {name}: " + ", ".join(f"{part.name} {part.share:.0%}" for part in parts))

    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--acceptable", is_flag=True, help="Only those that keep every limit.")
@click.option(
    "--by",
    type=click.Choice(["time", "share", "plan"]),
    default="time",
    show_default=True,
    help="In which order.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@_version
@_machine
def trials(
    study: Path, acceptable: bool, by: str, as_json: bool, version: str | None, machine: str
) -> int:
    """A table of all trials: number, time, limit share, verdict, runs, and what differs from the
    base."""
    from swift_sample.core.study.answers.acceptance import ACCEPTABLE
    from swift_sample.core.study.answers.pick_report import show_with_half, trial_as_data

    with looking(study, version, machine) as snapshot:
        say_state(snapshot)
        results = snapshot.results

    rows = [(number, trial) for number, trial in enumerate(results.trials, 1)]
    if acceptable:
        rows = [row for row in rows if row[1].verdict == ACCEPTABLE]

    if by == "time":
        rows.sort(
            key=lambda row: row[1].seconds.value if row[1].seconds is not None else float("inf")
        )
    elif by == "share":
        rows.sort(key=lambda row: row[1].share.value if row[1].share is not None else float("inf"))

    if as_json:
        print(
            json.dumps(
                {
                    "trials": [
                        {"number": number, **trial_as_data(trial, results)}
                        for number, trial in rows
                    ]
                }
            )
        )
        return 0

    pick = results.pick()
    print(f"{'':>4}  {'time':<14}{'limit share':<13}{'verdict':<16}{'runs':<6}configuration")

    for number, trial in rows:
        seconds = show_with_half(trial.seconds) if trial.seconds is not None else "–"
        share = f"{trial.share.value:.2f}" if trial.share is not None else "–"
        verdict = "pick" if pick is not None and pick.trial.id == trial.id else trial.verdict
        words = trial.called(results.study.base, most=8)
        print(f"{number:>4}  {seconds:<14}{share:<13}{verdict:<16}{len(trial.runs):<6}{words}")

    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def log(study: Path, as_json: bool) -> int:
    """What was decided while a study was measured, why, and what happened."""
    from swift_sample.core.study.log.store import look_at_study

    with look_at_study(study, say) as reading:
        events = reading.words

    if as_json:
        print(
            json.dumps(
                {"events": [{"at": at, "kind": kind, "text": text} for at, kind, text in events]}
            )
        )
    else:
        lines = [plain(f"{at}  {kind}: {text}", LOG_CHARACTERS) for at, kind, text in events]
        print("\n".join(lines) or "nothing was measured yet")

    return 0


def _write(
    study: Path,
    output: Path,
    version: str | None,
    machine: str,
    writer: "Callable[[Path, Snapshot, Machine], None]",
) -> int:
    """Write what a study knows to a file, in the way of `writer`."""
    from swift_sample.core.machine import this_machine

    check_writable(output)
    with looking(study, version, machine) as snapshot:
        say_state(snapshot)
        writer(output, snapshot, snapshot.timed_on(this_machine()))

    say(f"written to {output}")
    return 0


def say_state(snapshot: "Snapshot") -> None:
    """Why what is shown may not be what is expected: a missing or changed scene, results out of
    sight, other software, limits of less than a pixel."""
    from swift_sample.core.study.answers.acceptance import small_picture_words

    for words in (*snapshot.remarks, *small_picture_words(snapshot.study)):
        say(words)


def print_pick(snapshot: "Snapshot", as_json: bool) -> int:
    """Print the fastest acceptable trial; returns the exit status."""
    from swift_sample.core.study.answers.guidance import not_known
    from swift_sample.core.study.answers.kinds import kind_sentences, kinds_as_data, kinds_of
    from swift_sample.core.study.answers.pick_report import (
        help_sentences,
        other_goal_words,
        pick_as_data,
        pick_sentences,
    )

    results = snapshot.results
    other = other_goal_words(snapshot.of_other_goal) if snapshot.of_other_goal is not None else ""
    said = (
        other,
        *snapshot.search_words,
        snapshot.proof_words,
        snapshot.reference_words,
        snapshot.machine_words,
    )
    beside = [f"  {words}" for words in said if words]
    found = results.pick()
    kinds = kinds_of(snapshot.state)

    if len(kinds) > 1 and not as_json:
        print("\n".join(kind_sentences(kinds)))

    if as_json:
        data = pick_as_data(results, found, snapshot.help)
        told = {
            "remarks": list(snapshot.remarks),
            "machine": snapshot.machine_words,
            "search": list(snapshot.search_words),
            "proof": snapshot.proof_words,
        }
        told["other_goal"] = other
        told.update(kinds_as_data(kinds) if len(kinds) > 1 else {})
        print(json.dumps({**data, **told}))
    elif found is not None:
        first, *rest = pick_sentences(results, found, snapshot.without_changes)
        untouched = [f"  {snapshot.untouched_words}"] if snapshot.untouched_words else []
        print("\n".join([first, *untouched, *rest, *beside]))

    if found is None:
        if not as_json:
            measured = sum(1 for t in results.trials if t.is_on_map)
            if snapshot.help is None:
                why = not_known(results)
                words = (
                    f"no acceptable configuration yet: {measured} of {len(results.trials)} "
                    "trials are measured"
                )
                say(f"{words}; {why}" if why else words)
            else:
                print("\n".join([*help_sentences(results, snapshot.help), *beside]))

        return NONE_ACCEPTABLE

    return 0
