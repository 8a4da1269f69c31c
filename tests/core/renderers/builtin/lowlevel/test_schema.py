"""Nothing but what was declared gets into the records that kernels read by address."""

import gc
import os
import subprocess
import sys
import weakref
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.picture.exr import read_exr
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.film.recording import RecordedSums, RecordingPlan
from swift_sample.core.renderers.builtin.lowlevel.records import HAZE, JOB, PATH, SCENE, TREE
from swift_sample.core.renderers.builtin.lowlevel.schema import (
    Records,
    Schema,
    address_of,
    array,
    field,
)
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.renderers.builtin.rendering.sampling import Sampling
from swift_sample.core.renderers.builtin.tables.surfaces import TextureChoices
from swift_sample.core.scene.open import open_scene

PLAIN = Schema(
    "film",
    array("half", "f4", "h w 3"),
    array("guides", "f4", "h w 7", optional=True),
    field("h", "i8"),
)


@pytest.mark.parametrize(
    ("name", "value", "words"),
    [
        ("half", np.zeros((4, 6, 3)), "film.half: float64 where float32 is needed"),
        (
            "half",
            np.zeros((4, 6, 2), np.float32),
            "film.half: 4 x 6 x 2 where h 4 x w 6 x 3 is needed",
        ),
        (
            "half",
            np.zeros((4, 5, 3), np.float32),
            "film.half: 4 x 5 x 3 where h 4 x w 6 x 3 is needed",
        ),
        ("half", np.zeros((24, 3), np.float32), "film.half: 24 x 3 where h 4 x w 6 x 3 is needed"),
        (
            "half",
            np.zeros((4, 6, 3, 1), np.float32),
            "film.half: 4 x 6 x 3 x 1 where h 4 x w 6 x 3 is needed",
        ),
        (
            "half",
            np.zeros((4, 6, 6), np.float32)[..., ::2],
            "film.half: the array is not contiguous",
        ),
        (
            "half",
            np.zeros((4, 6, 3), ">f4"),
            "film.half: float32 in another byte order where float32 is needed",
        ),
        ("half", None, "film.half: needs an array"),
        ("half", np.zeros((0, 6, 3), np.float32), "film.half: needs an array"),
        ("h", np.zeros(3, np.int64), "film.h: holds a value, not the address of an array"),
    ],
)
def test_what_was_not_declared_is_refused_with_its_name(
    name: str, value: np.ndarray | None, words: str
) -> None:
    made = Records(PLAIN, h=4, w=6)
    with pytest.raises(ValueError, match=words.replace(".", r"\.")):
        made.bind(name, value)


def test_arrays_of_one_record_agree_and_a_refused_one_decides_nothing() -> None:
    made = Records(PLAIN)
    with pytest.raises(ValueError, match="guides: 9 x 9 x 8 where h x w x 7"):
        made.bind("guides", np.zeros((9, 9, 8), np.float32))

    made.bind("half", np.zeros((4, 6, 3), np.float32))
    with pytest.raises(ValueError, match="guides: 4 x 5 x 7 where h 4 x w 6 x 7"):
        made.bind("guides", np.zeros((4, 5, 7), np.float32))


def test_arrays_live_as_long_as_the_record_and_no_longer() -> None:
    made = Records(PLAIN)
    half = np.zeros((4, 6, 3), np.float32)
    made.bind("half", half)
    alive = weakref.ref(half)
    assert made.records[0]["half"] == address_of(half)
    del half
    gc.collect()
    assert alive() is made.array("half")
    del made
    gc.collect()
    assert alive() is None


def test_a_record_is_not_used_before_all_of_it_is_bound() -> None:
    made = Records(PLAIN)
    with pytest.raises(ValueError, match=r"film\.half: no array was bound"):
        _ = made.address

    made.bind("half", np.zeros((4, 6, 3), np.float32))
    assert made.address == address_of(made.records)


def test_a_render_binds_every_array_that_its_records_declare() -> None:
    """With haze, prepared textures, light passes and their halves, and a recording, nothing
    optional is left out but what the scene lacks."""
    built = build_scene(open_scene("honey-stall-small"), Stopwatch(), None, TextureChoices(True))
    configuration = configured(
        {"denoise.method": "wavelet", "denoise.per_pass": True, "samples.noise_threshold": 0.1}
    )
    clamped = configuration.replace({"light.clamp_indirect": 1.0})
    plan = RecordingPlan.of(configuration, [clamped])
    recorded = RecordedSums(plan, 9, 16)
    sampling = Sampling(built, configuration, (16, 9), 1, View(), recorded=recorded)
    sampling.run()
    scene = built.compiled.record

    for made in (
        scene,
        scene._bound[0, "trees"],
        scene._bound[0, "haze"],
        sampling._job,
        sampling._paths,
    ):
        for name, declared in made.schema.fields.items():
            if declared.sizes is not None and f"{made.schema.name}.{name}" not in (
                "job.light_cells",
                "scene.second_uvs",
            ):
                assert made.array(name) is not None, f"{made.schema.name}.{name}"

    assert {made.schema for made in (scene, sampling._job, sampling._paths)} == {SCENE, JOB, PATH}
    assert {scene._bound[0, "trees"].schema, scene._bound[0, "haze"].schema} == {TREE, HAZE}


OUTSIDE = """
import numpy as np
from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.renderers.builtin.lowlevel import memory, schema
from swift_sample.core.renderers.builtin.lowlevel.records import TREE, tree_at

@kernel
def read(address, index):
    return memory.f32_at(address, index)

@kernel
def write(address, index):
    memory.put_f32(address, index, np.float32(7))
    return memory.f32_at(address, index)

@kernel
def moving(address, index):
    return tree_at(address, index).moving

own, other = np.arange(10, dtype=np.float32), np.zeros(5, TREE.dtype)
address = schema.address_of(own)
assert read(address, 9) == 9 and moving(schema.address_of(other), 4) == 0 and write(address, 9) == 7
schema.check_outside()
for work in (lambda: read(address, 10), lambda: read(address, -1), lambda: write(address, 10),
             lambda: read(8, 0), lambda: moving(schema.address_of(other), 5)):
    work()
    try:
        schema.check_outside()
    except IndexError as error:
        assert "outside every array" in str(error)
    else:
        raise SystemExit("was not noticed")
del own
assert read(address, 0) is not None
try:
    schema.check_outside()
except IndexError:
    print("all noticed")
"""


def checked(*command: str) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "SWIFT_SAMPLE_CHECKED": "1"}
    return subprocess.run(
        [sys.executable, *command], env=environment, capture_output=True, text=True, timeout=600
    )


def test_checked_kernels_notice_what_lies_outside(tmp_path: Path) -> None:
    (tmp_path / "outside.py").write_text(OUTSIDE)
    done = checked(str(tmp_path / "outside.py"))
    assert done.stdout == "all noticed\n", done.stderr


def test_the_demo_renders_the_same_with_every_access_checked(tmp_path: Path) -> None:
    settings = [
        "--set",
        "samples.max=4",
        "--set",
        "textures.prepared=true",
        "--set",
        "geometry.subdivision=1",
    ]
    pictures = []

    for run in (
        checked,
        lambda *command: subprocess.run([sys.executable, *command], capture_output=True, text=True),
    ):
        path = tmp_path / f"{len(pictures)}.exr"
        done = run(
            "-m",
            "swift_sample.cli",
            "render",
            "honey-stall",
            "-o",
            str(path),
            "--size",
            "32x18",
            *settings,
        )
        assert done.returncode == 0, done.stderr
        pictures.append(read_exr(path))

    assert np.array_equal(pictures[0].beauty, pictures[1].beauty)
