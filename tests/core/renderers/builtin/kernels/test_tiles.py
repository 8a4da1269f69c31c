from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.rendering.accelerator import (
    SHIPPED,
    Accelerator,
    AcceleratorError,
    read_accelerator,
    simulate,
)
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.renderers.builtin.rendering.orders import TILE_ORDERS, cut_tiles
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling
from swift_sample.core.scene.honey_stall import honey_stall

SCENE = honey_stall("small")
SIZE = (40, 24)
DEVICE = Accelerator(
    name="d",
    start_seconds=1,
    launch_seconds=0.1,
    speed=4,
    half_pixels=100,
    memory_mebibytes=10,
    bytes_per_tile_pixel=1024,
)


@pytest.fixture(scope="module")
def built():
    return build_scene(SCENE, Stopwatch())


def take(built, stopwatch: Stopwatch | None = None, on_start=None, **settings: object):
    configuration = configured(
        {
            "samples.max": 16,
            "bounces.total": 4,
            **{key.replace("__", "."): value for key, value in settings.items()},
        }
    )
    return render(
        built, configuration, SIZE, 1, View(), stopwatch or Stopwatch(), on_start=on_start
    )


def test_the_catalogue_offers_every_order() -> None:
    assert set(CATALOGUE["tiles.order"].values) == set(TILE_ORDERS)


@pytest.mark.parametrize("order", TILE_ORDERS)
@pytest.mark.parametrize("size", [7, 16, 64])
def test_every_order_covers_each_pixel_once(order: str, size: int) -> None:
    count = np.zeros((37, 50), int)
    for x0, y0, x1, y1 in cut_tiles(50, 37, size, order):
        count[y0:y1, x0:x1] += 1
    assert (count == 1).all()


def test_orders_are_what_they_are_called() -> None:
    def first(order: str) -> list[list[int]]:
        return cut_tiles(100, 100, 10, order)[:4, :2].tolist()

    assert first("rows") == [[0, 0], [10, 0], [20, 0], [30, 0]]
    assert first("columns") == [[0, 0], [0, 10], [0, 20], [0, 30]]
    assert sorted(first("middle")) == [[40, 40], [40, 50], [50, 40], [50, 50]]
    assert sorted(first("nearby")) == [[0, 0], [0, 10], [10, 0], [10, 10]]


@pytest.mark.parametrize("threshold", [0.0, 0.05])
def test_order_mode_and_size_never_change_a_pixel(built, threshold: float) -> None:
    given = {"samples__noise_threshold": threshold, "samples__max": 48}
    plain, _ = take(built, **given)

    for settings in (
        {"tiles__order": "middle", "tiles__size": 8},
        {"tiles__mode": "progressive"},
        {
            "tiles__mode": "progressive",
            "tiles__order": "scattered",
            "tiles__size": 64,
            "device__threads": 1,
        },
    ):
        other, _ = take(built, **given, **settings)
        assert np.array_equal(plain.beauty, other.beauty), settings
        assert np.array_equal(plain.layers["samples"], other.layers["samples"]), settings


@pytest.mark.parametrize("minimum", [4, 6, 10])
def test_a_threshold_judges_at_the_same_samples_in_passes(built, minimum: int) -> None:
    """U14: passes between two rounds moved where the noise was looked at, so that other pixels came
    out."""
    given = {"samples__noise_threshold": 0.1, "samples__min": minimum, "samples__max": 24}
    plain, record = take(built, **given)
    passes, _ = take(built, **given, tiles__mode="progressive")
    assert record.samples.min == minimum, "some pixels stop at once"
    assert np.array_equal(plain.beauty, passes.beauty)
    assert np.array_equal(plain.layers["samples"], passes.layers["samples"])


def test_progressive_shows_something_sooner(built, monkeypatch: pytest.MonkeyPatch) -> None:
    rounds: list[int] = []
    run_round = Sampling._run_round
    monkeypatch.setattr(
        Sampling,
        "_run_round",
        lambda self, target, *rest: (rounds.append(target), run_round(self, target, *rest)),
    )
    take(built, tiles__mode="tiles", samples__max=64)
    assert rounds == [64]
    rounds.clear()
    take(built, tiles__mode="progressive", samples__max=64)
    assert rounds[:4] == [1, 2, 4, 8], (
        "the whole picture after one sample, then twice as many each time"
    )
    assert rounds[-1] == 64


def test_stops_when_clean_and_says_what_that_saved(built) -> None:
    full, record = take(built, samples__max=128)
    assert (record.stopped, record.saved_seconds) == ("", 0.0)
    limit = 1.5 * record.grain_by_samples[32]
    settings = {"tiles__mode": "progressive", "samples__max": 128, "samples__stop_at_grain": limit}
    watch = Stopwatch()
    picture, stopped = take(built, watch, **settings)
    assert stopped.stopped == "clean"
    assert 8 <= stopped.samples.max < 128
    share = 128 / stopped.samples.max - 1
    assert stopped.saved_seconds == pytest.approx(watch.wall["sampling"] * share)
    a, b = (View().levels(half) for half in picture.halves)
    assert np.sqrt(((a - b) ** 2).mean()) / 2 <= limit
    assert set(stopped.grain_by_samples) == {
        n for n in record.grain_by_samples if n <= stopped.samples.max
    }
    never, record = take(built, **{**settings, "tiles__mode": "tiles"})
    assert record.samples.max == 128
    assert np.array_equal(never.beauty, full.beauty)


def test_stopping_by_hand_keeps_the_picture(built) -> None:
    def soon(sampling) -> None:
        assert sampling.rounds.finish()

    picture, record = take(built, on_start=soon, tiles__mode="progressive", samples__max=4096)
    assert record.stopped == "by hand"
    assert record.samples.max == record.samples.min < 4096
    assert picture.beauty.mean() > 0.05

    def never(sampling) -> None:
        assert not sampling.rounds.finish()

    assert take(built, on_start=never)[1].samples.max == 16


def test_one_tile_for_two_threads_leaves_one_waiting(built) -> None:
    # Of three tries, since whatever else runs on the machine makes threads wait as well.
    waits = []
    for _ in range(3):
        watches = [Stopwatch(), Stopwatch()]
        _, whole = take(built, watches[0], tiles__size=64, samples__max=64, device__threads=2)
        _, small = take(built, watches[1], tiles__size=8, samples__max=64, device__threads=2)
        waits.append(
            (
                whole.tail_seconds / watches[0].wall["sampling"],
                small.tail_seconds / watches[1].wall["sampling"],
            )
        )

    assert max(whole for whole, _ in waits) > 0.7, "all the time that the one tile takes"
    assert min(small for _, small in waits) < 0.3


def test_the_accelerators_time_is_the_models() -> None:
    # 300 pixels fill three quarters: four seconds of a thread become 4 / 3 and the launch.
    assert DEVICE.tile_seconds(300, 4.0) == pytest.approx(0.1 + 4 / 3)
    pixels = np.array([300, 300])
    seconds = np.array([4.0, 4.0])
    alone = simulate(DEVICE, [(pixels, seconds)], 0)
    assert alone.seconds == pytest.approx(1 + 2 * (0.1 + 4 / 3))
    assert alone.first_tile == pytest.approx(1 + 0.1 + 4 / 3)
    assert alone.processor_seconds == 0
    # The second round starts when the first has ended, the start-up is paid once.
    assert simulate(DEVICE, [(pixels, seconds)] * 2, 0).seconds == pytest.approx(
        1 + 4 * (0.1 + 4 / 3)
    )


def test_both_share_tiles_by_speed() -> None:
    pixels = np.full(100, 300)
    seconds = np.full(100, 1.0)
    both = simulate(DEVICE, [(pixels, seconds)], 2)
    alone = simulate(DEVICE, [(pixels, seconds)], 0)
    # Rates: two threads with 1 tile a second each, the accelerator with 1 / (0.1 + 1/3) after a
    # second.
    rate = 1 / (0.1 + 1 / 3)
    assert both.seconds == pytest.approx((100 + rate) / (2 + rate), rel=0.03)
    assert both.processor_seconds == pytest.approx(2 * both.seconds, abs=2)
    assert both.seconds < alone.seconds


def test_the_stand_in_draws_the_same_and_is_labelled(built) -> None:
    plain, record = take(built)
    assert not record.simulated
    seconds = {}

    for size in (8, 32):
        watch = Stopwatch()
        picture, record = take(built, watch, device__kind="accelerator", tiles__size=size)
        assert record.simulated
        assert np.array_equal(plain.beauty, picture.beauty)
        assert watch.processor["sampling"] == 0
        seconds[size] = watch.wall["sampling"]

    shipped = read_accelerator(SHIPPED)
    assert seconds[8] > shipped.start_seconds + 15 * shipped.launch_seconds
    assert seconds[8] > seconds[32]
    assert (
        configured({"device.kind": "accelerator"}).describe(configured())
        == "device accelerator (simulated)"
    )


def test_what_does_not_fit_is_refused_in_one_sentence() -> None:
    assert DEVICE.check_memory(2**20, 1024) == 2 * 2**20
    with pytest.raises(AcceleratorError, match="needs 101 MiB of its 10 MiB; use smaller tiles"):
        DEVICE.check_memory(2**20, 100 * 1024)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ("speed = 10.0", "speed = -1"),
        ("speed = 10.0", 'speed = "fast"'),
        ("speed = 10.0", "speed = nan"),
        ("speed = 10.0", ""),
        ("speed = 10.0", "speed = 10.0\ncolour = 3"),
        ("speed = 10.0", "speed = = 1"),
    ],
)
def test_nonsense_in_a_description_is_named(tmp_path: Path, change: str, words: str) -> None:
    path = tmp_path / "accelerator.toml"
    path.write_text(SHIPPED.read_text("utf-8").replace(change, words))
    with pytest.raises(AcceleratorError, match=r"accelerator\.toml") as caught:
        read_accelerator(path)

    assert "\n" not in str(caught.value)
