"""Configurations of catalogues that grow."""

from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.settings import Setting
from swift_sample.core.study.log.identity import trial_identity


def test_configurations_are_equal_by_what_they_set() -> None:
    """U7: features of a scene were listed, the catalogue grew from 41 to 46 settings, and nothing
    that was measured before was found again."""
    plain = configured({"samples.max": 32})
    feature = Setting(
        key="scene.wood.bump",
        group="Materials",
        label="wood: bump",
        help="",
        kind="choice",
        default="as it is",
        suggested=("as it is", "off"),
        values=("as it is", "off"),
        of_scene=True,
    )
    grown = plain.on(CATALOGUE.with_scene([feature]))
    assert len(grown) == len(plain) + 1
    assert grown == plain
    assert hash(grown) == hash(plain)
    assert {plain: "measured"}.get(grown) == "measured"
    assert {grown.effective(): "measured"}.get(plain.effective()) == "measured"
    assert trial_identity(grown) == trial_identity(plain)
    off = grown.replace({"scene.wood.bump": "off"})
    assert off != plain
    assert off != grown
    assert trial_identity(off) != trial_identity(plain)
