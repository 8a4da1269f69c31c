"""The built-in path tracer behind the port."""

import pytest

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.port import SceneFacts
from swift_sample.core.renderers.registry import renderer_at, renderer_named
from swift_sample.core.scene.facts import WITHOUT


def test_it_is_found_by_its_name_and_by_its_worker() -> None:
    assert renderer_named("built-in") is RENDERER is renderer_at(RENDERER.worker)


def test_facts_say_what_settings_can_act_on() -> None:
    facts = RENDERER.facts("honey-stall-small", configured(), 5)
    assert facts.choices == {"geometry.variant": ("cut-out lid", "drilled lid")}
    assert not any(facts.reason_against(setting.needs) for setting in CATALOGUE.values())
    with pytest.raises(SceneError, match=r"nowhere\.glb: no such scene"):
        RENDERER.facts("nowhere.glb", configured(), 0)


@pytest.mark.parametrize("setting", [s for s in CATALOGUE.values() if s.needs], ids=lambda s: s.key)
def test_every_need_is_a_known_feature(setting) -> None:
    assert SceneFacts(missing=WITHOUT).reason_against(setting.needs) == WITHOUT[setting.needs]


def test_values_that_contradict_one_another_are_refused_and_useless_ones_told() -> None:
    with pytest.raises(
        UsageError, match=r"samples\.min=64: expected at most samples\.max, which is 16"
    ):
        RENDERER.doubts(configured({"samples.max": 16, "samples.min": 64}))

    (doubt,) = RENDERER.doubts(configured({"device.threads": 1000}))
    assert doubt.startswith("device.threads=1000: this machine runs")
    assert not RENDERER.doubts(configured())
