from dataclasses import replace

import pytest

from swift_sample.core.errors import SettingError
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.settings import Catalogue, Configuration, Opening
from swift_sample.core.settings.setting import KEEPS_SCENE, SAMPLES


@pytest.mark.parametrize("declared", CATALOGUE.values(), ids=lambda s: s.key)
def test_declarations_are_consistent(declared) -> None:
    assert declared.help.endswith(".")
    for value in (declared.default, *declared.suggested):
        assert declared.check(value) == value
        assert (
            declared.parse(
                {True: "true", False: "false"}.get(value, str(value))
                if isinstance(value, bool)
                else str(value)
            )
            == value
        )

    if declared.neutral_when is not None:
        key, values = declared.neutral_when
        assert all(CATALOGUE[key].check(value) == value for value in values)


@pytest.mark.parametrize(
    ("key", "text", "expected"),
    [
        ("samples.max", "0", "a whole number from 1 to 65536"),
        ("samples.max", "2.5", "a whole number from 1 to 65536"),
        ("samples.max", "many", "a whole number"),
        ("samples.noise_threshold", "nan", "a number from 0.0001 to 1, or 0 for off"),
        ("denoise.strength", "inf", "a number from 0 to 1"),
        ("denoise.method", "magic", "one of none, wavelet"),
        ("scene.keep_built", "1", "true or false"),
    ],
)
def test_bad_values_name_key_value_and_what_is_allowed(key: str, text: str, expected: str) -> None:
    with pytest.raises(SettingError, match=f"{key}=.*: expected {expected}"):
        CATALOGUE.setting(key).parse(text)


def test_unknown_key_names_the_nearest() -> None:
    with pytest.raises(
        SettingError, match=r"unknown setting samples\.maxx; did you mean samples\.max\?"
    ):
        configured({"samples.maxx": 4})


def test_zero_switches_off_what_can_be_off() -> None:
    assert CATALOGUE.setting("light.clamp_indirect").parse("0") == 0
    assert CATALOGUE.setting("samples.noise_threshold").show(0.0) == "off"
    with pytest.raises(SettingError):
        CATALOGUE.setting("tiles.size").parse("0")


def test_configurations_compare_by_value() -> None:
    one = configured({"samples.max": 64})
    other = configured({"samples.max": 64.0})
    assert one == other
    assert hash(one) == hash(other)
    assert one.identity_values() == other.identity_values()
    assert one.replace({"samples.max": 65}).identity_values() != one.identity_values()
    assert len(one) == len(CATALOGUE)


def test_minus_zero_is_zero_and_endless_numbers_are_refused() -> None:
    assert configured({"light.clamp_direct": -0.0}) == configured({"light.clamp_direct": 0})
    assert (
        configured({"light.clamp_direct": -0.0}).identity_values() == configured().identity_values()
    )

    for value in (10**400, float("inf"), float("nan")):
        with pytest.raises(SettingError, match=r"light\.clamp_direct="):
            configured({"light.clamp_direct": value})


def test_differences_are_in_catalogue_order() -> None:
    base = configured()
    changed = base.replace({"scene.keep_built": True, "samples.max": 3})
    assert list(changed.differences(base).items()) == [
        ("samples.max", 3),
        ("scene.keep_built", True),
    ]


def test_settings_without_effect_do_not_make_another_picture() -> None:
    base = configured({"denoise.method": "none"})
    assert base.replace({"denoise.strength": 0.4}).effective() == base.effective()
    smooth = base.replace({"denoise.method": "wavelet"})
    assert smooth.replace({"denoise.strength": 0.4}).effective() != smooth.effective()


def test_describe_tells_what_differs() -> None:
    base = configured()
    trial = base.replace(
        {
            "samples.max": 64,
            "denoise.method": "wavelet",
            "denoise.strength": 0.6,
            "scene.keep_built": True,
        }
    )
    assert trial.describe(base) == "64 samples · wavelet 0.6 · scene kept"
    assert base.describe(base) == "same as base"


def test_identities_name_what_has_an_effect_and_come_back() -> None:
    base = configured(
        {
            "samples.max": 64,
            "denoise.strength": 0.4,
            "samples.noise_threshold": 0.0,
            "samples.min": 16,
        }
    )
    threads = configured()["device.threads"]
    assert base.identity_values() == {"device.threads": threads, "samples.max": 64}, (
        "strength and least samples are idle"
    )
    smooth = base.replace({"denoise.method": "wavelet"})
    assert (
        Configuration.from_identity_values(CATALOGUE, smooth.identity_values())
        == smooth.effective()
    )


def test_another_setting_or_another_default_changes_no_identity() -> None:
    """R3: a catalogue that grows must not orphan what was measured before."""
    before = configured({"samples.max": 64}).identity_values()
    grown = Catalogue(
        CATALOGUE.name,
        [*CATALOGUE.values(), replace(CATALOGUE["light.indirect"], key="light.new_switch")],
    )
    assert Configuration(grown, {"samples.max": 64}).identity_values() == before
    assert "light.new_switch" in Configuration(grown, {"light.new_switch": False}).identity_values()
    eight = replace(CATALOGUE["bounces.total"], default=8, unnamed_value=12)
    moved = Catalogue(
        CATALOGUE.name, [eight if s.key == eight.key else s for s in CATALOGUE.values()]
    )
    assert (
        Configuration(moved, {"samples.max": 64, "bounces.total": 12}).identity_values() == before
    )
    assert Configuration(moved, {"samples.max": 64}).identity_values() == {
        **before,
        "bounces.total": 8,
    }
    assert Configuration.from_identity_values(moved, before)["bounces.total"] == 12


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        (
            {},
            {"tiles.size": 8, "tiles.order": "nearby", "device.threads": 1, "device.kind": "both"},
            True,
        ),
        ({}, {"scene.keep_built": True, "textures.prepared": True, "textures.memory": 16}, True),
        ({}, {"tiles.mode": "progressive"}, True),
        (
            {"samples.noise_threshold": 0.1},
            {"samples.noise_threshold": 0.1, "tiles.mode": "progressive"},
            False,
        ),
        ({}, {"tiles.mode": "progressive", "samples.stop_at_grain": 2.0}, False),
        ({"output.format": "exr-none"}, {"output.format": "exr-piz"}, True),
        ({}, {"output.format": "exr-dwaa"}, False),
        ({}, {"samples.max": 64}, False),
        ({}, {"denoise.strength": 0.5}, True),
    ],
)
def test_what_can_change_pixels_is_declared(one: dict, other: dict, same: bool) -> None:
    assert (configured(one).pixel_values() == configured(other).pixel_values()) == same


def test_pixels_depend_on_the_view_only_where_it_is_judged_or_delivered() -> None:
    assert not configured({"samples.stop_at_grain": 2.0}).needs_view(), "idle in tiles"
    for change in (
        {"samples.noise_threshold": 0.1},
        {"output.format": "jpeg"},
        {"tiles.mode": "progressive", "samples.stop_at_grain": 2.0},
    ):
        assert configured(change).needs_view()


def test_switches_are_read_in_any_case_and_nothing_else_is() -> None:
    declared = CATALOGUE["light.indirect"]
    assert [declared.parse(text) for text in ("true", "TRUE", " False ")] == [True, True, False]
    with pytest.raises(SettingError, match=r"light\.indirect=yes: expected true or false"):
        declared.parse("yes")


def test_a_role_that_no_setting_has_has_no_value() -> None:
    bare = Configuration(Catalogue("bare", (CATALOGUE["light.indirect"],)))
    assert bare.number_in_role(SAMPLES) is None
    assert not bare.is_on(KEEPS_SCENE)
    assert configured({"samples.max": 64}).number_in_role(SAMPLES) == 64
    assert configured({"scene.keep_built": True}).is_on(KEEPS_SCENE)


@pytest.mark.parametrize(
    ("own", "opening", "reference"),
    [
        (4, Opening(32, at_least=True), 32),
        (64, Opening(32, at_least=True), 64),
        ("stepped", Opening("exact", instead_of=("stepped",)), "exact"),
        ("off", Opening("exact", instead_of=("stepped",)), "off"),
        (2.0, Opening(0.0), 0.0),
        ("wavelet", Opening("none", at_least=True), "none"),
    ],
)
def test_what_a_reference_takes_instead(own: object, opening: Opening, reference: object) -> None:
    assert opening.applied_to(own) == reference


def test_words_of_a_configuration() -> None:
    base = configured({"samples.max": 64, "denoise.method": "wavelet", "denoise.strength": 0.6})
    assert base.describe() == "64 samples · 12 bounces · wavelet 0.6"
    assert base.replace({"samples.max": 1}).describe(base) == "1 sample"
    assert base.replace({"denoise.method": "none"}).describe(base) == "no denoising"
    assert base.replace({"denoise.strength": 0.8}).describe(base) == "wavelet 0.8"
    raw = base.replace({"denoise.method": "none"})
    assert raw.replace({"denoise.strength": 0.8}).describe(raw) == "same as base", (
        "a strength of nothing is nothing"
    )
    assert (
        base.replace({"light.indirect": False, "device.kind": "both"}).describe(base)
        == "bounced light: no · device both (simulated)"
    )

    many = base.replace(
        {
            "samples.max": 1,
            "bounces.total": 1,
            "tiles.size": 8,
            "light.indirect": False,
            "output.scale": 0.5,
            "samples.pattern": "random",
        }
    )
    assert many.describe(base, most=3) == "1 sample · 1 bounce · 4 more"
