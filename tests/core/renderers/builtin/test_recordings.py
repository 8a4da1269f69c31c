"""What is derived from a recording is what a render with its seed gives, bit for bit."""

from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from swift_sample.core.errors import (
    RenderStoppedError,
    UnfitPictureError,
    UnrecordedError,
    UsageError,
)
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.film.recording import MOST_ENDS
from swift_sample.core.renderers.builtin.recordings import recording_plan
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.records import RecordSpec, RenderSpec
from swift_sample.core.settings import Derivation

SCENES = ("honey-stall-small", "honey-jar", "honey-room", "honey-stall")
SIZE = (48, 27)
VIEW = View(curve="soft")
BASE = {"samples.max": 24, "bounces.total": 8, "scene.keep_built": True, "device.threads": 2}
OPENED = {**BASE, "samples.max": 48, "bounces.total": 16}

PATHS = {
    "bounces.total": [0, 1, 2, 4, 8],
    "light.indirect": [True, False],
    "bounces.glossy": [1, 64],
}
NUMBERS = {
    "samples.max": [1, 6, 16, 24, 48],
    "samples.noise_threshold": [0.0, 0.05],
    "samples.min": [0, 8],
}
CLAMPS = {"light.clamp_indirect": [0.0, 1.0], "light.clamp_direct": [0.0, 0.5]}
FILM = {
    "denoise.method": ["none", "wavelet", "patches", "regression"],
    "denoise.strength": [0.6, 1.0],
    "denoise.guides": [True, False],
    "output.format": ["exr-zip", "exr-dwaa", "png-8"],
}
SAME_PIXELS = {"tiles.size": [16, 64], "tiles.mode": ["tiles", "progressive"]}


def spec(scene: str, values: dict) -> RenderSpec:
    chosen = {**BASE, **values}
    return RenderSpec(scene=scene, size=SIZE, settings=chosen, seed=11, curve=VIEW.curve)


def recorded(engine, scene: str, values: dict, path: Path):
    """The recording's own picture."""
    wanted = RecordSpec(spec=spec(scene, OPENED), base=BASE, values=values)
    return engine.record(wanted, path, lambda share: None, lambda stop: None)


def derived(engine, recording: Path, configuration, view):
    with closing(engine.open_recording(recording)) as opened:
        return opened.derive(configuration, view).picture


def rendered(engine, scene: str, values: dict, folder: Path):
    path = folder / "rendered.exr"
    picture, _ = engine.render(spec(scene, values), path, lambda share: None, lambda stop: None, ())
    return picture


def assert_derived(engine, scene: str, values: dict, recording: Path, folder: Path) -> None:
    found = derived(engine, recording, configured({**BASE, **values}), VIEW)
    picture = rendered(engine, scene, {**values, "output.format": "exr-zip"}, folder)
    if "output.format" in values:
        from swift_sample.core.renderers.builtin.recordings import as_delivered

        picture = as_delivered(picture, configured({**BASE, **values}), VIEW)

    assert np.array_equal(found.beauty, picture.beauty), values
    for name in ("half_a", "half_b", "albedo", "normal", "depth", "samples", "error"):
        if name in picture.layers and name in found.layers:
            assert np.array_equal(found.layers[name], picture.layers[name]), (values, name)


@pytest.fixture(scope="module")
def engine():
    return RENDERER.engine()


@pytest.fixture(scope="module", params=SCENES)
def scene(request):
    return request.param


@pytest.fixture(scope="module")
def recording(engine, scene, tmp_path_factory) -> Path:
    path = tmp_path_factory.mktemp("recording") / "recording.zip"
    own = recorded(engine, scene, {**PATHS, **NUMBERS, **CLAMPS}, path)
    plain = rendered(engine, scene, OPENED, path.parent)
    assert np.array_equal(own.beauty, plain.beauty)
    assert np.array_equal(own.halves, plain.halves)

    return path


@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(data=st.data())
def test_any_combination_of_the_recorded_values_is_derived_as_it_is_rendered(
    engine, scene, recording, tmp_path, data
) -> None:
    combined = {**PATHS, **NUMBERS, **CLAMPS, **FILM, **SAME_PIXELS}
    values = {key: data.draw(st.sampled_from(each), key) for key, each in combined.items()}
    assert_derived(engine, scene, values, recording, tmp_path)


SMALL = "honey-stall-small"


@pytest.mark.parametrize("key", [k for k, s in CATALOGUE.items() if s.derived is not None])
def test_each_setting_that_can_be_derived_is_with_all_its_suggested_values(
    engine, tmp_path, key
) -> None:
    declared = CATALOGUE[key]
    values = [v for v in declared.suggested if v not in declared.rendered_at]
    if declared.derived is Derivation.SAMPLES:
        values = [4, 16, 48]

    path = tmp_path / "recording.zip"
    needed = {
        "samples.stop_at_grain": {"tiles.mode": "progressive", "samples.max": 48},
        "samples.min": {"samples.noise_threshold": 0.05, "samples.max": 48},
        "denoise.strength": {"denoise.method": "wavelet"},
        "denoise.guides": {"denoise.method": "wavelet"},
        "denoise.per_pass": {"denoise.method": "wavelet"},
    }.get(key, {})
    made_for = {k: [v] for k, v in needed.items()} | {key: values}
    recorded(engine, SMALL, made_for, path)

    for value in values:
        assert_derived(engine, SMALL, {**needed, key: value}, path, tmp_path)


@pytest.mark.parametrize(
    ("key", "value"),
    [
        (key, value)
        for key, declared in CATALOGUE.items()
        if declared.changes_pixels
        for value in declared.suggested
        if value != declared.default
        and (declared.derived is None or value in declared.rendered_at)
        and key not in ("volume.step", "camera.shutter")
    ],
)
def test_what_cannot_be_derived_says_so(key, value) -> None:
    needed = {"denoise.method": "wavelet"} if key == "denoise.per_pass" else {}
    wanted = configured({**BASE, **needed, key: value})
    label = CATALOGUE[key].full_label.lower()
    assert RENDERER.why_not_derived(configured(OPENED), wanted) == f"{label} has to be rendered"


def test_blue_noise_is_derived_as_far_as_its_order_is_the_same(engine, tmp_path) -> None:
    path = tmp_path / "recording.zip"
    blue = {"samples.pattern": "blue noise"}
    opened = spec(SMALL, {**OPENED, **blue})
    values = {"samples.max": [16, 40, 48]}
    wanted = RecordSpec(spec=opened, base={**BASE, **blue}, values=values)
    engine.record(wanted, path, lambda share: None, lambda stop: None)

    assert_derived(engine, SMALL, {**blue, "samples.max": 40}, path, tmp_path)
    with pytest.raises(UsageError, match="another order"):
        derived(engine, path, configured({**BASE, **blue, "samples.max": 16}), VIEW)


def test_what_a_recording_was_not_made_for_is_refused(engine, tmp_path) -> None:
    path = tmp_path / "recording.zip"
    recorded(engine, SMALL, {"bounces.total": [2, 4]}, path)

    with pytest.raises(UsageError, match="made for other values"):
        derived(engine, path, configured({**BASE, "bounces.total": 3}), VIEW)
    with pytest.raises(UsageError, match="it has 49 samples, the recording 48"):
        derived(engine, path, configured({**BASE, "samples.max": 49}), VIEW)


def test_where_ends_are_too_many_their_values_stand_alone() -> None:
    values = {
        "bounces.total": list(range(1, 13)),
        "bounces.diffuse": [1, 2, 3, 4],
        "bounces.transmission": [2, 4],
    }
    plan = recording_plan(RecordSpec(spec=spec(SMALL, OPENED), base=BASE, values=values))
    assert len(plan.ends) <= MOST_ENDS
    assert plan.holds(configured({**BASE, "bounces.total": 3}))
    assert plan.holds(configured({**BASE, "bounces.diffuse": 2}))
    assert not plan.holds(configured({**BASE, "bounces.total": 3, "bounces.diffuse": 2}))


def test_a_recording_that_is_not_what_was_written_is_unfit(engine, tmp_path) -> None:
    path = tmp_path / "recording.zip"
    recorded(engine, SMALL, {}, path)
    whole = path.read_bytes()
    asked = configured(BASE)

    path.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(UnfitPictureError, match="is damaged"):
        derived(engine, path, asked, VIEW)

    inside = whole.index(b"24/1/sums.npy") + 1000
    path.write_bytes(whole[:inside] + bytes(64) + whole[inside + 64 :])
    with pytest.raises(UnfitPictureError, match="is damaged"):
        derived(engine, path, asked, VIEW)

    path.write_bytes(whole.replace(b'"format": 1', b'"format": 9'))
    with pytest.raises(UnfitPictureError):
        derived(engine, path, asked, VIEW)

    path.unlink()
    with pytest.raises(UnfitPictureError, match="is missing"):
        derived(engine, path, asked, VIEW)


def test_a_recording_that_is_stopped_leaves_no_file(engine, tmp_path) -> None:
    path = tmp_path / "recording.zip"
    wanted = RecordSpec(spec=spec(SMALL, OPENED), base=BASE)
    with pytest.raises(RenderStoppedError):
        engine.record(wanted, path, lambda share: None, lambda stop: stop())

    assert not list(tmp_path.iterdir())


def test_a_recording_beyond_the_budget_is_refused_before(engine, tmp_path, monkeypatch) -> None:
    monkeypatch.setattr("swift_sample.core.renderers.builtin.recordings.RECORDING_BYTES", 1000)
    with pytest.raises(UnrecordedError, match="try fewer values or a smaller picture"):
        recorded(engine, SMALL, {}, tmp_path / "recording.zip")

    assert not list(tmp_path.iterdir())


def test_a_recording_for_which_there_is_no_room_is_refused_before(
    engine, tmp_path, monkeypatch
) -> None:
    monkeypatch.setattr(
        "swift_sample.core.renderers.builtin.recordings.has_room", lambda path, wanted: False
    )
    with pytest.raises(UnrecordedError, match="GB, and the disk has less"):
        recorded(engine, SMALL, {}, tmp_path / "recording.zip")
