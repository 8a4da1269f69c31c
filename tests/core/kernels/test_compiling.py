import re
import subprocess
import sys
from pathlib import Path

import pytest

from swift_sample.core.kernels import compiling
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling

FRESH = """
import sys
from swift_sample.core.kernels import compiling
from numba import types
@compiling.part(types.int64(types.int64))
def twice(x):
    return 2 * x
@compiling.part(types.int64(types.int64))
def twice_and_one(x):
    return twice(x) + 1
if __name__ == "__main__":
    print(compiling.from_python(twice_and_one)(20))
"""


def test_parts_call_each_other_by_name_and_come_back_from_the_cache(tmp_path: Path) -> None:
    environment = {"SWIFT_SAMPLE_CACHE": str(tmp_path / "cache"), "PATH": "/usr/bin:/bin"}
    kept = []

    for place in ("here", "another checkout"):
        (tmp_path / place).mkdir()
        (tmp_path / place / "parts.py").write_text(FRESH)
        done = subprocess.run(
            [sys.executable, str(tmp_path / place / "parts.py")],
            env=environment,
            capture_output=True,
            text=True,
            timeout=120,
        )
        assert done.stdout == "41\n", done.stderr
        kept.append({path: path.stat().st_mtime_ns for path in (tmp_path / "cache").rglob("*.nb*")})

    assert any("twice_and_one" in path.name for path in kept[0])
    assert kept[0] == kept[1], "the same sources elsewhere compile nothing and write nothing"


def test_a_cache_that_cannot_be_written_is_no_error(tmp_path: Path) -> None:
    (tmp_path / "parts.py").write_text(FRESH)
    (tmp_path / "cache").write_text("a file where a folder should be")
    environment = {"SWIFT_SAMPLE_CACHE": str(tmp_path / "cache"), "PATH": "/usr/bin:/bin"}
    done = subprocess.run(
        [sys.executable, str(tmp_path / "parts.py")],
        env=environment,
        capture_output=True,
        text=True,
    )
    assert done.stdout == "41\n", done.stderr


@pytest.mark.parametrize(
    ("mode", "is_used"), [(0o700, True), (0o755, True), (0o775, False), (0o757, False)]
)
def test_kernels_are_used_only_where_nobody_else_can_write_them(
    tmp_path: Path, mode: int, is_used: bool
) -> None:
    (tmp_path / "parts.py").write_text(FRESH)
    environment = {"SWIFT_SAMPLE_CACHE": str(tmp_path / "cache"), "PATH": "/usr/bin:/bin"}
    command = [sys.executable, str(tmp_path / "parts.py")]
    subprocess.run(command, env=environment, check=True, capture_output=True)
    (folder,) = (tmp_path / "cache" / "kernels").iterdir()
    assert folder.stat().st_mode & 0o777 == 0o700
    indexes = list(folder.rglob("*.nbi"))
    assert indexes
    for index in indexes:  # what is loaded here is code: this one leaves a trace
        index.write_bytes(b"cposix\nsystem\n(S'touch %s'\ntR." % bytes(tmp_path / "trace"))

    folder.chmod(mode)
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    assert (tmp_path / "trace").exists() == is_used

    if not is_used:
        assert done.stdout == "41\n", done.stderr


def test_parts_are_declared_before_those_that_call_them() -> None:
    assert Sampling.__module__ == "swift_sample.core.renderers.builtin.rendering.sampling"
    declared = list(compiling.PARTS)

    for number, (symbol, each) in enumerate(compiling.PARTS.items()):
        for name in each.function.__code__.co_names:
            called = f"swift_sample_{name}"
            if called in compiling.PARTS and called != symbol:
                assert declared.index(called) < number, f"{symbol} calls {called}"


def test_compiling_in_processes_tells_how_far_it_is(tmp_path: Path, monkeypatch) -> None:
    (tmp_path / "small_parts.py").write_text(re.sub(r"if __name__.*", "", FRESH, flags=re.DOTALL))
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path / "cache"))
    told: list[float] = []
    compiling.compile_parts("small_parts", told.append, 2)
    assert told
    assert all(0 <= share <= 1 for share in told)
    assert any((tmp_path / "cache").rglob("*twice_and_one*.nbc"))
