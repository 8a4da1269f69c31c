"""What features cost: rows in the order of what they win, words that say so, and the plan that
tries them."""

import json
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.cli import run
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.scene.features import with_changes
from swift_sample.core.scene.gltf_changes import changed, write_changed
from swift_sample.core.scene.gltf_files import split_glb
from swift_sample.core.scene.open import open_scene
from swift_sample.core.settings import Catalogue, Opening, ScenePart, Setting
from swift_sample.core.settings.forms import reading_list
from swift_sample.core.study.answers.features import (
    audited,
    expected,
    groups_of,
    rows_of,
    score_words,
    together,
    words_of,
    words_of_all,
)
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.store import create_study, look_at_study
from swift_sample.core.study.measuring.policies.specs import spec_of
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Study
from tests.core.scene.gltf_maker import GltfMaker
from tests.core.study.states import measured, only_limits, record_of


def feature(material: str, what: str, *values: str) -> Setting:
    words = f"{material}: {what}"
    choices = ("as is", *values)

    return Setting(
        key=f"feature.{material}.{what}",
        group="Materials",
        label=words,
        help="help",
        kind="choice",
        default="as is",
        suggested=choices,
        short=words,
        values=choices,
        reference=Opening("as is"),
        of_scene=True,
        part=ScenePart(
            "material", material, ("transmission",) if what in ("light", "frosting") else ()
        ),
        cheaper=values,
    )


GLASS = feature("glass", "light", "off")
FROST = feature("glass", "frosting", "clear")
WOOD = feature("wood", "coat", "off")


def study(**limits: float) -> Study:
    plain = Study(
        name="s",
        scene="honey-stall",
        base=configured({"samples.max": 100}),
        limits=only_limits(**(limits or {"grain": 2.0})),
    )
    return plain.with_scene_settings([GLASS, FROST, WOOD])


def test_features_are_settings_of_the_study_and_not_of_the_renderer(tmp_path: Path) -> None:
    plan = study()
    assert [setting.key for setting in plan.catalogue.of_scene] == [GLASS.key, FROST.key, WOOD.key]
    assert "Materials" in plan.catalogue.groups
    off = plan.base.replace({GLASS.key: "off"})
    assert off.describe(plan.base) == "glass: light off"
    assert off.of_scene() == {GLASS.key: "off"}
    assert off.of_renderer() == plan.base.of_renderer() == dict(plan.base.on(CATALOGUE))
    spec = spec_of(plan, off, 1)
    assert (spec.changes, set(spec.settings)) == ({GLASS.key: "off"}, set(CATALOGUE))
    assert plan.base.identity_values() == plan.base.on(CATALOGUE).identity_values(), (
        "old trials keep their names"
    )
    tried = audited(plan)
    again = plan_from_toml(plan_as_toml(tried, tmp_path), tmp_path / "study.toml")
    assert again == tried
    assert again.catalogue is tried.catalogue, (
        "one object for the same settings, so that nothing is drawn anew"
    )
    assert again.reference_configuration(1)[GLASS.key] == "as is"
    assert "Materials\n  glass: light: off  (was as is)" in reading_list(off, plan.base)
    without = tried.with_scene_settings([])
    assert not without.catalogue.of_scene
    assert without.values_to_try() == {}


def test_what_can_hardly_win_anything_is_not_tried_unless_asked() -> None:
    """By the base's record: a material of half a percent, rays that are nowhere, an object that
    nobody sees, and what has no effect at the base's values."""
    part = feature("shelf", "seen", "camera only")
    far = replace(part, part=ScenePart("object", "shelf"))
    fine = replace(far, key="feature.shelf.divided", neutral_when=("geometry.subdivision", (0,)))
    haze = replace(far, key="feature.haze.haze", part=ScenePart("haze", "haze", ("volume",)))
    lamp = replace(far, key="feature.lamp.shadow", part=ScenePart("light", "lamp"))
    plan = study().with_scene_settings([GLASS, WOOD, far, fine, haze, lamp])

    record = record_of(
        10.0,
        seconds_by_material={"wood": 9.96, "glass": 0.04},
        seconds_by_object={"shelf": 0.1, "rest": 9.9},
        seconds_by_bounce=[{"camera": 5.0}, {"diffuse": 4.0, "transmission": 1.0}],
    )
    assert {c for t in audited(plan, record).planned() for c in t.of_scene()} == {
        WOOD.key,
        lamp.key,
    }
    record.seconds_by_bounce.append({"volume": 2.0})
    assert haze.key in audited(plan, record).values_to_try()
    assert expected(ScenePart("haze", "haze", ("volume",)), record) == pytest.approx(2 / 12)
    assert {c for t in audited(plan).planned() for c in t.of_scene()} == {
        one.key for one in (GLASS, WOOD, far, haze, lamp)
    }


def test_a_plan_keeps_what_features_are_of(tmp_path: Path) -> None:
    fine = replace(
        GLASS,
        key="feature.shelf.divided",
        neutral_when=("geometry.subdivision", (0,)),
        part=ScenePart("object", "shelf"),
    )
    plan = study().with_scene_settings([GLASS, fine])
    assert plan_from_toml(plan_as_toml(plan, tmp_path), tmp_path / "study.toml") == plan
    catalogue = plan.catalogue
    assert (
        Catalogue.from_data(json.loads(json.dumps(catalogue.as_data()))).of_scene
        == catalogue.of_scene
    )
    before = catalogue.as_data()
    for name in ("part", "cheaper"):
        del before["settings"][-2][name]

    assert Catalogue.from_data(before).of_scene[0] == replace(
        GLASS, part=ScenePart("material", "glass")
    ), "as it was once"


def test_every_feature_is_tried_alone_the_costliest_first() -> None:
    record = record_of(10.0, seconds_by_material={"wood": 6.0, "glass": 3.0})
    tried = audited(study().with_values_to_try({"samples.max": (50, 100)}), record)
    alone = [c.of_scene() for c in tried.planned() if c.of_scene()]
    assert alone == [{WOOD.key: "off"}, {GLASS.key: "off"}, {FROST.key: "clear"}]
    assert set(tried.values_to_try()) == {"samples.max", GLASS.key, FROST.key, WOOD.key}


def test_rows_say_what_each_feature_costs_and_whether_it_is_missed() -> None:
    plan = audited(study(light_shift=1.0))
    base = plan.base
    changes = ((GLASS.key, "off"), (FROST.key, "clear"), (WOOD.key, "off"))
    no_glass, no_frost, no_coat = (base.replace({key: value}) for key, value in changes)
    times = {base: 10.0, no_glass: 6.0, no_frost: 9.0, no_coat: 10.0}
    shift = {base: 0.2, no_glass: 4.0, no_frost: 0.3, no_coat: 0.2}

    happened = measured(
        plan,
        {c: [s * n for n in (0.999, 1.0, 1.001)] for c, s in times.items()},
        {c: {"light_shift": (v, 0.9 * v, 1.1 * v)} for c, v in shift.items()},
    )
    results = collect(happened.state)

    told_of_base = record_of(
        10.0,
        seconds_by_material={"glass": 3.0, "wood": 1.0},
        seconds_by_bounce=[{"camera": 8.0}, {"transmission": 1.0, "diffuse": 1.0}],
        memory_bytes={"geometry": 100 << 20},
    )
    without_coat = told_of_base.model_copy(
        update={"notes": ["wood: as geometry"], "memory_bytes": {"geometry": 140 << 20}}, deep=True
    )
    coat = results.by_id[results.alone[WOOD.key]["off"]]
    rows = rows_of(
        results,
        lambda number: without_coat if number in {r.number for r in coat.runs} else told_of_base,
    )
    assert [row.setting.key for row in rows] == [GLASS.key, FROST.key, WOOD.key]
    told = [words_of(row, results) for row in rows]
    assert told[0].startswith("costs 40% (")
    assert ", more than the 20% expected, but" in told[0], (
        "no more than the time from the first bounce on that glass pays for"
    )
    assert "but light shift 4.0 of 1.0 levels is over its limit" in told[0]
    assert told[1].startswith("costs 10% (")
    assert told[1].endswith("gone within all limits")
    assert told[2] == (
        "costs nothing measurable, gone within all limits; wood: as geometry; the scene holds "
        "40.0 MiB more"
    )
    assert score_words(rows) == "2 of 3 that were tried won no more than expected at most"
    assert rows[0].share == pytest.approx(0.75)
    assert together(rows, results) is None, "one of the two would be missed"
    told_of = record_of(
        10.0,
        seconds_by_material={"glass": 3.0},
        picture_by_material={"glass": 0.25, "background": 0.75},
    )
    untried = rows_of(collect(measured(plan, {base: [10.0]}, {}).state), lambda _: told_of)
    assert words_of(untried[0], results) == "not tried yet; expected to win 100% at most"
    assert [group.words for group in groups_of(untried)] == [
        "glass (100% of the time, 25% of the picture)",
        "wood (no pixel shows it first)",
    ]

    assert words_of(untried[-1], results) == "not tried yet; no pixel shows its material first"


@pytest.mark.parametrize(
    ("seconds", "words"), [(7.2, "as expected"), (9.0, "less than alone"), (5.0, "more than alone")]
)
def test_all_that_nobody_misses_is_proposed_at_once(seconds: float, words: str) -> None:
    plan = audited(study(light_shift=1.0))
    base = plan.base
    changes = (
        {GLASS.key: "off"},
        {FROST.key: "clear"},
        {WOOD.key: "off"},
        {GLASS.key: "off", FROST.key: "clear"},
    )
    times = dict(
        zip(
            (base, *(base.replace(change) for change in changes)),
            (10.0, 8.0, 9.0, 10.0, seconds),
            strict=True,
        )
    )

    def told(trials: list) -> str:
        runs = {c: [times[c] * n for n in (0.999, 1.0, 1.001)] for c in trials}
        results = collect(
            measured(plan, runs, {c: {"light_shift": (0.2, 0.1, 0.3)} for c in trials}).state
        )
        found = together(rows_of(results, lambda _: None), results)
        assert found is not None
        assert dict(found.changes) == changes[-1]

        return words_of_all(found, results)

    assert told(list(times)[:4]).startswith(
        "2 features are not missed; all gone at once would save about 28% (2"
    )
    made = told(list(times))
    assert f", {words} (28%" in made
    assert made.endswith("within all limits")


CARD = {
    "name": "glass",
    "doubleSided": True,
    "pbrMetallicRoughness": {"metallicFactor": 0, "roughnessFactor": 0.3},
    "emissiveFactor": [0.2, 0.2, 0.2],
    "extensions": {
        "KHR_materials_transmission": {"transmissionFactor": 1},
        "KHR_materials_clearcoat": {"clearcoatFactor": 1},
    },
}


def scene_file(path: Path) -> Path:
    """A frosted, coated, glowing card that stands on nothing."""
    return GltfMaker(
        materials=[CARD], extensionsUsed=["KHR_materials_transmission", "KHR_materials_clearcoat"]
    ).save(path)


@pytest.mark.parametrize(
    ("what", "value", "gone"),
    [
        ("transmission", "off", "KHR_materials_transmission"),
        ("coat", "off", "KHR_materials_clearcoat"),
        ("emission", "off", ""),
    ],
)
def test_a_gltf_with_the_changes_is_what_was_rendered(
    tmp_path: Path, what: str, value: str, gone: str
) -> None:
    path = scene_file(tmp_path / "card.glb")
    other = tmp_path / "other.glb"
    scene = open_scene(str(path))
    document = json.loads(split_glb(path.read_bytes())[0])
    changes = {f"feature.glass.{what}": value}
    made, left = changed(document, scene, changes)
    assert left == []
    assert document["materials"][0] == CARD, "the document itself stays"
    assert gone not in made["materials"][0].get("extensions", {})
    assert write_changed(path, scene, changes, other) == []
    assert json.loads(split_glb(other.read_bytes())[0]) == made
    assert open_scene(str(other)).materials == with_changes(scene, changes).materials


def test_lamps_haze_and_sky_of_a_file_can_go_and_what_cannot_be_said_is_told(
    tmp_path: Path,
) -> None:
    grid = {"size": [4, 1, 1], "values": [1.0, 3.0, 1.0, 3.0]}
    haze = {"low": [-1, -1, -1], "high": [1, 1, 1], "scattering": [1, 1, 1], "grid": grid}

    maker = GltfMaker(
        materials=[CARD],
        extras={"swift_sample": {"haze": haze, "environment": {"colour": [1, 1, 1]}}},
        extensionsUsed=["KHR_lights_punctual"],
        extensions={"KHR_lights_punctual": {"lights": [{"type": "point", "name": "lantern"}]}},
        nodes=[{"mesh": 0}, {"extensions": {"KHR_lights_punctual": {"light": 0}}}],
    )
    path = maker.save(tmp_path / "card.glb")
    other = tmp_path / "other.glb"
    scene = open_scene(str(path))
    assert [light.name for light in scene.lights] == ["lantern"]

    for key, value in (
        ("lantern.lamp", "off"),
        ("haze.cloud", "even"),
        ("haze.cloud", "half size"),
        ("haze.haze", "off"),
    ):
        changes = {f"feature.{key}": value}
        assert write_changed(path, scene, changes, other) == []
        made = open_scene(str(other))
        wanted = with_changes(scene, changes)
        assert [light for light in made.lights if max(light.colour)] == [
            x for x in wanted.lights if max(x.colour)
        ]
        assert (made.haze is None) == (wanted.haze is None)

        if made.haze is not None and wanted.haze is not None:
            assert made.haze.density == pytest.approx(wanted.haze.density)

    left = {"feature.lantern.shadow": "off", "feature.glass.emission": "lamp"}
    assert write_changed(path, scene, left | {"feature.glass.coat": "off"}, other) == [
        "feature.glass.emission",
        "feature.lantern.shadow",
    ]

    assert open_scene(str(other)).materials[0].coat == 0
    assert max(open_scene(str(other)).materials[0].emission) > 0, (
        "what is not said is left as it is"
    )


def test_features_from_the_command_line_to_another_file(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    scene = scene_file(tmp_path / "card.glb")
    path = tmp_path / "card.study"
    base = configured({"samples.max": 4, "bounces.total": 3, "device.threads": 2})
    limits = only_limits(
        grain=0.05
    )  # nothing meets it: there is no pick, whatever the times of such small renders
    create_study(
        path,
        Study(name="card", scene=str(scene), size=(32, 18), base=base, limits=limits, repeats=1),
    )
    assert run(["features", str(path), "--list", "--json"]) == 0
    listed = json.loads(capsys.readouterr().out)["features"]
    of_glass = {row["key"] for row in listed if row["part"] == "material"}
    assert of_glass == {
        f"feature.glass.{what}" for what in ("transmission", "frosting", "coat", "emission")
    }
    assert all(row["verdict"] is None for row in listed)
    assert run(["features", str(path)]) == 0
    told = capsys.readouterr().out.splitlines()
    assert len([line for line in told if line.startswith("glass: ")]) == 4
    assert any(line.endswith(" won no more than expected at most") for line in told)
    assert [line for line in told if line.startswith("not tried: ")] == [
        line
        for line in told
        if line.startswith("not tried: glass (") and line.endswith("): glow lamp")
    ]
    with look_at_study(path) as reading:
        trials = reading.state.planned

    assert len(trials) == 5
    assert run(["set", str(path), "feature.glass.coat=off"]) == 0
    target = tmp_path / "lighter.glb"
    assert run(["features", str(path), "--write", str(tmp_path / "lighter.gltf")]) == 1
    assert "ends in .glb" in capsys.readouterr().err
    assert run(["features", str(path), "--write", str(scene)]) == 1
    before = scene.read_bytes()
    assert run(["features", str(path), "--write", str(target)]) == 0
    assert scene.read_bytes() == before
    assert open_scene(str(target)).materials[0].coat == 0
    lost = path / "results.db"
    lost.unlink()
    assert run(["pick", str(path)]) in (0, 1, 3)
    bare = tmp_path / "bare.study"
    create_study(
        bare,
        Study(
            name="wall",
            scene=str(GltfMaker().save(tmp_path / "wall.glb")),
            size=(32, 18),
            base=base,
        ),
    )
    assert run(["features", str(bare)]) in (0, 2)
