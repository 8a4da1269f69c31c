"""What CONTRIBUTING.md says about adding things is done here as it is written, in a copy of the
sources."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import swift_sample

ROOT = Path(swift_sample.__file__).parents[1]
TEXT = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
SECTIONS = {part.split("\n", 1)[0]: part for part in TEXT.split("\n### ")[1:]}
DONE = (
    "A setting of the path tracer",
    "A measure",
    "A finding",
    "A page of the window",
    "An edit of the plan",
    "A kind of event",
)
CHANGE = re.compile(
    r"In `(?P<file>[^`]+)`, (?P<how>before|after) `(?P<line>[^`]+)`:\n\n```python\n(?P<code>.*?)```"
    r"|In `(?P<file2>[^`]+)`, replace `(?P<old>[^`]+)` by `(?P<new>[^`]+)`"
    r"|A new file `(?P<made>[^`]+)`:\n\n```python\n(?P<whole>.*?)```",
    re.DOTALL,
)


def apply(section: str, root: Path) -> set[str]:
    """Make the changes that a section describes; returns the files that it names."""
    named = set()
    for change in CHANGE.finditer(section):
        if change["made"]:
            (root / change["made"]).write_text(change["whole"])
            named.add(change["made"])
            continue

        file = change["file"] or change["file2"]
        named.add(file)
        text = (root / file).read_text()
        anchor = change["line"] or change["old"]
        assert text.count(anchor) == 1, f"{file} has {anchor!r} {text.count(anchor)} times"

        if change["old"]:
            text = text.replace(anchor, change["new"])
        elif change["how"] == "before":
            text = text.replace(anchor, change["code"] + anchor)
        else:
            text = text.replace(anchor, anchor + "\n" + change["code"].rstrip("\n"))

        (root / file).write_text(text)

    return named


@pytest.mark.parametrize("title", DONE)
def test_adding_one_takes_what_is_written(title: str, tmp_path: Path) -> None:
    shutil.copytree(
        ROOT / "swift_sample",
        tmp_path / "swift_sample",
        ignore=shutil.ignore_patterns("__pycache__"),
    )
    named = apply(SECTIONS[title], tmp_path)
    assert named
    assert len(named) <= 2, "one place to declare it, one to do it"
    (check,) = re.findall(r"```python check\n(.*?)```", SECTIONS[title], re.DOTALL)
    (tmp_path / "check.py").write_text(check)
    environment = {**os.environ, "PYTHONPATH": str(tmp_path)}

    if any(
        "core/measure" in file for file in named
    ):  # kernels are made of it: theirs are others now
        environment["SWIFT_SAMPLE_CACHE"] = str(tmp_path / "cache")

    done = subprocess.run(
        [sys.executable, "check.py"], cwd=tmp_path, env=environment, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    style = [
        sys.executable,
        "-m",
        "ruff",
        "check",
        "--quiet",
        "--config",
        str(ROOT / "pyproject.toml"),
    ]
    told = subprocess.run([*style, *sorted(named)], cwd=tmp_path, capture_output=True, text=True)
    assert told.returncode == 0, told.stdout


def test_every_kind_that_is_named_has_its_section() -> None:
    assert set(DONE) | {"A step", "A renderer"} == set(SECTIONS)
