import os
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import imagecodecs
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from swift_sample.core import budget
from swift_sample.core.errors import PictureError, SettingError, StudyError
from swift_sample.core.picture.colour import srgb_encoded
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.reading import check_comparable, read_picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.settings.presets import read_preset, write_preset
from tests.fuzzing import examples


def some_picture() -> Picture:
    rng = np.random.default_rng(1)
    colour = rng.random((7, 9, 3)).astype(np.float32)

    return Picture(
        colour,
        {
            "half_a": colour * 2,
            "half_b": colour * 0,
            "depth": colour[..., 0],
            "albedo": colour.astype(np.float16).astype(np.float32),
        },
        {"light.0": colour[:2, :3], "grain.4": colour[:2, :3, 0]},
        {RECORD_ATTRIBUTE: '{"a": 1}'},
    )


def test_exr_brings_everything_back(tmp_path: Path) -> None:
    path = tmp_path / "a.exr"
    picture = some_picture()
    assert write_exr(path, picture) == path.stat().st_size
    found = read_exr(path)
    assert np.array_equal(found.beauty, picture.beauty)
    assert found.layers.keys() == picture.layers.keys()
    for name, values in picture.layers.items():
        assert np.array_equal(found.layers[name], values), name

    assert found.reduced.keys() == picture.reduced.keys()
    for name, values in picture.reduced.items():
        assert np.array_equal(found.reduced[name], values), name

    assert found.notes == picture.notes
    assert [p.name for p in tmp_path.iterdir()] == ["a.exr"]


def test_exr_that_cannot_be_written_leaves_the_old_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "a.exr"
    write_exr(path, some_picture())
    before = path.read_bytes()

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", full)
    with pytest.raises(PictureError, match="the disk is full; make room on it"):
        write_exr(path, some_picture())

    assert path.read_bytes() == before
    assert len(list(tmp_path.iterdir())) == 1


@examples(60)
@given(cut=st.floats(0, 1), place=st.floats(0, 1), value=st.integers(0, 255))
def test_damaged_exr_is_refused_or_read(
    tmp_path: Path, cut: float, place: float, value: int
) -> None:
    path = tmp_path / "a.exr"
    write_exr(path, some_picture())
    data = bytearray(path.read_bytes())
    data[int(place * (len(data) - 1))] = value
    path.write_bytes(data[: max(1, int(cut * len(data)))])

    try:
        read_exr(path)
    except PictureError as error:
        assert str(path) in str(error)
        assert "\n" not in str(error)


def test_png_becomes_linear_light(tmp_path: Path) -> None:
    Image.fromarray(np.full((2, 3, 3), 188, np.uint8)).save(tmp_path / "a.png")
    assert read_picture(tmp_path / "a.png").beauty == pytest.approx(0.5029, abs=1e-3)
    (tmp_path / "b.png").write_bytes(b"no picture")
    with pytest.raises(PictureError, match=r"b\.png: not a readable picture"):
        read_picture(tmp_path / "b.png")


@pytest.mark.parametrize(
    ("suffix", "encode"), [(".png", imagecodecs.png_encode), (".tif", imagecodecs.tiff_encode)]
)
def test_sixteen_bits_are_read_as_sixteen(
    suffix: str, encode: Callable[[np.ndarray], bytes], tmp_path: Path
) -> None:
    codes = np.linspace(0, 65535, 3 * 63, dtype=np.uint16).reshape(7, 9, 3)
    wide = tmp_path / f"wide{suffix}"
    grey = tmp_path / f"grey{suffix}"
    wide.write_bytes(encode(codes))
    grey.write_bytes(encode(np.ascontiguousarray(codes[..., 1])))
    levels = srgb_encoded(read_picture(wide).beauty) * 65535
    assert np.abs(levels - codes).max() < 1
    assert np.abs(srgb_encoded(read_picture(grey).beauty) * 65535 - codes[..., 1:2]).max() < 1


def test_a_cut_off_picture_of_sixteen_bits_is_refused(tmp_path: Path) -> None:
    data = imagecodecs.png_encode(
        np.random.default_rng(1).integers(0, 65535, (7, 9, 3), dtype=np.uint16)
    )
    (tmp_path / "a.png").write_bytes(data[:-180])
    with pytest.raises(PictureError, match=r"a\.png: not a readable picture"):
        read_picture(tmp_path / "a.png")


def test_pictures_that_do_not_fit_are_refused() -> None:
    one = some_picture()
    other = Picture(np.zeros((7, 8, 3), np.float32))
    with pytest.raises(PictureError, match=r"a is 9x7, b is 8x7; render both at one size"):
        check_comparable(one, Path("a"), other, Path("b"))

    broken = Picture(one.beauty.copy())
    broken.beauty[0, 0, 0] = np.nan
    with pytest.raises(PictureError, match="b: 1 values are not finite"):
        check_comparable(one, Path("a"), broken, Path("b"))


def test_presets_carry_over(tmp_path: Path) -> None:
    configuration = configured(
        {"samples.max": 77, "denoise.method": "wavelet", "scene.keep_built": True}
    )
    write_preset(tmp_path / "p.toml", configuration)
    assert read_preset(tmp_path / "p.toml", CATALOGUE) == configuration
    (tmp_path / "p.toml").write_text('[settings]\n"samples.max" = -1\n')
    with pytest.raises(SettingError, match=r"p\.toml: samples\.max=-1: expected"):
        read_preset(tmp_path / "p.toml", CATALOGUE)

    (tmp_path / "p.toml").write_text("nonsense")
    with pytest.raises(StudyError, match="not a readable preset"):
        read_preset(tmp_path / "p.toml", CATALOGUE)


@pytest.mark.parametrize(
    "data",
    [
        b"%!PS-\x41dobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 8 8\n%%EndComments\nshowpage\n%%EOF\n",
        b"GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;",
    ],
    ids=["PostScript", "GIF"],
)
def test_a_picture_of_another_format_is_refused_and_starts_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, data: bytes
) -> None:
    program = tmp_path / "gs"
    program.write_text(f"#!/bin/sh\ntouch {tmp_path}/started\n")
    program.chmod(0o755)
    monkeypatch.setenv("PATH", str(tmp_path), prepend=os.pathsep)
    (tmp_path / "x.png").write_bytes(data)
    with pytest.raises(PictureError, match="not a readable picture"):
        read_picture(tmp_path / "x.png")

    assert not (tmp_path / "started").exists()


def test_what_headers_ask_for_is_checked_in_all_parts_and_channels(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "a.exr"
    picture = some_picture()
    write_exr(path, picture)
    values = 9 * 7 * (3 * 4 + 1) + 3 * 2 * 4
    monkeypatch.setattr(budget, "PICTURE_VALUES", values)
    assert read_exr(path).layers.keys() == picture.layers.keys()
    monkeypatch.setattr(budget, "PICTURE_VALUES", values - 1)
    with pytest.raises(
        PictureError, match=f"has {values:,} values in all its channels, at most {values - 1:,} fit"
    ):
        read_exr(path)

    monkeypatch.undo()
    with monkeypatch.context() as little:
        little.setattr(
            budget.psutil, "virtual_memory", lambda: SimpleNamespace(available=8 * values - 1)
        )
        with pytest.raises(
            PictureError, match=r"GB of memory, and 0\.0 GB are free; save it smaller"
        ):
            read_exr(path)

    write_exr(path, Picture(picture.beauty[:2, :2], {}, {"light.0": picture.beauty}))
    monkeypatch.setattr(budget, "PICTURE_PIXELS", 9 * 7 - 1)
    with pytest.raises(PictureError, match="has 63 pixels, at most 62 fit"):
        read_exr(path)


@pytest.mark.parametrize("share", [0.002, 0.5, 0.9999])
def test_a_truncated_picture_says_so(tmp_path: Path, share: float) -> None:
    path = tmp_path / "a.exr"
    write_exr(path, Picture(np.random.default_rng(1).random((50, 50, 3), np.float32)))
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * share)])
    with pytest.raises(
        PictureError, match=r"a\.exr: truncated or damaged; render or copy it again"
    ):
        read_exr(path)

    path.write_bytes(b"not an EXR file")
    with pytest.raises(PictureError, match="not a readable EXR picture"):
        read_exr(path)


def test_what_is_printed_of_a_damaged_picture_goes_to_the_log(
    tmp_path: Path, capfd: pytest.CaptureFixture[str], caplog: pytest.LogCaptureFixture
) -> None:
    caplog.set_level("INFO", "swift_sample")
    path = tmp_path / "a.exr"
    write_exr(path, Picture(np.random.default_rng(1).random((200, 200, 3), np.float32)))
    data = bytearray(path.read_bytes())
    data[len(data) // 2 : len(data) // 2 + 4000] = b"\xff" * 4000
    path.write_bytes(data)
    with pytest.raises(PictureError, match="truncated or damaged"):
        read_exr(path)

    assert capfd.readouterr() == ("", "")
    assert "OpenEXR: " in caplog.text
