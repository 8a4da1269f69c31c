"""Plans, presets and stored studies from others: whatever is in them, they open or are refused in
one sentence."""

from pathlib import Path

import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
from swift_sample.core.settings import Configuration
from swift_sample.core.settings.presets import preset_text, read_preset
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Study
from tests.fuzzing import examples

PATH = Path("study.toml")
TEXT = plan_as_toml(demo_study())
LEAVES = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(2**70), 2**70),
    st.sampled_from([10**400, -0.0]),
    st.floats(),
    st.text(max_size=30),
)
ANYTHING = st.recursive(
    LEAVES,
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=12), inner, max_size=3)
    ),
    max_leaves=6,
)
QUICK = examples(120)


def opened(text: str) -> Study | None:
    """The plan, or None where it was refused in one sentence that names the file."""
    try:
        return plan_from_toml(text, PATH)
    except SwiftSampleError as error:
        words = one_line(error)
        assert words.startswith(str(PATH))
        assert "\n" not in words
        return None


@QUICK
@given(text=st.text(max_size=400))
def test_any_text_is_refused_as_a_plan(text: str) -> None:
    assert opened(text) is None


@QUICK
@given(place=st.floats(0, 1), cut=st.integers(0, 40), inserted=st.text(max_size=6))
def test_damaged_plans_open_or_are_refused(place: float, cut: int, inserted: str) -> None:
    at = int(place * len(TEXT))
    study = opened(TEXT[:at] + inserted + TEXT[at + cut :])
    if study is not None:
        assert plan_from_toml(plan_as_toml(study), PATH) == study


@QUICK
@given(data=st.data())
def test_any_value_anywhere_in_a_plan_opens_or_is_refused(data: st.DataObject) -> None:
    document = tomlkit.parse(TEXT).unwrap()
    place = document
    keys = []

    while isinstance(place, dict | list) and len(place) and (not keys or data.draw(st.booleans())):
        key = data.draw(
            st.sampled_from(sorted(place) if isinstance(place, dict) else range(len(place)))
        )
        keys.append((place, key))
        place = place[key]

    holder, key = keys[-1]
    holder[key] = data.draw(ANYTHING)

    try:
        text = tomlkit.dumps(document)
    except (ValueError, TypeError):
        return  # such a value cannot stand in a file

    study = opened(text)
    if study is not None:
        assert len(study.planned()) >= 1


@QUICK
@given(
    values=st.dictionaries(
        st.one_of(st.sampled_from(sorted(CATALOGUE)), st.text(max_size=10)), LEAVES, max_size=4
    )
)
def test_presets_are_read_whole_or_refused(values: dict, tmp_path: Path) -> None:
    path = tmp_path / "p.toml"
    try:
        path.write_text(
            tomlkit.dumps({"settings": {k: v for k, v in values.items() if v is not None}}),
            encoding="utf-8",
        )
    except (ValueError, TypeError):
        return

    try:
        found = read_preset(path, CATALOGUE)
    except SwiftSampleError as error:
        assert str(path) in one_line(error)
        return

    assert isinstance(found, Configuration)
    path.write_text(preset_text(found), encoding="utf-8")
    assert read_preset(path, CATALOGUE) == found
