"""Findings and the rows of the Cost page, from records made up so that one thing stands out."""

from dataclasses import replace

import pytest

from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.findings import FineTextures, FineTriangles
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.costs import bounces_of, materials_of, memory_of, parts_of
from swift_sample.core.renderers.port import Case, Finding
from swift_sample.core.renderers.records import RunRecord, Samples, TextureHeld
from swift_sample.core.study.answers.costs import phases_of, typical_run
from swift_sample.core.study.answers.findings import (
    find,
    held,
    judged_words,
    score_words,
    trial_for,
)
from swift_sample.core.study.answers.results import Results, collect
from swift_sample.core.study.plan.model import Limits, Study, Sweep
from tests.core.study.states import measured as measured_study
from tests.core.study.states import only_limits

THREADS = int(CATALOGUE["device.threads"].default)
QUIET = {
    "samples.max": 64,
    "samples.noise_threshold": 0.01,
    "scene.keep_built": True,
    "bounces.total": 2,
    "denoise.method": "wavelet",
}
"""A base about which there is nothing to say."""


def run_result(**changes: object) -> RunRecord:
    seconds = {
        "load": 0.0,
        "textures": 0.0,
        "build": 0.0,
        "sampling": 10.0,
        "denoise": 0.1,
        "write": 0.1,
        "first_picture": 0.2,
        "total": 10.2,
    }
    given: dict = dict(
        size=(4, 4),
        seconds=seconds,
        phase_cpu_seconds={},
        cpu_seconds=20.0,
        peak_memory_bytes=1 << 20,
        memory_bytes={"geometry": 1 << 20, "film": 3 << 20},
        rays={"by_bounce": [{"camera": 100, "shadow": 50}, {"diffuse": 40}]},
        samples=Samples(mean=40, min=8, max=64, share_at_max=0.3, min_used=8),
        light_by_bounce=[[1.0] * 3, [0.25] * 3],
        seconds_by_bounce=[{"camera": 6.0}, {"diffuse": 4.0}],
        threads=2,
        device="processor",
        settings={},
        seed=1,
        picture_bytes=1 << 20,
        dropped_samples=0,
        load_of_others=0.0,
        reused_scene=False,
        notes=[],
    )

    return RunRecord(**{**given, **changes, "seconds": {**seconds, **changes.get("seconds", {})}})


def measured(
    settings: dict, values: dict | None = None, limits: Limits | None = None, **changes: object
) -> Results:
    """A study whose every trial was run three times with the same record."""
    base = configured({**QUIET, **settings})
    study = Study(
        name="s",
        scene="honey-stall",
        base=base,
        limits=limits or Limits(light_shift=1.2),
        renders_per_opening=50,
        sweeps=(Sweep("one at a time", values),) if values else (),
    )

    figures = {key: (1.0, 0.9, 1.1) for key in ("grain", "light_shift", "stray_pixels")} | {
        "detail_kept": (99.0, 98.9, 99.1)
    }
    trials = {c: [run_result(**changes)] * 3 for c in study.planned()}
    return collect(measured_study(study, trials, dict.fromkeys(trials, figures)).state)


def found(results: Results, record: RunRecord) -> list[Finding]:
    assert results.base is not None
    return find(results, results.base, lambda number: record, RENDERER)


def test_nothing_is_found_where_nothing_stands_out() -> None:
    assert found(measured({}), run_result()) == []


LATE = {
    "light_by_bounce": [[1.0] * 3, [0.1] * 3, [0.05] * 3, [0.001] * 3, [0.001] * 3],
    "seconds_by_bounce": [
        {"camera": 5.0},
        {"diffuse": 2.0},
        {"diffuse": 1.0},
        {"glossy": 1.0},
        {"glossy": 1.0},
    ],
}


@pytest.mark.parametrize(
    ("settings", "changes", "expected", "words"),
    [
        (
            {"bounces.total": 12},
            LATE,
            {"bounces.total": 2},
            "After bounce 2 arrives 0.17% of the light, for 20% of the time. Look",
        ),
        (
            {"bounces.total": 12},
            {**LATE, "shift_by_bounces": {1: 5.0, 2: 1.4, 3: 0.1}},
            {"bounces.total": 3},
            "After bounce 3 arrives 0.09% of the light, for 10% of the time. By this render's "
            "record the light shift would "
            "be about 1.0 levels of 1.2. Look",
        ),
        (
            {"samples.noise_threshold": 0.0},
            {},
            {"samples.noise_threshold": 0.02},
            "Every pixel takes all 64 samples",
        ),
        (
            {},
            {"samples": Samples(mean=63, min=8, max=64, share_at_max=0.97, min_used=8)},
            {"samples.noise_threshold": 0.02},
            "97% of the pixels use every sample: the threshold of 0.01 hardly triggers",
        ),
        (
            {"samples.max": 256},
            {"samples": Samples(mean=35, min=8, max=256, share_at_max=0.02, min_used=8)},
            {"samples.max": 128},
            "Pixels take 35 samples on average of at most 256; 2.0% of them reach the most",
        ),
        (
            {"denoise.method": "none"},
            {"grain_by_samples": {8: 2.5, 16: 1.7, 32: 1.2, 64: 0.9}},
            {"samples.max": 16},
            "With 16 samples the grain was 1.7 levels of 2.0; 64 were taken",
        ),
        (
            {"scene.keep_built": False},
            {"seconds": {"build": 2.0}},
            {"scene.keep_built": True},
            "Reading and building the scene takes 2.0 s",
        ),
        (
            {"scene.keep_built": False},
            {"seconds": {"textures": 2.0}},
            {"textures.prepared": True},
            "Converting textures takes 2.00 s",
        ),
        ({}, {"seconds": {"write": 2.0}}, {"output.format": "exr-none"}, "Writing takes 2.00 s"),
        (
            {},
            {"seconds_by_bounce": [{"camera": 6.0}, {"volume": 4.0}]},
            {"volume.scattering": "stepped"},
            "Rays scattered in haze take 39% of the time",
        ),
        (
            {},
            {"tail_seconds": 1.02},
            {"tiles.size": 16},
            "For 1.02 s, 10% of the time, threads only wait",
        ),
    ],
)
def test_each_kind_is_found_with_its_figures_and_a_trial(
    settings: dict, changes: dict, expected: dict, words: str
) -> None:
    finding = next(
        f
        for f in found(measured(settings, **changes), run_result(**changes))
        if f.changes == expected
    )
    assert finding.text.startswith(words)
    assert 0 < finding.time_share <= 1
    for key, value in expected.items():
        assert CATALOGUE[key].check(value) == value


def test_findings_about_the_most_time_come_first_and_tell_if_they_were_tested() -> None:
    results = measured(
        {"scene.keep_built": False, "samples.noise_threshold": 0.0},
        {"scene.keep_built": (True,)},
        seconds={"build": 2.0},
    )
    first, second = found(results, run_result(seconds={"build": 2.0}))
    assert first.time_share > second.time_share
    assert trial_for(results, first) is None
    tested = trial_for(results, second)
    assert tested is not None
    assert tested.configuration["scene.keep_built"] is True


def test_a_threshold_is_proposed_that_spares_samples_by_the_renders_own_record() -> None:
    """At 0.016, the nearest known to 0.02, no sample goes; half of them at 0.045, the nearest to
    0.05."""
    replayed = {
        0.0: (64.0, 3.0, 1.0),
        0.016: (64.0, 3.0, 1.0),
        0.0226: (62.0, 3.1, 0.9),
        0.045: (32.0, 4.2, 0.1),
    }
    samples = Samples(mean=64, min=64, max=64, share_at_max=1.0, min_used=8)
    changes = {"samples_by_setting": {"samples.noise_threshold": replayed}, "samples": samples}
    first = found(measured({"samples.noise_threshold": 0.0}, **changes), run_result(**changes))
    (threshold,) = [finding for finding in first if "samples.noise_threshold" in finding.changes]
    assert threshold.changes == {"samples.noise_threshold": 0.05}, "0.02 would spare nothing"
    record = run_result(**changes)
    sampling = record.seconds["sampling"] / record.seconds["total"]
    assert threshold.gain == pytest.approx((0.25 * sampling, 0.55 * sampling), rel=0.02)
    replayed[0.045] = (63.0, 3.1, 0.9)
    assert not [
        f
        for f in found(measured({"samples.noise_threshold": 0.0}, **changes), run_result(**changes))
        if f.changes
    ]


def test_a_kept_scene_is_no_advice_for_a_still_that_is_opened_for_one_render() -> None:
    cold = measured({"scene.keep_built": False}, seconds={"build": 4.0})
    still = replace(cold, study=replace(cold.study, renders_per_opening=1))
    record = run_result(seconds={"build": 4.0})
    assert [f for f in found(cold, record) if "scene.keep_built" in f.changes]
    assert not [f for f in found(still, record) if "scene.keep_built" in f.changes]


def test_rows_add_up_and_the_rest_is_summed() -> None:
    result = run_result(seconds_by_material={f"m{k:02d}": float(k) for k in range(1, 21)})
    rows = materials_of(result)
    assert [row.name for row in rows[:2]] == ["m20", "m19"]
    assert rows[-1].name == "8 others"
    assert sum(row.share for row in rows) == pytest.approx(1.0)
    assert [(part.name, part.share) for part in memory_of(result)] == [
        ("film", 0.75),
        ("geometry", 0.25),
    ]
    first, second = bounces_of(result)
    assert (first.rays, first.time_share, first.light_share) == (150, 0.6, pytest.approx(0.8))
    assert (second.rays, second.time_share) == (40, 0.4)
    results = measured({}, seconds={"build": 5.0})
    assert {part.name: part.amount for part in phases_of(results.base)}["build"] == 5.0


def test_the_typical_run_is_in_the_middle_of_those_that_count() -> None:
    results = measured({})
    assert typical_run(results.base).number == results.base.runs[1].number
    assert (
        find(results, replace(results.base, runs=()), lambda number: run_result(), RENDERER) == []
    )


OVER: dict[
    str, tuple[float, float, float] | tuple[float, float, float, tuple[int, int, int, int]]
] = {
    "grain": (4.0, 3.8, 4.2),
    "stray_pixels": (500.0, 400.0, 600.0),
    "detail_kept": (80.0, 79.0, 81.0),
    "light_shift": (5.0, 4.8, 5.2),
}


def failing(
    settings: dict,
    figures: dict,
    limits: Limits | None = None,
    values: dict | None = None,
    **changes,
) -> Results:
    """The quiet base with these figures."""
    base = configured({**QUIET, **settings})
    sweeps = (Sweep("one at a time", values),) if values else ()
    limits = limits or only_limits(**NORMAL)
    study = Study(
        name="s",
        scene="honey-stall",
        base=base,
        limits=limits,
        sweeps=sweeps,
        renders_per_opening=50,
    )
    trials = {c: [run_result(**changes)] * 3 for c in study.planned()}
    good = {
        "grain": (1.0, 0.9, 1.1),
        "light_shift": (0.5, 0.4, 0.6),
        "stray_pixels": (1.0, 0.5, 2.0),
    }
    own = {**good, "detail_kept": (99.0, 98.9, 99.1), **figures}

    return collect(
        measured_study(
            study, trials, {c: own if c == base else {**own, **good} for c in trials}
        ).state
    )


def test_fewer_samples_are_advised_only_where_every_limit_on_grain_is_kept() -> None:
    """U8: "grain is over its limit: 73 samples" stood beside "with 8 samples the grain was 3.0 of
    4.0"."""
    curve = {"grain_by_samples": {8: 1.5, 16: 1.2, 32: 1.1, 64: 1.0}}
    limits = only_limits(**NORMAL, grain_worst=4.0)

    def advised(worst: float) -> list[dict]:
        figures = {"grain": (1.0, 0.9, 1.1), "grain_worst": (worst, 0.95 * worst, 1.05 * worst)}
        results = failing({"denoise.method": "none"}, figures, limits, **curve)
        return [dict(f.changes) for f in found(results, run_result(**curve)) if "With" in f.text]

    assert advised(2.0) == [{"samples.max": 8}]
    assert advised(2.9) == [{"samples.max": 16}], "the worst place would have 4.4 levels with 8"
    assert advised(4.5) == []


NORMAL = {"grain": 2.0, "light_shift": 1.0, "detail_kept": 95.0, "stray_pixels": 20.0}


@pytest.mark.parametrize(
    ("settings", "key", "expected", "words"),
    [
        ({}, "grain", "samples.max", "Grain is over its limit: 4 of 2"),
        (
            {},
            "stray_pixels",
            "light.clamp_indirect",
            "Stray pixels are over their limit: 500 of 20 per million. Indirect",
        ),
        (
            {"light.clamp_indirect": 4.0},
            "stray_pixels",
            "samples.max",
            "Stray pixels are over their limit: 500 of 20",
        ),
        (
            {},
            "detail_kept",
            "denoise.strength",
            "The denoiser keeps 80.0 % of the detail, 95 % are wanted",
        ),
        (
            {},
            "light_shift",
            "bounces.total",
            "Light shift is 5.0 levels of 1.0: the last bounce of 2 still brings",
        ),
        (
            {"light.clamp_indirect": 4.0},
            "light_shift",
            "light.clamp_indirect",
            "Light shift is 5.0 levels of 1.0: clamp",
        ),
        (
            {"light.caustics": "none"},
            "light_shift",
            "light.caustics",
            "Light shift is 5.0 levels of 1.0: caustics are none",
        ),
    ],
)
def test_a_limit_that_is_not_kept_has_advice_and_a_kept_one_none(
    settings: dict, key: str, expected: str, words: str
) -> None:
    changes = clamp_took(4.0) if (key, expected) == ("light_shift", "light.clamp_indirect") else {}
    bad = failing(settings, {key: OVER[key]}, **changes)
    good = failing(settings, {})
    told = [f for f in found(bad, run_result(**changes)) if f.mends == key]
    assert [list(f.changes) for f in told] == [[expected]]
    assert told[0].text.startswith(words), told[0].text
    assert CATALOGUE[expected].check(told[0].changes[expected]) != bad.study.base[expected]
    assert not [f for f in found(good, run_result()) if f.mends]
    near = failing(settings, {key: (NORMAL[key], 0.9 * NORMAL[key], min(99.9, 1.1 * NORMAL[key]))})
    assert not [f for f in found(near, run_result()) if f.mends], (
        "what is open is not said to be over"
    )


@pytest.mark.parametrize(
    ("settings", "changes", "expected", "words"),
    [
        (
            {"samples.min": 32},
            {"samples": Samples(mean=34, min=32, max=64, share_at_max=0.05, min_used=32)},
            {"samples.min": 8},
            "Pixels take 34 samples on average, hardly more than the minimum of 32",
        ),
        (
            {"denoise.method": "patches"},
            {"seconds": {"denoise": 6.0}},
            {"denoise.method": "wavelet"},
            "Denoising takes 6.00 s",
        ),
        (
            {"textures.prepared": True, "textures.memory": 16},
            {"texture_reads": 1000, "texture_misses": 50},
            {"textures.memory": 64},
            "5.0% of 1,000 texture reads went to the disk",
        ),
        (
            {},
            {"memory_bytes": {"textures": 200 << 20, "film": 1 << 20}, "size": (480, 270)},
            {"textures.max_size": 512},
            "Textures hold 200 MiB, 100% of all",
        ),
        (
            {"device.threads": 1},
            {"threads": 1},
            {"device.threads": THREADS},
            f"1 of {THREADS} threads render",
        ),
        (
            {},
            {"seconds_by_material": {"jar glass": 8.0, "wood": 1.0, "cloth": 0.5, "brass": 0.5}},
            {},
            "Places where jar glass is seen first take 78% of the time",
        ),
        (
            {},
            {
                "seconds_by_material": {"wood": 4.0, "jar glass": 2.0, "cloth": 2.0, "brass": 2.0},
                "picture_by_material": {
                    "wood": 0.5,
                    "jar glass": 0.05,
                    "cloth": 0.2,
                    "brass": 0.25,
                },
            },
            {},
            "jar glass takes 20% of the time for 5.0% of the picture",
        ),
        (
            {},
            {
                "texels_a_pixel": {"wood": 9.0, "label": 1.2},
                "textures": [
                    TextureHeld(
                        name="grain", width=512, height=512, bytes=3 << 20, materials=["wood"]
                    ),
                    TextureHeld(
                        name="print", width=512, height=512, bytes=1 << 20, materials=["label"]
                    ),
                ],
                "seconds": {"textures": 2.0},
            },
            {},
            (
                "The pictures of wood have 9 texels across a pixel even where it is nearest to the "
                "camera: quarter size"
            ),
        ),
        (
            {"geometry.subdivision": 2},
            {"triangles_a_pixel": {"jar": 0.2, "cloth": 16.0}, "seconds": {"build": 4.0}},
            {"geometry.subdivision": 1},
            (
                "cloth has 16 triangles on every pixel that shows it, as the scene is cut finer 2 "
                "times"
            ),
        ),
        (
            {},
            {"triangles_a_pixel": {"cloth": 16.0}, "seconds": {"build": 4.0}},
            {},
            "cloth has 16 triangles on every pixel that shows it, and building takes",
        ),
        ({"samples.noise_threshold": 0.0, "samples.min": 8}, {}, {}, "Set without effect: "),
    ],
)
def test_the_other_kinds_are_found_with_their_figures(
    settings: dict, changes: dict, expected: dict, words: str
) -> None:
    told = [
        f
        for f in found(failing(settings, {}, **changes), run_result(**changes))
        if f.text.startswith(words)
    ]
    assert [dict(f.changes) for f in told] == [expected]
    assert not [f for f in found(failing({}, {}), run_result()) if f.text.startswith(words[:20])]


def test_what_is_too_fine_is_tried_by_its_own_feature_where_the_study_has_it() -> None:
    features = [
        one
        for one in RENDERER.scene_settings("honey-stall-small")
        if one.key.endswith((".textures", ".divided"))
    ]
    base = configured({**QUIET, "geometry.subdivision": 1}).on(CATALOGUE.with_scene(features))
    held = [
        TextureHeld(name="grain", width=512, height=512, bytes=3 << 20, materials=["oiled wood"])
    ]

    record = run_result(
        texels_a_pixel={"oiled wood": 5.0},
        textures=held,
        triangles_a_pixel={"burlap runner": 5.0},
        seconds={"textures": 2.0, "build": 2.0},
    )
    case = Case(
        settings=base,
        record=record,
        phases=parts_of({"textures": 2.0, "build": 2.0, "sampling": 10.0}),
        figures={},
        limits={},
    )
    told = [
        finding.changes
        for kind in (FineTextures(), FineTriangles())
        if (finding := kind.look(case)) is not None
    ]
    assert told == [
        {"feature.oiled_wood.textures": "half size"},
        {"feature.burlap_runner.divided": "no"},
    ]


def test_a_clamp_that_takes_light_within_the_limit_is_told() -> None:
    def told(settings: dict, levels: float) -> list:
        taken = {"light_clamped": {"light.clamp_indirect": [0.01, 0.02, 0.03]}} | clamp_took(levels)
        return [
            f
            for f in found(failing(settings, {}, **taken), run_result(**taken))
            if "of all light" in f.text
        ]

    (finding,) = told({"light.clamp_indirect": 4.0}, 0.6)
    assert dict(finding.changes) == {"light.clamp_indirect": 0.0}
    assert "about 0.6 levels of light shift" in finding.text
    assert not told({"light.clamp_indirect": 4.0}, 0.2)
    assert not told({}, 0.6)


def clamp_took(levels: float) -> dict:
    return {"shift_by_setting": {"light.clamp_indirect": {4.0: levels}}}


def test_memory_over_its_limit_is_told_with_what_holds_it() -> None:
    held = {
        "memory_bytes": {"textures": 900 << 20, "film": 1 << 20},
        "peak_memory_bytes": 1000 << 20,
    }
    limits = only_limits(**NORMAL, memory=500.0)
    told = [
        f for f in found(failing({}, {}, limits, **held), run_result(**held)) if f.mends == "memory"
    ]
    assert [(f.text, dict(f.changes)) for f in told] == [
        ("A render holds 1000 MiB of 500; textures 900 MiB of it.", {"textures.max_size": 2048})
    ]
    assert not [
        f
        for f in found(
            failing({}, {}, only_limits(**NORMAL, memory=2000.0), **held), run_result(**held)
        )
        if f.mends
    ]


def test_findings_that_were_tested_are_right_or_wrong_and_counted() -> None:
    """A trial that keeps the limit is as expected; one that saves no time is not."""
    bad = failing({}, {"grain": OVER["grain"]})
    (grain,) = (f for f in found(bad, run_result()) if f.mends == "grain")
    assert held(bad, grain) is None
    assert judged_words(bad, grain) == ""
    tested = failing(
        {}, {"grain": OVER["grain"]}, values={"samples.max": (grain.changes["samples.max"],)}
    )
    assert held(tested, grain) is True
    assert judged_words(tested, grain) == "measured: as expected, it is acceptable"
    slow = failing(
        {"scene.keep_built": False},
        {},
        values={"scene.keep_built": (True,)},
        seconds={"build": 4.0},
    )
    (cold,) = (
        f
        for f in found(slow, run_result(seconds={"build": 4.0}))
        if "scene.keep_built" in f.changes
    )
    assert held(slow, cold) is False, "its trial takes as long here"
    assert score_words(slow, [cold]) == "0 of 1 findings that were tested came out as expected"
    assert score_words(slow, [grain]) == ""
