"""Commands that ask recordings: derive one picture, and the whole field."""

import csv
import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.measuring import NOT_FINISHED, driving, work
from swift_sample.commands.terminal import say
from swift_sample.core.errors import UsageError

if TYPE_CHECKING:
    from swift_sample.core.settings import Configuration
    from swift_sample.core.study.answers.field import FieldPoint
    from swift_sample.core.study.measuring.driver import Driver


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.argument("changes", nargs=-1, metavar="KEY=VALUE...")
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), help="An EXR file for the picture."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def derive(study: Path, changes: tuple[str, ...], output: Path | None, as_json: bool) -> int:
    """The picture that the base with these changes would give, its figures, and how long it is
    foreseen to take, without rendering it: out of recordings that the reference is made of.

    Figures are measured of the derived picture, which is the one a render would give, pixel for
    pixel; the time is foreseen, with a 90 % interval.
    """
    from swift_sample.core.study.answers.field import field_of
    from swift_sample.core.study.measuring.policies.deriving import Deriving

    with driving(study) as driver:
        configuration = _changed(driver, changes)
        wanted = [driver.state.plan.base, configuration]
        if not work(driver, Deriving(wanted)).finished:
            return NOT_FINISHED

        points = field_of(driver.state, driver.snapshot.results, [configuration])
        if not points:
            raise UsageError(f"{configuration.describe(driver.state.plan.base)}: {_why(driver)}")

        if output is not None:
            _write_picture(driver, configuration, output)

        _print_points(driver, points, as_json)

    return 0


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), help="A CSV file; else a table is printed."
)
@click.option("--acceptable", is_flag=True, help="Only those that keep every limit.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def field(study: Path, output: Path | None, acceptable: bool, as_json: bool) -> int:
    """Every combination of the values that the study tries, in the order of foreseen time.

    Limit shares are measured of pictures that are derived from recordings; times are foreseen
    unless a column says that they were timed.
    """
    from swift_sample.core.study.answers.acceptance import ACCEPTABLE
    from swift_sample.core.study.answers.field import combinations, field_of, foreseen_seconds
    from swift_sample.core.study.measuring.policies.deriving import Deriving

    with driving(study) as driver:
        wanted = list(combinations(driver.state.plan))
        if not work(driver, Deriving(wanted)).finished:
            return NOT_FINISHED

        points = field_of(driver.state, driver.snapshot.results, wanted)
        if not points:
            raise UsageError(_why(driver))

        if acceptable:
            points = [point for point in points if point.verdict == ACCEPTABLE]

        points.sort(key=foreseen_seconds)
        if output is not None:
            _write_table(driver, points, output)
        else:
            _print_points(driver, points, as_json)

    return 0


def _changed(driver: "Driver", changes: tuple[str, ...]) -> "Configuration":
    """The base with changes as they are written on the command line. Raises UsageError."""
    study = driver.state.plan
    values = {}
    for change in changes:
        key, sign, text = change.partition("=")
        if not sign:
            raise UsageError(f"{change}: expected KEY=VALUE")
        values[key] = study.catalogue.setting(key).parse(text)

    return study.base.replace(values)


def _why(driver: "Driver") -> str:
    """Why nothing was derived."""
    from swift_sample.core.study.measuring.policies.recording import why_nothing_is_recorded

    reason = why_nothing_is_recorded(driver.state)
    return reason or "the recordings were made for other values; add them to the values to try"


def _write_picture(driver: "Driver", configuration: "Configuration", output: Path) -> None:
    """Derive a picture from the first recording that holds it."""
    from contextlib import closing

    from swift_sample.core.picture.exr import write_exr
    from swift_sample.core.renderers.headers import STUDY_LAYERS
    from swift_sample.core.study.answers.field import recorded_for
    from swift_sample.core.study.log.folder import Folder

    state = driver.state
    chunk = recorded_for(state, configuration)[0]
    path = Folder(driver.path).recording(state.reference_name, chunk)

    with closing(driver.renderer.engine().open_recording(path)) as recording:
        picture = recording.derive(configuration, state.plan.view).picture

    write_exr(output, picture, STUDY_LAYERS)
    say(f"the derived picture is in {output}")


def _print_points(driver: "Driver", points: "list[FieldPoint]", as_json: bool) -> None:
    from swift_sample.core.study.answers.field import point_as_data

    base = driver.state.plan.base
    if as_json:
        print(json.dumps({"derived": [point_as_data(point, base) for point in points]}))
        return

    print(f"{'foreseen':<17}{'timed':<9}{'limit share':<17}{'derived verdict':<17}configuration")
    for point in points:
        seconds = "–"
        if point.seconds is not None:
            low, high = point.seconds.low, point.seconds.high
            seconds = f"{point.seconds.value:.2f} ({low:.2f}–{high:.2f})"

        timed = "–"
        if point.trial is not None and point.trial.seconds is not None:
            timed = f"{point.trial.seconds.value:.2f}"

        share = "–"
        if point.share is not None:
            share = f"{point.share.value:.2f} ({point.share.low:.2f}–{point.share.high:.2f})"

        words = "the base"
        if point.configuration != base:
            words = point.configuration.describe(base, most=8)
        print(f"{seconds:<17}{timed:<9}{share:<17}{point.verdict:<17}{words}")


def _write_table(driver: "Driver", points: "list[FieldPoint]", output: Path) -> None:
    """A CSV file: one column a setting that is combined, then times, limit share and figures."""
    keys = list(driver.state.plan.space())
    measures = sorted({key for point in points for key in point.figures})
    ends = ("", "_low", "_high")

    with output.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(
            [
                *keys,
                *(f"foreseen_seconds{end}" for end in ends),
                "timed_seconds",
                *(f"limit_share{end}" for end in ends),
                "verdict",
                *measures,
            ]
        )
        for point in points:
            timed = point.trial.seconds if point.trial is not None else None
            figures = [point.figures.get(key) for key in measures]
            writer.writerow(
                [
                    *(point.configuration[key] for key in keys),
                    *(point.seconds.numbers[:3] if point.seconds is not None else ("",) * 3),
                    timed.value if timed is not None else "",
                    *(point.share.numbers[:3] if point.share is not None else ("",) * 3),
                    point.verdict,
                    *(figure.value if figure is not None else "" for figure in figures),
                ]
            )

    say(f"{len(points)} combinations are in {output}")
