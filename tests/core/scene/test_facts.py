import pytest

from swift_sample.core.scene import Camera, Choices, Material, Scene, SceneFacts, facts_of, open_scene
from swift_sample.core.scene.facts import WITHOUT
from swift_sample.core.settings import CATALOGUE
from tests.core.renderers.builtin.render.scenes import floor, sky


def test_the_stall_has_everything() -> None:
    facts = facts_of(open_scene("honey-stall-small", Choices(frame=5, shutter=0.5)))
    assert facts.features == set(WITHOUT)
    assert facts.variants == ("cut-out lid", "drilled lid")
    assert not any(facts.reason_against(setting.needs) for setting in CATALOGUE.values())


def test_a_bare_scene_has_nothing_and_each_setting_says_why() -> None:
    materials = [Material("matt"), Material("unused", transmission=1.0)]
    facts = facts_of(Scene("bare", [floor()], materials, Camera((0, 1, 3), (0, 0, 0)), sky(1.0)))
    assert facts.features == frozenset()
    assert facts.reason_against(CATALOGUE["bounces.volume"].needs) == "the scene has no haze"
    assert facts.reason_against(CATALOGUE["bounces.transmission"].needs) == "nothing in the scene lets light through"
    assert facts.reason_against(CATALOGUE["samples.max"].needs) == ""


def test_nothing_moves_in_the_first_frame_of_a_camera_at_rest() -> None:
    still = facts_of(open_scene("honey-stall-small", Choices(frame=0, shutter=0.5)))
    assert "motion" not in still.features


@pytest.mark.parametrize("setting", [s for s in CATALOGUE.values() if s.needs], ids=lambda s: s.key)
def test_every_need_is_a_known_feature(setting) -> None:
    assert setting.needs in WITHOUT
    assert SceneFacts(frozenset()).reason_against(setting.needs)
