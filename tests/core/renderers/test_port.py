"""Everything above the port works with a renderer that has other settings and tells nothing but
pictures and times."""

import ast
import json
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import swift_sample
from swift_sample.core.errors import CatalogueError, RendererError, StudyError, UsageError
from swift_sample.core.machine import this_machine
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.registry import DESCRIPTION, RENDERERS, renderer_named
from swift_sample.core.report.open_data import write_results
from swift_sample.core.report.write import write_report
from swift_sample.core.settings import Capabilities, Catalogue, Configuration, Opening, Setting
from swift_sample.core.settings.capabilities import ALL
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.answers.findings import find
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Searching, Sweeping
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.model import Limits
from swift_sample.core.study.plan.starting import starting_study
from tests.core.renderers.known import COUNT, DIMMED, GREY, KNOWN, NOISE
from tests.core.study.states import only_limits

BASE = Configuration(KNOWN.catalogue, {COUNT.key: 64})


@pytest.fixture
def known(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(RENDERERS, "known", lambda: KNOWN)


@pytest.fixture
def path(known: None, tmp_path: Path) -> Path:
    plan = starting_study("Known", "wall", (32, 18), View(), BASE)
    return create_study(
        tmp_path / "known.study", replace(plan, limits=only_limits(light_shift=3.0, rms=8.0))
    )


@pytest.fixture
def driver(path: Path) -> Iterator[Driver]:
    made = Driver(Store.open(path))
    yield made
    made.close()


def levels_of_noise(count: int, reference: int = 1024) -> float:
    """The rms in levels of a picture with so many samples against the reference, whose noise is the
    same but smaller."""
    noise = np.random.default_rng(0).normal(0, 1, (18, 32, 3))
    shown, true = (
        View().levels((GREY + NOISE / np.sqrt(n) * noise).astype(np.float32))
        for n in (count, reference)
    )
    return float(np.sqrt(np.mean((shown - true) ** 2)))


def test_a_study_is_measured_searched_and_reported(driver: Driver, tmp_path: Path) -> None:
    assert driver.run_here(Sweeping()).finished
    results = driver.snapshot.results
    found = {}
    for trial in results.trials:
        found[trial.configuration[COUNT.key], trial.configuration[DIMMED.key]] = trial

    assert set(found) == {(4, 0.0), (16, 0.0), (64, 0.0), (64, 0.5)}
    for (count, dimmed), trial in found.items():
        assert sum(not run.control for run in trial.runs) >= 3
        assert trial.pictures == 1, "without seeds every run draws the same picture"

        if not dimmed:
            grain = trial.all_figures["grain"].value
            assert grain == pytest.approx(levels_of_noise(count), rel=0.05), (
                "an estimate from the one picture there is"
            )
            assert trial.figures["rms"].value == pytest.approx(levels_of_noise(count), rel=0.02)

    assert found[64, 0.0].verdict == ACCEPTABLE
    assert found[64, 0.5].verdict == NOT_ACCEPTABLE
    assert (found[4, 0.0].verdict == ACCEPTABLE) == (levels_of_noise(4) < 8)
    pick = results.pick()
    assert pick is not None
    fast = min((count for count, dimmed in found if not dimmed and levels_of_noise(count) < 8))
    assert pick.trial is found[fast, 0.0]
    assert pick.trial.times_faster.value > 2
    reference = driver.state.reference
    assert (reference.samples, reference.chunks, reference.floor) == (1024, 1, None), (
        "made once, its grain is not known"
    )
    assert find(results, results.base, driver.record, KNOWN) == []
    ended = driver.run_here(Searching(driver.record))
    assert ended.finished
    assert "combinations" in ended.words

    for name in ("report.html", "report.pdf", "results.csv", "results.json"):
        write = write_report if name.startswith("report") else write_results
        write(tmp_path / name, driver.snapshot, this_machine())

    text = (tmp_path / "report.html").read_text()
    assert "Left out" in text
    assert COUNT.key in (tmp_path / "results.csv").read_text()
    assert json.loads((tmp_path / "results.json").read_text())["reference"]["grain"] is None


def test_a_study_whose_renderer_is_gone_shows_what_was_measured(
    driver: Driver, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert driver.run_here(Sweeping()).finished
    before = driver.snapshot.results
    path = driver.path
    driver.close()
    monkeypatch.delitem(RENDERERS, "known")
    with look_at_study(path) as reading:
        snapshot = read_snapshot(reading)

    words = (
        "the renderer known pictures is not here any more, so nothing can be measured; what "
        "was measured is shown"
    )
    assert snapshot.problem == words
    assert snapshot.results.pick().trial.id == before.pick().trial.id
    assert [t.figures for t in snapshot.results.trials] == [t.figures for t in before.trials]
    opened = Driver(Store.open(path))
    ended = opened.run_here(Sweeping())
    assert (ended.finished, ended.problem) == (False, words)
    edited = opened.edit(
        "Limit", lambda study: replace(study, limits=Limits(rms=30.0)), "limit rms"
    )
    while not edited.done():
        opened._turn()

    assert opened.state.plan.limits.rms == 30.0, "the plan can be changed all the same"
    opened.close()
    (path / DESCRIPTION).unlink()
    with pytest.raises(
        StudyError, match=r"study\.toml: renderer=known: it is not here; expected one of built-in$"
    ):
        look_at_study(path)


def test_a_description_that_was_tampered_with_is_told(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delitem(RENDERERS, "known")
    text = (path / DESCRIPTION).read_text()

    for wrong in (
        "[]",
        text[:200],
        text.replace('"quality.count"', "3"),
        text.replace('"kind": "whole"', '"kind": "code"'),
    ):
        (path / DESCRIPTION).write_text(wrong)
        with pytest.raises(
            RendererError, match=r"renderer\.json: does not say what the renderer known is"
        ):
            renderer_named("known", path)

    (path / DESCRIPTION).write_text(text.replace('"name": "known"', '"name": "other"'))
    with pytest.raises(RendererError, match="tells of the renderer other, the study names known"):
        renderer_named("known", path)


def test_goals_that_a_renderer_cannot_tell_are_refused() -> None:
    plan = starting_study("Known", "wall", (32, 18), View(), BASE)
    with pytest.raises(
        UsageError, match="goal=first-picture: this renderer does not tell when a picture"
    ):
        replace(plan, goal="first-picture")

    assert (plan.limits.grain, plan.limits.grain_worst) == (2.0, None), (
        "of one picture grain is an estimate, too rough for a place"
    )


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ((COUNT, COUNT), "quality.count is declared twice"),
        (
            (replace(COUNT, kind="amount"),),
            "kind=amount: expected one of choice, whole, number, switch, text",
        ),
        ((replace(COUNT, role="speed"),), "role=speed: expected one of samples, scale"),
        (
            (replace(COUNT, default=0),),
            "default: quality.count=0: expected a whole number from 1 to 4096",
        ),
        (
            (replace(COUNT, suggested=(4, 1.5)),),
            "suggested: quality.count=1.5: expected a whole number",
        ),
        ((replace(COUNT, minimum=None),), "a number needs a minimum and a maximum"),
        (
            (replace(COUNT, minimum=9, maximum=8),),
            "a number needs a minimum and a maximum that is not below it",
        ),
        ((replace(COUNT, reference=Opening(-1)),), "reference: quality.count=-1: expected"),
        (
            (
                Setting(
                    key="a",
                    group="A",
                    label="A",
                    help="A.",
                    kind="choice",
                    default="x",
                    suggested=(),
                ),
            ),
            "a: a choice needs values",
        ),
        (
            (replace(DIMMED, neutral_when=("quality.none", (1,))),),
            "neutral_when=quality.none: there is no such setting",
        ),
        (
            (COUNT, replace(DIMMED, neutral_when=("quality.count", (0,)))),
            "neutral_when: quality.count=0: expected",
        ),
        (
            (replace(DIMMED, told_with="quality.none"),),
            "told_with=quality.none: there is no such setting",
        ),
        (
            (COUNT, replace(COUNT, key="quality.more")),
            "quality.count and quality.more both have the role samples",
        ),
    ],
)
def test_a_catalogue_that_contradicts_itself_is_refused(
    settings: tuple[Setting, ...], words: str
) -> None:
    with pytest.raises(CatalogueError, match=re.escape(words)):
        Catalogue("wrong", settings)


def test_a_reference_that_grows_needs_samples_to_grow_by() -> None:
    with pytest.raises(
        CatalogueError, match="a reference can be extended, but no setting has the role samples"
    ):
        Catalogue("wrong", (DIMMED,), Capabilities(extends_reference=True))


def test_catalogues_come_back_from_data() -> None:
    for catalogue in (CATALOGUE, KNOWN.catalogue):
        again = Catalogue.from_data(json.loads(json.dumps(catalogue.as_data())))
        assert list(again.values()) == list(catalogue.values())
        assert [type(s.default) for s in again.values()] == [
            type(s.default) for s in catalogue.values()
        ]
        assert (again.name, again.capabilities) == (catalogue.name, catalogue.capabilities)


def test_what_is_absent_has_its_reason() -> None:
    assert ALL.why_not("seeds") == ""
    assert Capabilities().why_not("seeds") == (
        "this renderer takes no seed, so that repeats show the same grain; grain is an estimate "
        "from one picture"
    )


SPELT = {
    "core/renderers/builtin": "the path tracer's own catalogue, and whatever obeys it",
    "core/renderers/command": (
        "files that are filled in begin with a setting by the same key, so that presets fit both"
    ),
}
"""Where keys of the path tracer's settings may stand, and why."""


def test_nothing_above_the_port_spells_a_settings_key() -> None:
    root = Path(swift_sample.__file__).parent
    found = []

    for file in root.rglob("*.py"):
        if not any(file.is_relative_to(root / place) for place in SPELT):
            for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
                if isinstance(node, ast.Constant) and isinstance(node.value, str):
                    # A key in a sentence of help is told to people; as a string of its own it is
                    # used.
                    found += [(file.name, node.lineno, node.value)] * (node.value in CATALOGUE)

    assert found == []
