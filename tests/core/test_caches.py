from pathlib import Path

import pytest

from swift_sample.core.caches import CACHES, clear_cache, list_caches
from swift_sample.core.errors import SwiftSampleError
from swift_sample.core.renderers.builtin.break_even import renders_to_pay


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("SWIFT_SAMPLE_CACHE", str(tmp_path))
    return tmp_path


def test_caches_are_listed_with_their_size_and_cleared_one_by_one(own_cache: Path) -> None:
    assert {cache.name: cache.size_bytes for cache in list_caches()} == dict.fromkeys(CACHES, 0)
    (own_cache / "textures").mkdir()
    (own_cache / "textures" / "a.npy").write_bytes(b"x" * 100)
    (own_cache / "kernels" / "one").mkdir(parents=True)
    (own_cache / "kernels" / "one" / "b").write_bytes(b"y" * 7)
    found = {cache.name: (cache.files, cache.size_bytes) for cache in list_caches()}
    assert found == {**dict.fromkeys(CACHES, (0, 0)), "textures": (1, 100), "kernels": (1, 7)}
    assert clear_cache("textures") == 100
    assert clear_cache("textures") == 0
    assert {cache.name: cache.size_bytes for cache in list_caches()} == {
        **dict.fromkeys(CACHES, 0),
        "kernels": 7,
    }


def test_a_cache_that_cannot_be_cleared_says_so(
    own_cache: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (own_cache / "textures").mkdir()

    def refuse(_: object) -> None:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr("shutil.rmtree", refuse)
    with pytest.raises(SwiftSampleError, match=r"cannot be cleared .*check permissions"):
        clear_cache("textures")


@pytest.mark.parametrize(
    ("without", "first", "later", "expected"),
    [
        (10, 10, 1, 2),
        (10, 14, 4, 2),
        (10, 16, 4, 3),
        (10, 40, 9, 32),
        (10, 10, 10, None),
        (10, 12, 11, None),
        (10, 8, 2, 2),
    ],
)
def test_when_a_cache_pays(
    without: float, first: float, later: float, expected: int | None
) -> None:
    assert renders_to_pay(without, first, later) == expected
    if expected:
        assert max(first, without) + (expected - 1) * later < expected * without
        assert max(first, without) + (expected - 2) * later >= (expected - 1) * without
