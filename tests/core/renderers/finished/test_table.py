"""Finished renders: what tables and pictures say, and what is refused."""

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from swift_sample.core.errors import UsageError
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.finished.rows import (
    Row,
    catalogue_of,
    configuration_of,
    number_of,
    seconds_of,
)
from swift_sample.core.renderers.finished.table import (
    guess_rows,
    pictures_in,
    read_table,
    table_text,
)


def picture(path: Path, value: int = 100) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(np.full((6, 8, 3), value, np.uint8)).save(path)
    return path


def table(folder: Path, text: str) -> Path:
    for name in ("a.png", "b.png", "c.png"):
        picture(folder / name)

    path = folder / "renders.csv"
    path.write_text(text, "utf-8")
    return path


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("12.5", 12.5),
        ("12,5", 12.5),
        ("12.5 s", 12.5),
        ("1:02:03", 3723.0),
        ("2:03.5", 123.5),
        ("02:03,5", 123.5),
        ("3 min", 180.0),
        ("1.5h", 5400.0),
        ("250ms", 0.25),
        (" 7 ", 7.0),
    ],
)
def test_times_are_read_as_people_write_them(text: str, seconds: float) -> None:
    assert seconds_of(text) == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["", "soon", "-3", "0", "1:2:3:4", "12 parsecs", "nan", "1e99"])
def test_what_is_no_time_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="is no "):
        seconds_of(text)


def test_columns_become_settings_by_what_stands_in_them(tmp_path: Path) -> None:
    rows = read_table(
        table(
            tmp_path,
            "Picture;Time;Samples;Threshold;Denoiser;Caustics;Memory\n"
            "a.png;1:02,5;64;0,01;none;yes;512\nb.png;30;32;0,1;smooth;no;\nc.png;12;16;0,01;;no;300\n",
        )
    )
    assert [row.seconds for row in rows] == [62.5, 30.0, 12.0]
    assert [row.memory_bytes for row in rows] == [512 << 20, None, 300 << 20]
    catalogue = catalogue_of(rows)
    kinds = {setting.key: setting.kind for setting in catalogue.values()}
    assert kinds == {
        "samples": "whole",
        "threshold": "number",
        "denoiser": "choice",
        "caustics": "switch",
    }
    assert dict(configuration_of(rows[2], catalogue)) == {
        "samples": 16,
        "threshold": 0.01,
        "denoiser": "(empty)",
        "caustics": False,
    }
    assert (
        catalogue.capabilities.why_not("starts")
        == "this renderer cannot be started: what was rendered is measured"
    )


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (
            "picture,seconds,s\na.png,1,1\nmissing.png,2,2\n",
            r"line 3: there is no picture missing\.png",
        ),
        (
            "picture,seconds,s\na.png,1,1\nb.png,2,1\n",
            r"a\.png and b\.png have the same settings; where they are repeats",
        ),
        (
            'picture,seconds,s\na.png,1,1.0\nb.png,2,"1,00"\n',
            r"a\.png and b\.png have the same settings",
        ),
        ("picture,seconds,s\na.png,1,1\na.png,2,2\n", r"a\.png stands in two rows"),
        ("picture,seconds,s\na.png,long,1\n", r"line 2: 'long' is no"),
        ("picture,samples\na.png,1\n", "no column tells the seconds; expected one called seconds"),
        ("seconds,samples\n1,1\n", "no column tells the picture"),
        ("picture,seconds,S,s\na.png,1,1,1\n", "two columns are called 's'"),
        (
            "picture,seconds,s\na.png,1,5,6\n",
            "line 2: has 4 cells for 3 headings; put values with commas in quotation marks",
        ),
        (
            "picture,seconds,machine\na.png,1,one\nb.png,1,two\n",
            "times of 2 machines, which never mix",
        ),
        ("picture,seconds\n", "expected a line of headings and a line for each render"),
    ],
)
def test_a_table_with_a_mistake_says_where_and_what(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(UsageError, match=words):
        read_table(table(tmp_path, text))


def test_repeats_are_told_apart_by_a_column_of_their_own(tmp_path: Path) -> None:
    rows = read_table(table(tmp_path, "picture,seconds,s,repeat\na.png,1,8,1\nb.png,2,8,2\n"))
    assert [row.repeat for row in rows] == [1, 2]
    assert len({configuration_of(row, catalogue_of(rows)) for row in rows}) == 1


def test_pictures_tell_of_themselves_by_headers_names_and_folders(tmp_path: Path) -> None:
    header = {
        "settings": {"samples.max": 64, "light.caustics": True},
        "seconds": {"total": 4.5},
        "seed": 3,
    }
    write_exr(
        tmp_path / "one.exr",
        Picture(np.zeros((6, 8, 3), np.float32), notes={RECORD_ATTRIBUTE: json.dumps(header)}),
    )
    header["settings"]["samples.max"] = 16
    write_exr(
        tmp_path / "two.exr",
        Picture(np.zeros((6, 8, 3), np.float32), notes={RECORD_ATTRIBUTE: json.dumps(header)}),
    )
    rows, notes = guess_rows([tmp_path / "one.exr", tmp_path / "two.exr"], tmp_path)
    assert [(row.seconds, dict(row.values)) for row in rows] == [
        (4.5, {"samples.max": "64"}),
        (4.5, {"samples.max": "16"}),
    ]
    assert notes == []

    for folder in ("smooth", "raw"):
        picture(tmp_path / "set" / folder / "shot_s64_b8_12.5s.png")
        picture(tmp_path / "set" / folder / "shot_s16_b8.png")

    found = pictures_in(tmp_path / "set")
    rows, notes = guess_rows(found, tmp_path / "set")
    told = {(row.values["s"], row.values["folder"]): row.seconds for row in rows}
    assert told == {
        ("64", "smooth"): 12.5,
        ("64", "raw"): 12.5,
        ("16", "smooth"): 0.0,
        ("16", "raw"): 0.0,
    }
    assert "b" not in rows[0].values, "what is the same for all is no setting"
    assert notes == ["2 of 4 pictures do not tell how long they took; type it in"]
    text = table_text(rows, tmp_path)
    assert "set/raw/shot_s64_b8_12.5s.png,12.5,64,raw" in text
    (tmp_path / "made.csv").write_text(text.replace("b8.png,,", "b8.png,3,"))
    assert len(read_table(tmp_path / "made.csv")) == 4


def test_numbers_have_points_or_commas() -> None:
    assert [number_of(text) for text in ("1.5", "1,5", "-2", "1e3", ".5")] == [
        1.5,
        1.5,
        -2.0,
        1000.0,
        0.5,
    ]
    with pytest.raises(ValueError, match="is no number"):
        number_of("1.2.3")

    rows = [
        Row(picture=Path("a"), seconds=1.0, values={"A b": "1"}),
        Row(picture=Path("b"), seconds=1.0, values={"A b": "2", "a_b": "3"}),
    ]
    with pytest.raises(UsageError, match="another column has the same name for a setting"):
        catalogue_of(rows)


def test_a_folder_that_holds_too_much_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    picture(tmp_path / "a" / "one.png")
    assert pictures_in(tmp_path) == [tmp_path / "a" / "one.png"]
    monkeypatch.setattr("swift_sample.core.renderers.finished.table.MOST_ENTRIES", 1)
    with pytest.raises(UsageError, match="choose a folder of renders"):
        pictures_in(tmp_path)
