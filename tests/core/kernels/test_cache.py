import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from swift_sample.core.kernels import cache as kernels


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path))
    digest = kernels.sources_digest
    digest.cache_clear()
    yield tmp_path
    digest.cache_clear()


def test_any_change_of_a_source_leads_to_another_folder(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    core = tmp_path / "core"
    (core / "renderers" / "builtin" / "kernels").mkdir(parents=True)
    (core / "kernels").mkdir()
    (core / "renderers" / "builtin" / "kernels" / "callee.py").write_text("x = 1")
    monkeypatch.setattr(kernels, "__file__", str(core / "kernels" / "cache.py"))
    before = kernels.sources_digest()
    kernels.sources_digest.cache_clear()
    assert kernels.sources_digest() == before
    (core / "renderers" / "builtin" / "kernels" / "callee.py").write_text("x = 2")
    kernels.sources_digest.cache_clear()
    assert kernels.sources_digest() != before


def test_all_that_kernels_are_made_of_counts_as_their_source() -> None:
    core = Path(kernels.__file__).parents[1]
    covered = [core / name for name in kernels.COMPILED_FROM]

    for path in core.rglob("*.py"):
        if re.search(
            r"compiling import .*\b(kernel|row_kernel|allocating_kernel|part)\b",
            path.read_text("utf-8"),
        ):
            assert any(path == place or place in path.parents for place in covered), path


def test_complete_is_remembered_for_this_version_only(monkeypatch: pytest.MonkeyPatch) -> None:
    kernels.kernel_folder().mkdir(parents=True)
    assert not kernels.is_compiled()
    kernels.mark_compiled()
    assert kernels.is_compiled()
    monkeypatch.setattr(kernels, "sources_digest", lambda: "another")
    assert not kernels.is_compiled()


def test_old_versions_are_removed_and_recent_ones_stay(own_cache: Path) -> None:
    parent = own_cache / "kernels"
    for k in range(6):
        (parent / str(k)).mkdir(parents=True)
        os.utime(parent / str(k), (time.time() - 7200 - k,) * 2)

    (parent / "recent").mkdir()
    kernels.kernel_folder().mkdir()
    kernels.mark_compiled()
    assert {p.name for p in parent.iterdir()} == {kernels.sources_digest(), "recent", "0"}


def test_importing_leaves_no_trace(own_cache: Path) -> None:
    program = (
        "import os, sys; before = dict(os.environ)\n"
        "import swift_sample.core.errors, swift_sample.core.kernels.cache\n"
        "assert 'numba' not in sys.modules\n"
        "import swift_sample.core.renderers.builtin.denoise, "
        "swift_sample.core.renderers.builtin.rendering.render\n"
        "assert dict(os.environ) == before"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert not list(own_cache.iterdir())
