from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.formats import OUTPUT_FORMATS, read_display, write_display
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.records import RenderSpec

VIEWS = [View(), View(1.5, "soft"), View(-2.0)]
DISPLAY = [name for name, form in OUTPUT_FORMATS.items() if form.is_display]


def smooth(width: int = 48, height: int = 32) -> np.ndarray:
    x, y = np.meshgrid(np.linspace(0, 1, width), np.linspace(0, 1, height))
    return np.stack([x, y, 0.5 * (x + y)], -1).astype(np.float32)


def test_the_catalogue_offers_every_format() -> None:
    assert set(CATALOGUE["output.format"].values) == set(OUTPUT_FORMATS)


@pytest.mark.parametrize("view", VIEWS)
def test_light_undoes_levels(view: View) -> None:
    levels = np.linspace(0, 254.9, 500, dtype=np.float32)
    assert view.levels(view.light(levels)) == pytest.approx(levels, abs=0.02)


@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.parametrize(("name", "error"), [("png-8", 0.51), ("png-16", 0.02), ("jpeg", 4.0)])
def test_display_formats_keep_what_the_view_shows(
    tmp_path: Path, name: str, error: float, view: View
) -> None:
    path = tmp_path / f"a{OUTPUT_FORMATS[name].suffix}"
    form = OUTPUT_FORMATS[name]
    assert write_display(path, form, smooth(), view) == path.stat().st_size
    found = read_display(path, form, view)
    difference = np.abs(view.levels(found) - view.levels(smooth()))
    assert (difference.mean() if name == "jpeg" else difference.max()) <= error
    assert [p.name for p in tmp_path.iterdir()] == [path.name]


def test_sixteen_bits_are_finer_and_jpeg_is_smaller(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    noisy = np.clip(smooth(256, 256) + rng.normal(0, 0.05, (256, 256, 3)), 0, 1).astype(np.float32)
    size = {
        name: write_display(tmp_path / f"{name}.x", OUTPUT_FORMATS[name], noisy, View())
        for name in DISPLAY
    }
    assert size["jpeg"] < size["png-8"] < size["png-16"]


@pytest.mark.parametrize("name", [name for name in OUTPUT_FORMATS if name not in DISPLAY])
def test_exr_compressions_keep_the_light(tmp_path: Path, name: str) -> None:
    path = tmp_path / "a.exr"
    write_exr(path, Picture(smooth()), compression=OUTPUT_FORMATS[name].compression)
    found = read_exr(path).beauty

    if name == "exr-dwaa":
        assert 0 < np.abs(found - smooth()).max() < 0.02
    else:
        assert np.array_equal(found, smooth())


def test_a_folder_that_is_missing_is_one_sentence(tmp_path: Path) -> None:
    with pytest.raises(PictureError, match="cannot be written"):
        write_display(tmp_path / "no" / "a.png", OUTPUT_FORMATS["png-8"], smooth(), View())


@pytest.mark.parametrize("name", ["png-8", "jpeg", "exr-dwaa"])
def test_what_is_measured_is_what_was_delivered(tmp_path: Path, name: str) -> None:
    """The beauty of the EXR holds the losses of the delivered file, and bytes and time are those of
    that file."""
    spec = RenderSpec(
        scene="honey-stall-small",
        size=(32, 20),
        seed=1,
        curve="soft",
        settings={"samples.max": 4, "bounces.total": 2, "output.format": name},
    )
    picture, result = run_render(spec, SceneCache(), tmp_path / "a.exr")
    kept = read_exr(tmp_path / "a.exr")
    form = OUTPUT_FORMATS[name]
    assert result.seconds["write"] > 0
    assert not np.array_equal(kept.beauty, picture.beauty)

    if form.is_display:
        delivered = tmp_path / f"a{form.suffix}"
        assert result.picture_bytes == delivered.stat().st_size
        assert np.array_equal(kept.beauty, read_display(delivered, form, spec.view))
        assert np.array_equal(kept.layers["raw"], picture.beauty)
    else:
        assert result.picture_bytes == (tmp_path / "a.exr").stat().st_size
