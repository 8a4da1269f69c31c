import re
from dataclasses import replace
from pathlib import Path

import pytest

from swift_sample.core.errors import StudyError, UsageError
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.scene.staging import Staging, Viewpoint
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.file import plan_as_toml, plan_from_toml
from swift_sample.core.study.plan.model import Limits, Study, Sweep, WatchArea
from swift_sample.core.study.plan.starting import starting_study
from tests.core.study.states import only_limits

PATH = Path("study.toml")
STUDY = demo_study()


def test_the_plan_survives_its_file() -> None:
    study = demo_study()
    assert plan_from_toml(plan_as_toml(study), PATH) == study


def test_demo_has_enough_trials() -> None:
    assert 20 <= len(demo_study().planned()) <= 30


def test_one_at_a_time_changes_one_setting() -> None:
    base = configured()
    sweep = Sweep("one at a time", {"samples.max": (16, 128), "bounces.total": (4,)})
    assert [dict(c.differences(base)) for c in sweep.configurations(base)] == [
        {"samples.max": 16},
        {"bounces.total": 4},
    ]


def test_grids_try_every_combination() -> None:
    base = configured()
    sweep = Sweep("grid", {"samples.max": (16, 32), "bounces.total": (2, 4, 12)})
    assert len(sweep.configurations(base)) == 6
    huge = Sweep("grid", {"samples.max": tuple(range(1, 101)), "bounces.total": tuple(range(64))})
    with pytest.raises(UsageError, match="more than 5000 trials"):
        huge.configurations(base)


def test_settings_without_effect_are_not_measured_twice() -> None:
    study = Study(
        name="s",
        scene="honey-stall",
        base=configured(),
        sweeps=(Sweep("one at a time", {"denoise.strength": (0.2, 0.4)}),),
    )
    assert study.planned() == [study.base]


def test_editing_values_keeps_the_other_sweeps() -> None:
    study = demo_study()
    edited = study.with_values_to_try({"samples.max": (8,), "tiles.size": ()})
    assert edited.values_to_try() == {"samples.max": (8,)}
    assert edited.sweeps[1:] == study.sweeps[1:]


def test_the_reference_opens_what_limits_light_and_keeps_the_rest() -> None:
    base = configured(
        {
            "light.clamp_indirect": 1.0,
            "bounces.total": 2,
            "denoise.method": "wavelet",
            "samples.pattern": "random",
            "samples.noise_threshold": 0.1,
        }
    )
    found = Study(name="s", scene="honey-stall", base=base).reference_configuration(64)
    assert found["light.clamp_indirect"] == 0
    assert found["bounces.total"] == 32
    assert found["denoise.method"] == "none"
    assert found["samples.noise_threshold"] == 0
    assert found["samples.pattern"] == "random"


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (
            "format = 2",
            "format = 9",
            "has format 9, this version reads up to 2; open it with a newer version",
        ),
        (
            "format = 2",
            "format = 0",
            "has format 0, this version reads up to 2; expected format = 2",
        ),
        ("format = 2\n", "", "has no line that gives its format; add format = 2 at the top"),
        ("repeats = 3", "repeets = 2", "repeets: no such key; did you mean repeats?"),
        ("curve = ", "kurve = ", "view.kurve: no such key; did you mean curve?"),
        ("repeats = 3", 'repeats = "3"', "repeats=3: expected a whole number"),
        ("frame = 0", "frame = true", "frame=True: expected a whole number"),
        ('"samples.max" = 48', '"samples.max" = -48', "samples.max=-48: expected"),
        ('"samples.max" = 48', '"samples.most" = 48', "unknown setting samples.most"),
        ("size = [320, 180]", "size = [256]", "size"),
        ("size = [320, 180]", "size = [0, 135]", "expected sides"),
        ("grain = 3.8", "grain = -1.0", "limits.grain=-1"),
        ("grain = 3.8", "grain = nan", "limits.grain=nan"),
        ("grain = 3.8", "grams = 3.8", "limits.grams"),
        ('goal = "final"', 'goal = "soon"', "goal=soon"),
        ('kind = "grid"', 'kind = "ring"', "sweep kind=ring"),
        ('name = "Honey stall"', "", "name is missing; add a line with it"),
        ("repeats = 3", "repeats = [", "not a readable study"),
    ],
)
def test_bad_plans_get_one_sentence(old: str, new: str, words: str) -> None:
    text = plan_as_toml(demo_study())
    assert old in text
    with pytest.raises(StudyError, match=re.escape(words)) as caught:
        plan_from_toml(text.replace(old, new, 1), PATH)

    assert "\n" not in str(caught.value)
    assert "study.toml" in str(caught.value)


def test_limits_are_checked() -> None:
    with pytest.raises(UsageError, match="detail_kept=100"):
        Limits(detail_kept=100)
    assert Limits(grain=None).items()[0][0] == "light_shift"


def test_a_first_study_never_tries_more_than_the_base() -> None:
    study = starting_study(
        "s", "honey-stall", (64, 36), View(), configured({"samples.max": 50, "bounces.total": 6})
    )
    assert study.values_to_try()["samples.max"] == (16, 32, 50)
    assert max(study.values_to_try()["bounces.total"]) == 6
    with pytest.raises(UsageError):
        replace(study, repeats=0)


AREA = WatchArea(name="corner, left", x=2, y=3, width=10, height=8, limits=only_limits(grain=1.0))


def constrained() -> Study:
    return replace(
        demo_study(),
        areas=(AREA, WatchArea(name="jar", x=0, y=0, width=5, height=5)),
        no_worse_than_base=True,
        forbidden={"denoise.method": ("patches", "none")},
        reference_keeps=("light.caustics", "bounces.total"),
        limits=Limits(grain=3.0, seconds=4.0, memory=512.0, perceptual=1.5),
    )


def test_constraints_and_areas_survive_writing_and_reading(tmp_path: Path) -> None:
    text = plan_as_toml(constrained())
    assert plan_from_toml(text, tmp_path / "study.toml") == constrained()
    for words in ('name = "corner, left"', "no_worse_than_base = true", "keep = "):
        assert words in text


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("width = 10", "width = 999", "does not lie inside"),
        ("width = 10", "width = 0", "does not lie inside"),
        ('name = "jar"', 'name = "corner, left"', "two have one name"),
        ('name = "jar"', 'name = "a@b"', "without @"),
        ('name = "jar"', 'name = " "', "expected a name"),
        ('["light.caustics", "bounces.total"]', '["samples.max"]', "reference.keep=samples.max"),
        ('"patches", "none"', '"patches", "best"', "denoise.method=best"),
        ("seconds = 4.0", "seconds = -4.0", "limits.seconds=-4"),
        ("memory = 512.0", 'memory = "much"', "limits.memory=much"),
        ("grain = 1.0", "grams = 1.0", "area.limits.grams"),
    ],
)
def test_nonsense_in_constraints_is_named(tmp_path: Path, old: str, new: str, words: str) -> None:
    text = plan_as_toml(constrained())
    assert old in text
    with pytest.raises(StudyError, match=re.escape(words)):
        plan_from_toml(text.replace(old, new), tmp_path / "study.toml")


def test_the_reference_keeps_what_is_a_look() -> None:
    base = configured(
        {
            "light.caustics": "none",
            "bounces.total": 4,
            "light.clamp_indirect": 2.0,
            "textures.max_size": 256,
            "device.kind": "accelerator",
            "output.scale": 0.5,
        }
    )
    study = Study(name="s", scene="honey-stall", base=base)
    opened = study.reference_configuration(64)
    assert (opened["light.caustics"], opened["bounces.total"], opened["light.clamp_indirect"]) == (
        "all",
        32,
        0.0,
    )
    assert (opened["textures.max_size"], opened["device.kind"], opened["output.scale"]) == (
        0,
        "processor",
        1.0,
    )
    kept = replace(
        study, reference_keeps=("light.caustics", "bounces.total")
    ).reference_configuration(64)
    assert (kept["light.caustics"], kept["bounces.total"], kept["light.clamp_indirect"]) == (
        "none",
        4,
        0.0,
    )
    stepped = replace(
        study, base=base.replace({"volume.scattering": "stepped"})
    ).reference_configuration(1)
    assert stepped["volume.scattering"] == "exact"
    without = replace(
        study, base=base.replace({"volume.scattering": "off"})
    ).reference_configuration(1)
    assert without["volume.scattering"] == "off"


def test_grids_combine_what_is_tried_with_the_base_value() -> None:
    study = STUDY.without_sweep(STUDY.grids()[0])
    assert study.grids() == ()
    wider = study.with_grid(["bounces.total", "light.clamp_indirect"])
    assert wider.grids()[0].values == {
        "bounces.total": (12, 2, 4, 6, 8),
        "light.clamp_indirect": (0.0, 2.0),
    }
    assert len(wider.planned()) == len(study.planned()) + 4
    assert plan_from_toml(plan_as_toml(wider), Path("x")) == wider

    for keys in (
        [],
        ["bounces.total"],
        ["bounces.total", "bounces.total"],
        ["bounces.total", "samples.min"],
    ):
        with pytest.raises(UsageError, match="two or more settings"):
            study.with_grid(keys)


def test_values_are_forbidden_once_and_allowed_again() -> None:
    study = (
        STUDY.forbidding("samples.max", 16)
        .forbidding("samples.max", 16)
        .forbidding("denoise.method", "patches")
    )
    assert study.forbidden == {"samples.max": (16,), "denoise.method": ("patches",)}
    assert study.forbidding("samples.max", 16, False).forbidden == {"denoise.method": ("patches",)}
    with pytest.raises(UsageError):
        STUDY.forbidding("samples.max", -1)


def test_edits_of_areas_and_reference_touch_nothing_else() -> None:
    first = WatchArea(name="jar", x=0, y=0, width=20, height=20)
    second = WatchArea(name="cloth", x=30, y=30, width=20, height=20)
    study = replace(STUDY, areas=(first, second))
    renamed = replace(first, name="lid")
    assert study.with_area(first, renamed).areas == (renamed, second)
    assert study.with_area(second, None).areas == (first,)
    keeping = study.reference_keeping("light.caustics", True).reference_keeping(
        "light.caustics", True
    )
    assert keeping.reference_keeps == ("light.caustics",)
    assert keeping.reference_keeping("light.caustics", False) == study


def test_a_dragged_line_becomes_limits() -> None:
    own = only_limits(grain=3.0, detail_kept=90.0)
    study = replace(
        STUDY,
        areas=(
            WatchArea(name="jar", x=0, y=0, width=20, height=20, limits=own),
            WatchArea(name="lid", x=0, y=0, width=9, height=9),
        ),
        no_worse_than_base=True,
    )
    moved = study.accepting(
        only_limits(grain=2.0, light_shift=1.0, detail_kept=95.0, stray_pixels=20.0, seconds=5.0),
        1.5,
    )
    assert moved.limits == only_limits(
        grain=3.0, light_shift=1.5, detail_kept=92.5, stray_pixels=30.0, seconds=7.5
    )
    assert moved.areas[0].limits == only_limits(grain=4.5, detail_kept=85.0)
    assert moved.areas[1].limits is None
    assert not moved.no_worse_than_base


@pytest.mark.parametrize("text", ["", "  \n\n"])
def test_an_empty_plan_is_told_as_such(text: str) -> None:
    with pytest.raises(StudyError, match=r"study\.toml: is empty; restore it"):
        plan_from_toml(text, PATH)


def test_places_of_files_move_with_the_study(tmp_path: Path) -> None:
    """A study and its scene in one folder can be moved together; demo scenes, colours and other
    disks stay as they are."""
    study = replace(
        STUDY,
        scene=str(tmp_path / "scenes" / "stall.glb"),
        staging=Staging(str(tmp_path / "sky.exr")),
    )
    text = plan_as_toml(study, tmp_path / "a.study")
    assert 'scene = "../scenes/stall.glb"' in text
    assert plan_from_toml(text, tmp_path / "a.study" / "study.toml") == study
    moved = plan_from_toml(text, tmp_path / "moved" / "a.study" / "study.toml")
    assert moved.scene == str(tmp_path / "moved" / "scenes" / "stall.glb")
    assert moved.staging.environment == str(tmp_path / "moved" / "sky.exr")

    for scene, light in (("honey-stall", "0.5,0.5,1"), ("/stall.glb", None)):
        other = replace(STUDY, scene=scene, staging=Staging(light))
        assert plan_from_toml(plan_as_toml(other, tmp_path), tmp_path / "study.toml") == other


def test_bases_are_kept_by_name() -> None:
    other = STUDY.base.replace({"samples.max": 5})
    study = STUDY.with_base_kept("quick", other)
    assert plan_from_toml(plan_as_toml(study), PATH) == study
    used = study.with_base_of("quick")
    assert used.base == other
    assert used.base_name == "quick"
    assert used.bases["before"] == STUDY.base, "today's settings are not lost"
    assert used.with_base_of("before").with_base_kept("before", None).bases == {"quick": other}
    with pytest.raises(UsageError, match="base slow: no such name; there are quick"):
        study.with_base_of("slow")

    with pytest.raises(UsageError, match="expected a name of 1 to 60 letters"):
        study.with_base_kept(" ", other)


def test_light_and_camera_in_place_of_the_scenes_own_are_kept() -> None:
    hand = Viewpoint((1.0, 2.0, 3.5), (0.0, 0.5, 0.0), 35.0)
    for staging in (
        Staging("0.5,0.5,1", 2.0, -30.0),
        Staging(camera="close-up"),
        Staging(camera="a", viewpoint=hand),
    ):
        study = replace(STUDY, staging=staging)
        assert plan_from_toml(plan_as_toml(study), PATH) == study

    for text, words in (
        ("[camera]\nposition = [0, 1]\ntarget = [0, 0, 0]", "camera.position=.*three numbers"),
        ("[camera]\nposition = [0, 1, 0]\ntarget = [0, 1, 0]", "are the same; move one"),
        ("[light]\nstrength = -1", "light.strength=-1: expected 0 to"),
        ("[light]\nturns = 3", "did you mean turn"),
    ):
        with pytest.raises(StudyError, match=words):
            plan_from_toml(plan_as_toml(STUDY) + "\n" + text, PATH)


def test_a_plan_of_the_first_format_opens() -> None:
    text = plan_as_toml(replace(STUDY, scene="/somewhere/stall.glb")).replace(
        "format = 2", "format = 1"
    )
    assert plan_from_toml(text, PATH).scene == "/somewhere/stall.glb"


def test_sweeps_of_far_too_many_values_are_refused_before_they_are_made(tmp_path: Path) -> None:
    values = ", ".join(str(1 + k) for k in range(60_000))
    text = (
        'format = 2\nname = "a"\nscene = "honey-stall-small"\nsize = [64, 36]\n'
        f'[[sweep]]\nkind = "one at a time"\n[sweep.values]\n"samples.max" = [{values}]\n'
    )

    plan = plan_from_toml(text, tmp_path / "study.toml")
    with pytest.raises(UsageError, match="more than 5000 values"):
        plan.planned()


@pytest.mark.parametrize("size", [(64, 36), (16, 9), (3, 2), (1, 1)])
def test_watch_areas_stay_where_they_are_in_the_picture(size: tuple[int, int]) -> None:
    study = replace(
        STUDY,
        size=(320, 180),
        areas=(
            WatchArea(name="rim", x=300, y=160, width=20, height=20),
            WatchArea(name="lid", x=0, y=0, width=32, height=18),
        ),
    )
    rim, lid = study.with_size(size).areas
    assert rim.x + rim.width == size[0]
    assert rim.y + rim.height == size[1]
    assert (lid.x, lid.y) == (0, 0)
    assert min(lid.width, lid.height, rim.width, rim.height) >= 1
