import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from swift_sample.core import kernels


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path))
    monkeypatch.setenv("NUMBA_CACHE_DIR", "unset")
    return tmp_path


def test_any_change_of_a_source_leads_to_another_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    core = tmp_path / "core"
    (core / "render").mkdir(parents=True)
    (core / "kernels.py").write_text("")
    (core / "render" / "callee.py").write_text("x = 1")
    monkeypatch.setattr(kernels, "__file__", str(core / "kernels.py"))
    before = kernels.sources_digest()
    assert kernels.sources_digest() == before
    (core / "render" / "callee.py").write_text("x = 2")
    assert kernels.sources_digest() != before


def test_all_that_kernels_are_made_of_counts_as_their_source() -> None:
    core = Path(kernels.__file__).parent
    covered = [core / name for name in kernels.COMPILED_FROM]
    for path in core.rglob("*.py"):
        if "core.compiling import" in path.read_text("utf-8") and "kernel" in path.read_text("utf-8"):
            assert any(path == place or place in path.parents for place in covered) or path.parent.name == "study", path


def test_complete_is_remembered_for_this_version_only() -> None:
    assert not kernels.is_compiled()
    folder = kernels.use_cache_folder()
    assert os.environ["NUMBA_CACHE_DIR"] == str(folder)
    kernels.mark_compiled()
    assert kernels.is_compiled()


def test_old_versions_are_removed_and_recent_ones_stay(own_cache: Path) -> None:
    parent = own_cache / "kernels"
    for k in range(6):
        (parent / str(k)).mkdir(parents=True)
        os.utime(parent / str(k), (time.time() - 7200 - k,) * 2)
    (parent / "recent").mkdir()
    kernels.use_cache_folder()
    assert {p.name for p in parent.iterdir()} == {kernels.sources_digest(), "recent", "0"}


def test_a_cache_that_cannot_be_written_is_no_error(own_cache: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (own_cache / "kernels").write_text("a file where a folder should be")
    kernels.use_cache_folder()
    assert os.environ["NUMBA_CACHE_DIR"] == "unset"
    kernels.mark_compiled()
    assert not kernels.is_compiled()


def test_kernels_go_to_the_cache_folder_even_if_the_compiler_was_imported_first() -> None:
    program = ("import numba, swift_sample.core.render.tree\n"
               "from swift_sample.core.kernels import cache_root\n"
               "assert numba.config.CACHE_DIR.startswith(str(cache_root())), numba.config.CACHE_DIR")
    environment = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"}
    done = subprocess.run([sys.executable, "-c", program], env=environment, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
