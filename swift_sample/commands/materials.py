"""What each material's features cost."""

import json
from pathlib import Path

import click

from swift_sample.commands.measuring import driving, work
from swift_sample.commands.terminal import quoted, say
from swift_sample.core.errors import UsageError

NOT_FINISHED = 1


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option("--list", "only_list", is_flag=True, help="Only list what the scene's materials have; nothing is rendered.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def features(study: Path, only_list: bool, as_json: bool) -> int:
    """Leave out one feature of one material at a time, and say what each costs and whether it is seen."""
    from swift_sample.core.study.costs import typical_run
    from swift_sample.core.study.features import as_data, audited, rows_of, words_of
    from swift_sample.core.study.policies import Sweeping

    with driving(study) as driver:
        plan = driver.state.plan
        settings = driver.renderer.scene_settings(plan.scene, plan.frame, plan.staging)
        if not settings:
            raise UsageError(f"{study}: nothing of this scene can be taken away or made cheaper")
        driver.settle(driver.edit("Features of the materials", lambda now: now.with_scene_settings(settings)))
        base = driver.snapshot.results.base
        run = typical_run(base) if base is not None else None
        record = driver.record(run.number) if run is not None else None
        if not only_list:
            driver.settle(driver.edit("Try every feature", lambda now: audited(now, record)))
            keys = tuple(setting.key for setting in driver.state.plan.catalogue.of_scene)
            if not work(driver, Sweeping(keys)).finished:
                say(f"stopped; `swift-sample features {quoted(study)}` carries on")
                return NOT_FINISHED
            base = driver.snapshot.results.base
            run = typical_run(base) if base is not None else None
            record = driver.record(run.number) if run is not None else None
        results = driver.snapshot.results
        rows = rows_of(results, record)
        if as_json:
            print(json.dumps({"features": [as_data(row, results) for row in rows]}))
            return 0
        for row in rows:
            print(f"{row.setting.label}, {row.value}: {words_of(row, results)}")
    return 0
