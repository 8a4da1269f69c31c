"""Every value that the catalogue suggests renders, and the commands around frames and caches do
what they say."""

import json
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.kernels.cache import cache_root
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin import pipeline
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.tables import pyramids
from swift_sample.core.settings import format_value

SCENE = "honey-stall-small"
FEW = {"samples.max": 4, "bounces.total": 2, "device.threads": 2}
QUICK = [
    (s.key, v)
    for s in CATALOGUE.values()
    for v in s.suggested
    if v != s.default and s.key != "samples.max" and (s.key, v) != ("geometry.subdivision", 2)
]
"""Left out for their length: many samples, and subdividing twice."""


def output(capsys, *arguments: str, status: int = 0) -> dict:
    assert run(list(arguments)) == status
    return json.loads(capsys.readouterr().out)


@pytest.fixture(autouse=True)
def own_textures(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pyramids, "prepared_folder", lambda: tmp_path / "textures")
    monkeypatch.setattr(pipeline, "warm_up", lambda tell: 0.0)  # nothing is timed here


@pytest.mark.parametrize(("key", "value"), QUICK, ids=[f"{key}={value}" for key, value in QUICK])
def test_every_suggested_value_renders(key: str, value: object, tmp_path: Path, capsys) -> None:
    settings = {**FEW, key: value}
    needed = CATALOGUE[key].neutral_when

    if needed is not None:  # with another value of the setting that it depends on
        other = CATALOGUE[needed[0]]
        settings[other.key] = next(v for v in (*other.suggested, 0.05) if v not in needed[1])

    settings["samples.max"] = max(settings["samples.max"], settings.get("samples.min", 0))
    arguments = [f"--set={k}={format_value(v)}" for k, v in settings.items()]
    found = output(
        capsys,
        "render",
        SCENE,
        "-o",
        str(tmp_path / "x.exr"),
        "--size",
        "24x14",
        "--frame",
        "5",
        "--json",
        *arguments,
    )
    assert found["settings"][key] == value
    assert not configured(found["settings"]).is_idle(CATALOGUE[key])
    picture = read_exr(tmp_path / "x.exr")
    assert np.isfinite(picture.beauty).all()
    assert picture.beauty.mean() > 0.01
    assert found["simulated"] == (found["device"] != "processor")


def test_display_files_are_delivered_beside_the_exr(tmp_path: Path, capsys) -> None:
    found = output(
        capsys,
        "render",
        SCENE,
        "-o",
        str(tmp_path / "x.exr"),
        "--size",
        "24x14",
        "--set",
        "samples.max=2",
        "--set",
        "output.format=png-8",
        "--json",
    )
    assert found["picture_bytes"] == (tmp_path / "x.png").stat().st_size


def frame_file(path: Path, seed: int, size: tuple[int, int] = (24, 32)) -> Path:
    rng = np.random.default_rng(seed)
    halves = [(0.5 + 0.1 * rng.normal(size=(*size, 3))).astype(np.float32) for _ in range(2)]

    write_exr(
        path,
        Picture(
            (halves[0] + halves[1]) / 2,
            {
                "half_a": halves[0],
                "half_b": halves[1],
                "albedo": np.ones((*size, 3), np.float32),
                "normal": np.zeros((*size, 3), np.float32),
                "depth": np.ones(size, np.float32),
            },
        ),
    )
    return path


def test_frames_are_denoised_together_and_their_flicker_told(tmp_path: Path, capsys) -> None:
    frames = [str(frame_file(tmp_path / f"{k}.exr", k)) for k in range(3)]
    clean = str(tmp_path / "clean.exr")
    write_exr(Path(clean), Picture(np.full((24, 32, 3), 0.5, np.float32)))
    calmer = [str(tmp_path / f"s{k}.exr") for k in (0, 1)]
    assert output(capsys, "denoise", frames[0], frames[1], "-o", calmer[0], "--json")["frames"] == 2
    assert (
        output(capsys, "denoise", frames[1], frames[0], frames[2], "-o", calmer[1], "--json")[
            "frames"
        ]
        == 3
    )
    raw = output(capsys, "compare", frames[0], clean, "--then", frames[1], clean, "--json")[
        "flicker"
    ]
    calm = output(capsys, "compare", calmer[0], clean, "--then", calmer[1], clean, "--json")[
        "flicker"
    ]
    assert calm < 0.5 * raw
    assert output(capsys, "compare", frames[0], clean, "--json")["flicker"] is None
    other = str(frame_file(tmp_path / "small.exr", 9, (12, 32)))
    assert run(["denoise", frames[0], other, "-o", calmer[0]]) == 1
    assert "frame 2: is 32x12, the first one is 32x24" in capsys.readouterr().err


def test_check_lists_caches_and_the_accelerator_and_clears(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys
) -> None:
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path))
    (tmp_path / "textures").mkdir()
    (tmp_path / "textures" / "a.npy").write_bytes(b"x" * 50)
    found = output(capsys, "check", "--seconds", "0.1", "--json")
    assert {cache["name"]: cache["bytes"] for cache in found["caches"]}["textures"] == 50
    assert found["accelerator"]["simulated"]
    cleared = output(capsys, "check", "--seconds", "0.1", "--clear", "textures", "--json")
    assert {cache["name"]: cache["bytes"] for cache in cleared["caches"]}["textures"] == 0


def test_caching_measures_when_each_cache_pays(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys
) -> None:
    """Three times in turn, and what the user's own caches hold is still there."""
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path))
    monkeypatch.setattr(pyramids, "prepared_folder", lambda: cache_root() / "textures")
    (tmp_path / "textures").mkdir()
    (tmp_path / "textures" / "mine.npy").write_bytes(b"x" * 100)
    found = output(capsys, "caching", SCENE, "--size", "16x9", "--set", "samples.max=1", "--json")[
        "caches"
    ]
    assert [cost["name"] for cost in found] == ["scene.keep_built", "textures.prepared"]
    kept = found[0]
    assert kept["seconds_later"] < 0.7 * kept["seconds_without"]
    assert kept["pays_after"] == 2
    assert kept["pays_between"][0] <= 2
    assert (
        kept["intervals"]["without"][1] < kept["seconds_without"] < kept["intervals"]["without"][2]
    )
    assert [path.name for path in (tmp_path / "textures").iterdir()] == ["mine.npy"]
    assert kept["memory_bytes"] > 1e6


def test_raw_and_denoised_are_blended_where_a_mask_is_white(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    light = np.random.default_rng(1).random((12, 16, 3), np.float32)
    rendered, mask, out = (tmp_path / name for name in ("a.exr", "mask.exr", "out.exr"))
    write_exr(rendered, Picture(light, {"raw": light * 2}))
    half = np.zeros((12, 16, 3), np.float32)
    half[:, 8:] = 1
    write_exr(mask, Picture(half))
    assert (
        run(
            [
                "blend",
                str(rendered),
                "-o",
                str(out),
                "--strength",
                "0.5",
                "--mask",
                str(mask),
                "--json",
            ]
        )
        == 0
    )
    assert json.loads(capsys.readouterr().out)["method"] == "as rendered"
    made = read_exr(out)
    assert np.allclose(made.beauty[:, :8], 2 * light[:, :8], rtol=2e-3)
    assert np.allclose(made.beauty[:, 8:], 1.5 * light[:, 8:], rtol=2e-3)
    plain = tmp_path / "plain.exr"
    write_exr(plain, Picture(light))
    assert run(["blend", str(plain), "-o", str(out)]) == 2
    assert "give --method" in capsys.readouterr().err
    assert run(["blend", str(plain), "-o", str(out), "--method", "wavelet"]) == 2
    assert "has no layers albedo" in capsys.readouterr().err
    whole = frame_file(tmp_path / "whole.exr", 3)
    assert run(["blend", str(whole), "-o", str(out), "--method", "wavelet", "--strength", "1"]) == 0
    assert read_exr(out).beauty.std() < 0.7 * read_exr(whole).beauty.std()
    assert run(["blend", str(plain), "-o", str(out), "--method", "paint"]) == 2
