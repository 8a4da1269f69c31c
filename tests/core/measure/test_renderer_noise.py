"""Measures on the renderer's own noise: heavy tails, highlights and blacks, in linear light, with
few samples.

Two scenes of different character, RUNS seeds each, raw and denoised. Seeds are fixed, so nothing
here is left to chance; how far figures may stray is said with every test. `python -m benchmarks
measures` has three scenes and more seeds.
"""

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from swift_sample.core.measure.compare import WHOLE, Area, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.measure.figures import LightShift
from swift_sample.core.measure.kinds import Figure
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.study.answers.acceptance import Acceptance, surely_over
from swift_sample.core.study.plan.model import Limits

SIZE = (64, 36)
SAMPLES = 24
RUNS = 12
VIEW = View(0.0, "soft")
SCENES = ("honey-stall-small", "honey-jar")
Pictures = tuple[np.ndarray, ...]
Change = Callable[[np.ndarray], np.ndarray]


@cache
def rendered(scene: str, samples: int, bounces: int, seeds: range) -> tuple[Picture, ...]:
    engine = RENDERER.engine()
    settings = {"samples.max": samples, "bounces.total": bounces}

    def one(seed: int) -> Picture:
        spec = RenderSpec(scene=scene, size=SIZE, settings=settings, seed=seed)
        return engine.render(spec, None, lambda share: None, lambda stop: None)[0]

    return tuple(map(one, seeds))


def reference(scene: str = SCENES[0]) -> Picture:
    return rendered(scene, 600, 12, range(1, 2))[0]


@cache
def runs(scene: str = SCENES[0], bounces: int = 12, denoised: bool = False) -> Pictures:
    pictures = rendered(scene, SAMPLES, bounces, range(100, 100 + RUNS))
    if not denoised:
        return tuple(picture.beauty for picture in pictures)

    settings = configured({"denoise.method": "wavelet", "samples.max": SAMPLES})
    return tuple(RENDERER.engine().denoise(picture, settings).beauty for picture in pictures)


def found(
    pictures: Pictures, scene: str = SCENES[0], areas: tuple[Area, ...] = ()
) -> dict[str, dict[str, Figure | None]]:
    clean = reference(scene)
    return measure(Comparison(list(pictures), clean.beauty, VIEW, None, clean.halves), areas)


def changed(pictures: Pictures, change: Change) -> Pictures:
    return tuple(np.asarray(change(picture), np.float32) for picture in pictures)


def smeared(light: np.ndarray) -> np.ndarray:
    return gaussian_filter(light, (0.6, 0.6, 0))


def lost_in_one_place(light: np.ndarray) -> np.ndarray:
    """Four fifths of the light, in the middle of a region of a third of the picture's height."""
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
    near = np.exp(-(((y - 20) / 7) ** 2) - ((x - 26) / 7) ** 2)
    return light * (1 - 0.8 * near[..., None])


@pytest.mark.parametrize("bounces", [12, 2])
def test_light_shift_does_not_lean_on_the_number_of_runs(bounces: int) -> None:
    """Smoothed behind the view, pairs of runs read more than all twelve. Mean squares are compared:
    the root of what may be nothing cannot be without bias."""
    pictures = runs(bounces=bounces)
    clean = reference()

    def square_of(some: Pictures) -> float:
        pair = Comparison(list(some), clean.beauty, VIEW, None, clean.halves)
        return float(LightShift().look(pair).maps["shift"].mean())

    of_all = square_of(pictures)
    of_pairs = np.mean([square_of(pictures[k : k + 2]) for k in range(0, RUNS, 2)])

    if bounces == 12:
        assert abs(of_all) < 0.3
        assert abs(of_pairs) < 0.3
    else:
        assert of_all > 16
        assert of_pairs == pytest.approx(of_all, rel=0.04)


@pytest.mark.parametrize("denoised", [False, True], ids=["raw", "denoised"])
@pytest.mark.parametrize("scene", SCENES)
def test_no_figure_leans_on_the_number_of_runs(scene: str, denoised: bool) -> None:
    """Means over pairs and over threes, beside all twelve: within 5 % or 0.05 levels."""
    pictures = runs(scene, denoised=denoised)
    truth = found(pictures, scene)[WHOLE]

    for count in (2, 3):
        few = [found(pictures[k : k + count], scene)[WHOLE] for k in range(0, RUNS, count)]
        for key in ("grain", "detail_kept", "stray_pixels", "rms"):
            mean = np.mean([one[key].value for one in few])
            assert mean == pytest.approx(truth[key].value, rel=0.05, abs=0.05), (
                f"{key} of {count} runs"
            )


def test_smear_is_seen_through_lost_light_and_lost_light_is_no_smear() -> None:
    """The first formula read 77 % for a smeared jar with all its light, and 111 % where the jar was
    dark."""
    plain = runs()

    def kept(pictures: Pictures) -> float:
        return found(pictures)[WHOLE]["detail_kept"].value

    assert kept(changed(plain, lost_in_one_place)) == pytest.approx(kept(plain), abs=1.0)
    soft = kept(changed(plain, smeared))
    assert soft < 85
    assert kept(changed(plain, lambda light: lost_in_one_place(smeared(light)))) == pytest.approx(
        soft, abs=1.0
    )


def test_intervals_come_from_noise_and_not_from_the_scene() -> None:
    """The first intervals resampled blocks of the picture, so that a quiet sky beside a lively jar
    made them three times as wide as what other seeds do. Over six pairs of runs in four places of
    576 pixels, of 24 intervals 19 at least hold the figure of all runs (by chance fewer do three
    times in a thousand), and they are no wider than 1.8 times what is seen."""
    areas = tuple(Area(f"{x} {y}", x, y, 32, 18) for x in (0, 32) for y in (0, 18))
    for denoised in (False, True):
        pictures = runs(denoised=denoised)
        truth = found(pictures, areas=areas)
        few = [found(pictures[k : k + 2], areas=areas) for k in range(0, RUNS, 2)]

        for key in ("grain", "rms"):
            held = []
            ratio = []

            for area in areas:
                figures = [one[area.name][key] for one in few]
                held += [f.low <= truth[area.name][key].value <= f.high for f in figures]
                seen = 2 * 1.96 * np.std([f.value for f in figures], ddof=1)
                ratio.append(np.mean([f.high - f.low for f in figures]) / seen)

            assert sum(held) >= 19, key
            assert np.median(ratio) < 1.8, key


def test_a_grainy_object_in_a_clean_picture_is_found() -> None:
    """Where the picture is clean but for one place, the figure of the whole vouches for it, and
    that of the worst place does not; which place it is, is told."""
    rng = np.random.default_rng(2)
    clean = np.full((180, 320, 3), 0.2, np.float32)
    noise = np.full((180, 320, 1), 0.001, np.float32)
    noise[60:90, 200:230] = 0.05
    pictures = [
        (clean + noise * rng.standard_normal(clean.shape)).astype(np.float32) for _ in range(2)
    ]
    whole = measure(Comparison(pictures, clean, VIEW), only=("grain",))[WHOLE]
    worst = whole["grain_worst"]
    assert whole["grain"].value < 1.6
    assert worst.value > 5 * whole["grain"].value
    x, y, width, height = worst.place
    assert 190 <= x <= x + width <= 240
    assert 50 <= y <= y + height <= 100


def test_the_worst_of_many_equal_places_is_not_worse_than_they_are() -> None:
    """The largest of 500 noisy figures is far above what all of them truly have."""
    rng = np.random.default_rng(3)
    clean = np.full((180, 320, 3), 0.2, np.float32)
    pictures = [
        (clean + 0.01 * rng.standard_normal(clean.shape)).astype(np.float32) for _ in range(2)
    ]
    found = measure(Comparison(pictures, clean, VIEW), only=("grain", "light_shift"))[WHOLE]
    assert found["grain_worst"].value == pytest.approx(found["grain"].value, rel=0.06)
    assert found["grain_worst"].low <= found["grain"].value
    assert found["light_shift_worst"].value < 0.15


@pytest.mark.parametrize("scene", SCENES)
def test_what_one_run_rejects_is_beyond_doubt(scene: str) -> None:
    """A limit at exactly what all runs say is kept by half of all trials that are like this one;
    one run alone must reject none of them. Of 24 runs and five figures each none does."""
    pictures = rendered(scene, SAMPLES, 12, range(100, 100 + RUNS))
    clean = reference(scene)
    truth = found(runs(scene), scene)[WHOLE]
    keys = ("grain", "grain_worst", "detail_kept", "stray_pixels", "rms")
    limits = {
        key: truth[key].value if key != "detail_kept" else min(truth[key].value, 99.0)
        for key in keys
    }

    for picture in pictures:
        pair = Comparison([picture.beauty], clean.beauty, VIEW, picture.halves, clean.halves)
        shares = Acceptance(limits, Limits()).shares(measure(pair)[WHOLE])
        assert set(shares) == set(keys)
        assert surely_over(shares, 1) < 1, {key: share.low for key, share in shares.items()}


def estimated(picture: np.ndarray, scene: str, own: bool = True) -> float:
    """Grain of one picture of a renderer that takes no seed; the reference's `own` is known, or is
    none."""
    clean = reference(scene)
    pair = Comparison(
        [picture],
        clean.beauty,
        VIEW,
        None,
        clean.halves if own else None,
        seeds=False,
        estimates=True,
    )
    figure = measure(pair)[WHOLE]["grain"]
    assert figure is not None

    return figure.value


@pytest.mark.parametrize("bounces", [12, 2])
@pytest.mark.parametrize("scene", SCENES)
def test_grain_of_one_picture_is_estimated_within_a_tenth(scene: str, bounces: int) -> None:
    """Beside what differs between twelve seeds. With two bounces half of the light is missing, with
    edges as fine as a pixel in so small a picture: then it reads up to two fifths too much."""
    pictures = runs(scene, bounces)
    truth = found(pictures, scene)[WHOLE]["grain"].value
    for picture in pictures[:4]:
        assert 0.9 * truth < estimated(picture, scene) < (1.1 if bounces == 12 else 1.4) * truth


def test_an_estimate_sees_injected_grain_and_no_smooth_change_of_light() -> None:
    clean = reference()
    rng = np.random.default_rng(7)
    levels = VIEW.levels(clean.beauty)
    noisy = VIEW.light(
        np.clip(levels + rng.normal(0, 3.0, levels.shape), 0, 255).astype(np.float32)
    )
    with_noise = VIEW.levels(noisy) - levels
    truth = float(np.sqrt((with_noise**2).mean()))
    assert estimated(noisy, SCENES[0], own=False) == pytest.approx(truth, rel=0.05)
    dimmed = (lost_in_one_place(noisy) * 0.9).astype(np.float32)
    assert estimated(dimmed, SCENES[0], own=False) == pytest.approx(truth, rel=0.35), (
        "what is dark has less of it"
    )
