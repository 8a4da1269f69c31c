"""A study of finished renders: imported, measured, judged, and never rendered again."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from swift_sample.cli import run
from swift_sample.core.machine import this_machine
from swift_sample.core.picture.colour import srgb_encoded
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.study.log.store import Store, look_at_study
from swift_sample.core.study.measuring.surroundings import read_snapshot

SIZE = (96, 128)


def truth() -> np.ndarray:
    y, x = np.mgrid[0 : SIZE[0], 0 : SIZE[1]]
    return np.repeat((0.2 + 0.1 * np.sin(x / 3) * np.cos(y / 4))[..., None], 3, axis=2).astype(
        np.float32
    )


def renders(folder: Path) -> Path:
    """Four pictures of known grain and light, with the table that tells of them."""
    folder.mkdir()
    write_exr(folder / "reference.exr", Picture(truth()))
    lines = ["picture,seconds,samples,dim"]

    for number, (samples, dim, seconds) in enumerate(
        ((64, "no", 40.0), (16, "no", 12.0), (4, "no", 4.0), (16, "yes", 11.0))
    ):
        rng = np.random.default_rng(number)
        light = truth() * (0.7 if dim == "yes" else 1.0) + rng.normal(
            0, 0.02 / np.sqrt(samples), (*SIZE, 3)
        )
        write_exr(folder / f"{number}.exr", Picture(light.astype(np.float32)))
        lines.append(f"{number}.exr,{seconds},{samples},{dim}")

    (folder / "renders.csv").write_text("\n".join(lines))
    return folder / "renders.csv"


def test_finished_renders_are_measured_and_judged(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    table = renders(tmp_path / "renders")
    study = tmp_path / "made.study"
    asked = [
        "finished",
        str(study),
        "--table",
        str(table),
        "--reference",
        str(tmp_path / "renders" / "reference.exr"),
    ]
    assert run([*asked, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["pick"]["configuration"] == {"samples": 16, "dim": False}

    with look_at_study(study) as reading:
        results = read_snapshot(reading).results
        runs = read_snapshot(reading).runs

    by_samples = {(t.configuration["samples"], t.configuration["dim"]): t for t in results.trials}
    assert len(by_samples) == 4
    assert len(runs) == 4, "nothing was rendered beside what was finished"
    assert by_samples[16, True].verdict == "not acceptable"

    for trial in results.trials:
        assert trial.seconds is not None
        assert (
            trial.times_faster is None or not trial.times_faster.low < trial.times_faster.value
        ), "no interval from one time"

    grain = by_samples[4, False].figures["grain"]
    assert grain is not None
    noise = srgb_encoded(truth() + 0.005) - srgb_encoded(truth() - 0.005)
    assert grain.value == pytest.approx(255 * float(np.sqrt((noise**2).mean())), rel=0.05), (
        "one picture tells it"
    )


def test_a_study_of_finished_renders_opens_again_and_measures_no_more(
    tmp_path: Path, capsys: pytest.CaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("swift_sample.commands.measuring._load_of_others", lambda: 0.9)
    table = renders(tmp_path / "renders")
    study = tmp_path / "made.study"
    reference = tmp_path / "renders" / "reference.exr"
    assert run(["finished", str(study), "--table", str(table), "--reference", str(reference)]) == 0
    for file in (tmp_path / "renders").iterdir():
        file.unlink()

    capsys.readouterr()
    assert run(["run", str(study)]) == 0
    assert "other programs" not in capsys.readouterr().err, "nothing is timed"
    assert run(["cost", str(study)]) == 0
    assert all(
        line.partition(":")[2].strip()
        for line in capsys.readouterr().out.splitlines()
        if ":" in line
    )
    assert run(["search", str(study)]) == 2
    assert "renders are finished" in capsys.readouterr().err
    assert run(["limit", str(study), "light_shift", "0.01"]) == 0
    capsys.readouterr()
    assert run(["pick", str(study)]) == 3
    told = capsys.readouterr().out
    assert "finished renders with other settings, or wider limits" in told
    assert "not tried yet" not in told, "nothing else can be rendered"
    assert run(["limit", str(study), "light_shift", "30"]) == 0
    assert run(["pick", str(study), "--json"]) == 0
    assert run(["pack", str(study), "-o", str(tmp_path / "a.zip")]) == 0
    assert run(["unpack", str(tmp_path / "a.zip"), str(tmp_path / "b.study")]) == 0
    capsys.readouterr()
    assert run(["pick", str(tmp_path / "b.study"), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["trials"]["measured"] == 4
    other = replace(this_machine(), processor="another one")
    with look_at_study(tmp_path / "b.study") as reading:
        assert read_snapshot(reading, other).results.pick() is not None, (
            "times that were told are nobody's machine's"
        )

    with Store.open(study) as store:
        assert store.renderer.title == "finished renders"
        assert [len(records.runs) for records in store.opened_as.records.values()] == [4]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (
            lambda f: write_exr(f / "2.exr", Picture(np.zeros((5, 5, 3), np.float32))),
            "2.exr: is 5x5, today's render 128x96",
        ),
        (lambda f: (f / "2.exr").write_bytes(b"no picture"), "2.exr"),
        (lambda f: (f / "reference.exr").unlink(), "reference.exr"),
    ],
)
def test_pictures_that_do_not_fit_are_named_and_nothing_is_left(
    tmp_path: Path, capsys, change, words: str
) -> None:
    table = renders(tmp_path / "renders")
    study = tmp_path / "made.study"
    change(tmp_path / "renders")
    reference = tmp_path / "renders" / "reference.exr"
    assert run(["finished", str(study), "--table", str(table), "--reference", str(reference)]) in (
        1,
        2,
    )
    assert words in capsys.readouterr().err
    assert not study.exists()


def test_pictures_alone_make_a_table_to_complete(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    folder = tmp_path / "renders"
    renders(folder)
    asked = [
        "finished",
        str(tmp_path / "s"),
        "--pictures",
        str(folder),
        "--reference",
        str(folder / "reference.exr"),
    ]
    assert run(asked) == 2
    assert "4 of 4 pictures do not tell how long they took" in capsys.readouterr().err
    assert run([*asked, "--write-table", str(tmp_path / "made.csv")]) == 0
    assert (tmp_path / "made.csv").read_text().startswith("picture,seconds\nrenders/0.exr,\n")
