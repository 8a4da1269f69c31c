"""Reading finished renders from a table, or from pictures alone by their headers, names and
folders."""

import csv
import io
import json
import os
import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from swift_sample.core.errors import PictureError, UsageError
from swift_sample.core.files import read_text
from swift_sample.core.picture.exr import read_record
from swift_sample.core.renderers.finished.rows import (
    MOST_ROWS,
    SWITCHES,
    Row,
    number_of,
    seconds_of,
)

SUFFIXES = (".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff")
PICTURE = ("picture", "file", "image", "filename", "path", "render")
SECONDS = (
    "seconds",
    "time",
    "duration",
    "render time",
    "rendertime",
    "render_time",
    "time (s)",
    "seconds (s)",
    "s",
)
MEMORY = ("memory", "memory_mb", "memory (mb)", "peak memory", "ram", "mb")
MOST_ENTRIES = 50_000
"""Files and folders that are looked at for pictures."""
KNOWN = {
    "picture": PICTURE,
    "seconds": SECONDS,
    "memory": MEMORY,
    "seed": ("seed",),
    "repeat": ("repeat", "run", "take"),
    "machine": ("machine", "host", "node", "computer"),
}
"""What columns are called that are no settings."""
_IN_NAME = re.compile(
    r"([a-z]+)[ _=-]?(\d+(?:\.\d+)?)(?![a-z0-9.])|(\d+(?:\.\d+)?)(s|sec|min)(?![a-z])",
    re.IGNORECASE,
)


def read_table(path: Path) -> list[Row]:
    """Rows of a CSV file with a line of headings; pictures are found from its folder. Raises
    UsageError that names the line and what is wrong there."""
    try:
        text = read_text(path)
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(
            f"{path}: the table cannot be read "
            f"({getattr(error, 'strerror', None) or 'it is no text'})"
        ) from error

    text = text.lstrip("\ufeff")
    delimiter = max((";", "\t", ","), key=text.partition("\n")[0].count)
    lines = [
        line
        for line in csv.reader(io.StringIO(text), delimiter=delimiter)
        if any(cell.strip() for cell in line)
    ]

    if len(lines) < 2:
        raise UsageError(f"{path}: expected a line of headings and a line for each render")
    if len(lines) - 1 > MOST_ROWS:
        raise UsageError(f"{path}: has {len(lines) - 1:,} rows, at most {MOST_ROWS:,} can be read")

    headings = [heading.strip() for heading in lines[0]]
    columns = _columns(path, headings)
    machines = {
        line[columns["machine"]].strip()
        for line in lines[1:]
        if "machine" in columns and len(line) > columns["machine"]
    }

    if len(machines) > 1:
        raise UsageError(
            f"{path}: has times of {len(machines)} machines, which never mix; make a table for each"
        )

    rows = [_row(path, number, line, headings, columns) for number, line in enumerate(lines[1:], 2)]
    return told_apart(rows, path)


def _columns(path: Path, headings: list[str]) -> dict[str, int]:
    small = [heading.lower() for heading in headings]
    if len(set(small)) < len(small):
        doubled = next(heading for heading in small if small.count(heading) > 1)
        raise UsageError(f"{path}: two columns are called {doubled!r}; rename one")

    found: dict[str, int] = {}
    for what, names in KNOWN.items():
        place = next((small.index(name) for name in names if name in small), None)
        if place is not None:
            found[what] = place

    for what, names in (("picture", PICTURE), ("seconds", SECONDS)):
        if what not in found:
            raise UsageError(f"{path}: no column tells the {what}; expected one called {names[0]}")

    return found


def _row(
    path: Path, number: int, line: list[str], headings: list[str], columns: Mapping[str, int]
) -> Row:
    def cell(what: str) -> str:
        place = columns.get(what)
        return line[place].strip() if place is not None and place < len(line) else ""

    where = f"{path}, line {number}"
    if len(line) > len(headings):
        raise UsageError(
            f"{where}: has {len(line)} cells for {len(headings)} headings; put values with "
            "commas in quotation marks"
        )

    try:
        seconds = seconds_of(cell("seconds"))
        memory = int(number_of(cell("memory")) * 2**20) if cell("memory") else None
        seed = int(number_of(cell("seed"))) if cell("seed") else None
        repeat = int(number_of(cell("repeat"))) if cell("repeat") else 0
    except ValueError as error:
        raise UsageError(f"{where}: {error}") from error

    picture = path.parent / cell("picture")
    if not cell("picture") or not picture.is_file():
        raise UsageError(
            f"{where}: there is no picture {cell('picture') or '(empty)'}; give its place from "
            "the table's folder"
        )

    rest = {k: name for k, name in enumerate(headings) if k not in columns.values() and name}
    return Row(
        picture=picture,
        seconds=seconds,
        values={name: line[k].strip() if k < len(line) else "" for k, name in rest.items()},
        memory_bytes=memory,
        seed=seed,
        repeat=repeat,
    )


def told_apart(rows: Sequence[Row], source: Path) -> list[Row]:
    """Rows of which no two are the same render. Raises UsageError for doubled ones."""
    seen: dict[object, Row] = {}
    pictures: dict[Path, int] = {}

    for row in rows:
        key = (
            tuple(sorted((name, _meant(text)) for name, text in row.values.items())),
            row.seed,
            row.repeat,
        )
        if key in seen:
            raise UsageError(
                f"{source}: {seen[key].picture.name} and {row.picture.name} have the same "
                "settings; where they are repeats, add a column called repeat or seed"
            )

        pictures[row.picture] = pictures.get(row.picture, 0) + 1
        if pictures[row.picture] > 1:
            raise UsageError(f"{source}: {row.picture.name} stands in two rows")

        seen[key] = row

    return list(rows)


def _meant(text: str) -> str:
    """One text for all that are the same value: of "1,0", "1.0" and "1"."""
    plain = text.strip()
    with suppress(ValueError):
        return f"{number_of(plain):.17g}"

    return str(SWITCHES[plain.lower()]) if plain.lower() in SWITCHES else plain


def guess_rows(pictures: Sequence[Path], folder: Path) -> tuple[list[Row], list[str]]:
    """What pictures say of themselves: seconds and settings by EXR headers that this program wrote,
    numbers in file names ("s64_b8_12.5s.png"), and names of subfolders. Seconds are 0 where nothing
    tells them; with words about that."""
    rows = []
    notes = []
    for picture in pictures:
        rows.append(_from_header(picture) or _from_name(picture, folder))

    names = [name for name in dict.fromkeys(name for row in rows for name in row.values)]
    told = {name: {row.values.get(name, "") for row in rows} for name in names}
    varied = [name for name in names if len(told[name]) > 1]
    rows = [
        replace(row, values={name: row.values.get(name, "") for name in varied}) for row in rows
    ]
    untold = sum(row.seconds <= 0 for row in rows)

    if untold:
        notes.append(f"{untold} of {len(rows)} pictures do not tell how long they took; type it in")

    return rows, notes


def _from_header(picture: Path) -> Row | None:
    if picture.suffix.lower() != ".exr":
        return None

    try:
        told = json.loads(read_record(picture))
        values = {str(key): _text(value) for key, value in told["settings"].items()}
        return Row(
            picture=picture,
            seconds=float(told["seconds"]["total"]),
            values=values,
            memory_bytes=int(told.get("peak_memory_bytes", 0)) or None,
            seed=int(told["seed"]),
        )
    except (PictureError, OSError, ValueError, KeyError, TypeError, AttributeError):
        return None


def _from_name(picture: Path, folder: Path) -> Row:
    values: dict[str, str] = {}
    seconds = 0.0

    for name, number, taken, unit in _IN_NAME.findall(picture.stem):
        if unit:
            seconds = seconds_of(f"{taken} {unit}")
        else:
            values.setdefault(name.lower(), number)

    parts = picture.relative_to(folder).parts[:-1] if picture.is_relative_to(folder) else ()
    for depth, part in enumerate(parts, 1):
        values[f"folder {depth}" if len(parts) > 1 else "folder"] = part

    return Row(picture=picture, seconds=seconds, values=values)


def _text(value: object) -> str:
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)


def pictures_in(folder: Path) -> list[Path]:
    """All pictures of a folder and the folders in it, by name. Raises UsageError where there is no
    such folder, or so much in it that it can hardly be one of renders."""
    if not folder.is_dir():
        raise UsageError(f"{folder}: no such folder")

    found = []
    seen = 0

    for place, folders, names in os.walk(folder):
        seen += len(folders) + len(names)
        found += [Path(place, name) for name in names if Path(name).suffix.lower() in SUFFIXES]

        if len(found) > MOST_ROWS or seen > MOST_ENTRIES:
            raise UsageError(
                f"{folder}: holds more than {MOST_ROWS:,} pictures or {MOST_ENTRIES:,} files; "
                "choose a folder of renders"
            )

    return sorted(found)


def table_text(rows: Sequence[Row], folder: Path) -> str:
    """Rows as CSV that `read_table` takes; seconds that nobody told are left empty."""
    names = list(dict.fromkeys(name for row in rows for name in row.values))
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["picture", "seconds", *names])

    for row in rows:
        picture = os.path.relpath(row.picture, folder)
        writer.writerow(
            [
                picture,
                f"{row.seconds:g}" if row.seconds > 0 else "",
                *(row.values.get(name, "") for name in names),
            ]
        )

    return out.getvalue()
