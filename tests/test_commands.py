"""The command line as a whole: every command is listed, starts lightly, completes, and is stopped
without a traceback."""

import importlib
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import click
import pytest
from click.shell_completion import ShellComplete

from swift_sample.cli import commands, run
from swift_sample.commands import PLACES
from swift_sample.commands.planning import MEASURES
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.scene.honey_parts import SIZES
from swift_sample.core.scene.open import STALL_SIZES
from swift_sample.core.study.log.store import create_study
from swift_sample.core.study.plan.model import LIMIT_KEYS, Study
from tests.core.renderers.command.programs import program


@pytest.fixture
def study(tmp_path: Path, tiny_study: Study) -> str:
    return str(create_study(tmp_path / "a.study", tiny_study))


@pytest.mark.parametrize("name", PLACES)
def test_every_command_stands_where_it_is_said_to(name: str) -> None:
    module, attribute, words = PLACES[name]
    found = getattr(importlib.import_module(f"swift_sample.commands.{module}"), attribute)
    assert isinstance(found, click.Command)
    assert found.help
    assert words.endswith(".")


def test_listing_commands_loads_nothing_that_works() -> None:
    code = (
        "import sys; from swift_sample.cli import run; run(['--help']); print(*sys.modules, "
        "sep='\\n')"
    )
    loaded = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout.split("\n")
    assert not {"numpy", "pydantic", "numba", "scipy", "PyQt6"} & set(loaded)


def test_names_that_are_written_again_are_all() -> None:
    assert MEASURES.split() == list(LIMIT_KEYS)
    assert set(STALL_SIZES) == set(SIZES)


def completed(arguments: list[str], typed: str) -> list[str]:
    return [
        item.value
        for item in ShellComplete(commands, {}, "swift-sample", "X").get_completions(
            arguments, typed
        )
    ]


def test_keys_values_and_measures_are_completed(study: str) -> None:
    assert completed([], "lim") == ["limit"]
    assert "samples.max" in completed(["try", study], "sam")
    assert completed(["try", study, "denoise.method"], "wa") == ["wavelet"]
    assert completed(["set", study], "denoise.method=pa") == ["denoise.method=patches"]
    assert completed(["limit", study], "gr") == ["grain", "grain_worst"]
    assert completed(["limit", study, "grain"], "o") == ["off"]
    assert run(["completion", "bash"]) == 0


def test_what_had_no_command_has_one(study: str, capsys: pytest.CaptureFixture) -> None:
    assert run(["run", study, "--base-only"]) in (0, 3)
    capsys.readouterr()
    assert run(["trials", study, "--json"]) == 0
    trials = json.loads(capsys.readouterr().out)["trials"]
    assert [trial["runs"] > 0 for trial in trials].count(True) == 1
    assert run(["trials", study]) == 0
    assert capsys.readouterr().out.splitlines()[0].split() == [
        "time",
        "limit",
        "share",
        "verdict",
        "runs",
        "configuration",
    ]
    assert (
        run(
            [
                "plan",
                study,
                "--runs",
                "5",
                "--renders-per-opening",
                "20",
                "--no-worse-than-base",
                "--json",
            ]
        )
        == 0
    )
    told = capsys.readouterr()
    plan = json.loads(told.out)
    assert (plan["repeats"], plan["renders_per_opening"], plan["no_worse_than_base"]) == (
        5,
        20,
        True,
    )
    assert "5 runs a trial, 20 renders per opening, no worse than the base" in told.err
    assert run(["trial", study, "2", "--name", "quick", "--leave-out", "too soft"]) == 0
    assert "1 trials have a name or a note; 1 left out" in capsys.readouterr().err
    assert run(["trial", study, "quick", "--count"]) == 0
    assert run(["trial", study, "nobody"]) == 2
    assert "no such trial" in capsys.readouterr().err


def test_a_group_of_settings_is_told_by_its_keys(study: str, capsys: pytest.CaptureFixture) -> None:
    assert run(["try", study, "samples", "8"]) == 2
    assert "did you mean samples.max or samples.min or" in capsys.readouterr().err


@pytest.mark.parametrize(
    "words", ["firefly", "SSS", "subsurface", "DOF", "AA", "oversampling", "render time"]
)
def test_settings_are_found_by_the_words_of_the_trade(words: str) -> None:
    found = [key for key, setting in CATALOGUE.items() if setting.is_found_by(words)]
    assert found
    assert found[0] != "device.kind"


def test_a_picture_for_the_eye_and_a_preset(tmp_path: Path) -> None:
    preset = tmp_path / "fast.toml"
    preset.write_text('renderer = "built-in"\n[settings]\n"samples.max" = 1\n')
    study = tmp_path / "a.study"
    assert (
        run(
            [
                "new",
                str(study),
                "--scene",
                "honey-stall-small",
                "--size",
                "16x9",
                "--set",
                "samples.max=1",
            ]
        )
        == 0
    )
    assert run(["preset", str(study), "--of", "base", "-o", str(preset)]) == 0
    picture = tmp_path / "a.png"
    assert (
        run(
            [
                "render",
                "honey-stall-small",
                "-o",
                str(picture),
                "--size",
                "16x9",
                "--preset",
                str(preset),
            ]
        )
        == 0
    )
    assert picture.read_bytes()[:4] == b"\x89PNG"


def test_whoever_reads_the_results_may_have_had_enough() -> None:
    """A reader that stops early left "Exception ignored ... BrokenPipeError" on the terminal."""
    command = f"{sys.executable} -m swift_sample.cli settings --json | head -c 10"
    done = subprocess.run(["sh", "-c", command], capture_output=True, text=True)
    assert done.stderr == ""
    assert len(done.stdout) == 10


@pytest.mark.parametrize("after", [0.2, 0.5, 1.0])
def test_an_interruption_at_any_moment_leaves_no_traceback(after: float) -> None:
    """S13: Ctrl-C in the first second and a half, while modules were loaded, printed one."""
    process = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "from swift_sample.cli import main; main()",
            "check",
            "--seconds",
            "30",
        ],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONSAFEPATH": ""},
    )
    time.sleep(after)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    own = [line for line in said.splitlines() if "/swift_sample/" in line]
    assert own == [], said
    assert process.returncode != 0


def test_beginning_with_a_renderer_file_says_how_to_go_on_with_it(
    tmp_path: Path, capsys: pytest.CaptureFixture
) -> None:
    """O6: `new` was suggested without it, and what was typed so ended in "damaged or not glTF". O9:
    empty words stay out."""
    renderer = program(tmp_path / "p")
    scene = tmp_path / "p" / "scene.txt"
    assert (
        run(["begin", str(scene), "--renderer", str(renderer.path), "--no-pilot", "--size", "8x6"])
        == 0
    )
    told = capsys.readouterr()
    assert f"--renderer {renderer.path}" in told.err
    assert "()" not in told.out
    assert "0 MiB" not in told.out


def test_a_check_shows_the_command_once(tmp_path: Path, capsys: pytest.CaptureFixture) -> None:
    """O9: it was printed twice, once with {here} as it stands in the file."""
    renderer = program(
        tmp_path / "p",
        ("[picture]", 'version = ["{python}", "{here}/program.py"]\n[picture]'),
        confirmed=False,
    )
    scene = str(tmp_path / "p" / "scene.txt")
    run(["renderer", "check", str(renderer.path), "--scene", scene, "--size", "8x6", "--yes"])
    told = capsys.readouterr()
    both = told.out + told.err
    assert (
        both.count("(here)/program.py --")
        + both.count("(here)/program.py /")
        + both.count("(here)/program.py scene")
        <= 1
    )
    assert "{here}" not in both


def test_a_renderer_file_may_begin_with_copies(tmp_path: Path) -> None:
    """O9: placeholders of [copies] were refused."""
    file = tmp_path / "mine.toml"
    asked = [
        "renderer",
        "new",
        str(file),
        "--name",
        "mine",
        "--command",
        "draw {scene} {config} -o {picture}",
    ]
    assert run(asked) == 2 or not file.exists()
    assert run([*asked, "--copy", "config={here}/studio.json"]) == 0
    assert 'config = "{here}/studio.json"' in file.read_text()
