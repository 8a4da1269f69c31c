"""A demo scene keeps its identity as long as it shows the same, and gets another one when it does
not."""

from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np
import pytest

from swift_sample.core.scene.model import Choices, PictureSource
from swift_sample.core.scene.open import DEMO_SCENES, FINGERPRINTS, open_scene, scene_fingerprint

MODELLED = {
    "honey-stall": ("8dcea53653a0377e", 358.58630, 83),
    "honey-stall-small": ("a1944dfbea52b8f8", 330.77410, 83),
    "honey-stall-heavy": ("a699b2ce13ed2da1", 416.76136, 83),
    "honey-room": ("f7f0a19da343c5be", 262.42657, 71),
    "honey-jar": ("ccc55cd8a0ab9d28", 231.39898, 63),
}
"""Fingerprint, amount and number of fields of each scene as it was when it got its fingerprint."""


def sums(part: Any, found: dict[str, float], path: str) -> None:
    """What a scene is made of in numbers: for every field the count and the sum of what stands in
    it, over all parts of a kind, so that its order does not matter."""
    if isinstance(part, PictureSource):
        sums(part.make(), found, path)
    elif is_dataclass(part):
        for field in fields(part):
            sums(getattr(part, field.name), found, f"{path}.{field.name}")
    elif isinstance(part, np.ndarray):
        found[f"{path}#"] = found.get(f"{path}#", 0.0) + part.size
        found[path] = found.get(path, 0.0) + float(np.abs(part.astype(np.float64)).sum())
    elif isinstance(part, dict):
        for key, value in part.items():
            sums(value, found, f"{path}[{key}]")
    elif isinstance(part, list | tuple):
        for value in part:
            sums(value, found, path)
    elif isinstance(part, bool | int | float):
        found[path] = found.get(path, 0.0) + float(part)
    elif isinstance(part, str):
        found[path] = found.get(path, 0.0) + sum(map(ord, part))


def amount(found: dict[str, float]) -> float:
    """Every field counts by its relative change, whatever its size."""
    return float(np.log1p(list(found.values())).sum())


@pytest.mark.parametrize("name", DEMO_SCENES)
def test_what_is_modelled_is_what_its_fingerprint_stands_for(name: str) -> None:
    found: dict[str, float] = {}
    sums(open_scene(name, Choices()), found, "")

    stored_for, total, count = MODELLED[name]
    told = "what it shows is another: give it a new fingerprint, and store these"
    assert scene_fingerprint(name) == FINGERPRINTS[name] == stored_for
    assert len(found) == count, told
    assert amount(found) == pytest.approx(total, abs=2e-4), told
