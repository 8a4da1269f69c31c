"""What each feature of a scene costs."""

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from swift_sample.commands.measuring import driving, work
from swift_sample.commands.terminal import quoted, say
from swift_sample.core.errors import UsageError

if TYPE_CHECKING:
    from swift_sample.core.study.answers.features import Group

NOT_FINISHED = 1
GROUPS_SHOWN = 12
"""Materials, objects and lights whose untried features are told."""


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--list", "only_list", is_flag=True, help="Only list what the scene has; nothing is rendered."
)
@click.option(
    "--write",
    "target",
    type=click.Path(path_type=Path),
    help="Write the scene with the pick's changes as another file.",
)
@click.option(
    "--all",
    "every",
    is_flag=True,
    help="Tell all that was not tried as well, not the costliest alone.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def features(study: Path, only_list: bool, target: Path | None, every: bool, as_json: bool) -> int:
    """Leave out one feature of the scene at a time, and say what each costs and whether it is
    seen."""
    if target is not None:
        return _write(study, target)

    from swift_sample.core.study.answers.costs import typical_run
    from swift_sample.core.study.answers.features import (
        as_data,
        audited,
        groups_of,
        rows_of,
        score_words,
        together,
        words_of,
        words_of_all,
    )
    from swift_sample.core.study.measuring.policies import Sweeping

    with driving(study) as driver:
        plan = driver.state.plan
        settings = driver.renderer.scene_settings(plan.scene, plan.frame, plan.staging)
        if not settings:
            raise UsageError(f"{study}: nothing of this scene can be taken away or made cheaper")

        driver.settle(
            driver.edit("Features of the materials", lambda now: now.with_scene_settings(settings))
        )
        if not only_list:
            base = driver.snapshot.results.base
            run = typical_run(base) if base is not None else None
            record = driver.record(run.number) if run is not None else None
            driver.settle(driver.edit("Try every feature", lambda now: audited(now, record)))
            keys = tuple(setting.key for setting in driver.state.plan.catalogue.of_parts)

            if not work(driver, Sweeping(keys)).finished:
                say(f"stopped; `swift-sample features {quoted(study)}` carries on")
                return NOT_FINISHED

        results = driver.snapshot.results
        rows = rows_of(results, driver.record)

        if as_json:
            print(json.dumps({"features": [as_data(row, results) for row in rows]}))
            return 0

        everything = together(rows, results)
        for row in rows:
            if row.trial is not None:
                print(
                    f"{row.setting.label}, {row.setting.show(row.value)}: {words_of(row, results)}"
                )

        if everything is not None:
            print(words_of_all(everything, results))

        groups = groups_of(rows)
        shown = groups if every or only_list else groups[:GROUPS_SHOWN]

        rest = (
            f"and {len(groups) - len(shown)} more that take less of the time: --all tells them"
            if groups[len(shown) :]
            else ""
        )
        for words in (score_words(rows), *(_untried(group) for group in shown), rest):
            if words:
                print(words)

    return 0


def _untried(group: "Group") -> str:
    """What was not tried of one material, object or light, in a line."""
    told = [
        f"{row.setting.label.rpartition(': ')[2]} {row.setting.show(row.value)}"
        for row in group.rows
    ]
    remarks = dict.fromkeys(row.setting.why_tried for row in group.rows if row.setting.why_tried)
    return f"not tried: {group.words}: {', '.join(told)}" + (
        f" ({'; '.join(remarks)})" if remarks else ""
    )


def _write(study: Path, target: Path) -> int:
    """Write the scene as the pick has it, or the base where that has changes and there is no
    pick."""
    from swift_sample.core.scene.gltf_changes import write_changed
    from swift_sample.core.scene.open import open_scene
    from swift_sample.core.study.log.store import look_at_study
    from swift_sample.core.study.measuring.surroundings import read_snapshot

    with look_at_study(study) as reading:
        results = read_snapshot(reading).results
        pick = results.pick()
        plan = results.study
        changes = (pick.trial.configuration if pick is not None else plan.base).of_scene()

    if not changes:
        raise UsageError(
            f"{study}: {'the pick' if pick is not None else 'the base'} changes nothing of the "
            "scene"
        )
    if not Path(plan.scene).is_file():
        raise UsageError(
            f"{plan.scene}: is made by the program and has no file that could be written anew"
        )

    told = {key: f"{plan.catalogue[key].label} {value}" for key, value in changes.items()}
    left = write_changed(Path(plan.scene), open_scene(plan.scene), changes, target)
    done = [words for key, words in told.items() if key not in left]
    say(f"{target}: {', '.join(done) or 'as the scene is'}")

    if left:
        missing = ", ".join(told[key] for key in left)
        say(
            "not in that file, since glTF cannot say it or it needs new geometry or pictures: "
            f"{missing}"
        )

    return 0
