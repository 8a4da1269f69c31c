from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import SceneError
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.rendering.building import Stopwatch, build_scene
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.renderers.builtin.tables import pyramids
from swift_sample.core.renderers.builtin.tables.pyramids import (
    TILE,
    kept_levels,
    levels_of,
    prepared,
    pyramid,
)
from swift_sample.core.renderers.builtin.tables.surfaces import TextureChoices
from swift_sample.core.scene.honey_stall import honey_stall
from swift_sample.core.scene.model import (
    Camera,
    Material,
    Mesh,
    Scene,
    Texture,
    TextureUse,
    repeated,
)
from tests.core.renderers.builtin.kernels.scenes import checker, quad, sky


@pytest.fixture(autouse=True)
def own_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(pyramids, "prepared_folder", lambda: tmp_path / "textures")
    return tmp_path / "textures"


def noisy(width: int, height: int, srgb: bool = True) -> Texture:
    return Texture(
        "noise", np.random.default_rng(3).integers(0, 256, (height, width, 4), np.uint8), srgb
    )


def take(scene: Scene, size: tuple[int, int] = (48, 32), **settings: object):
    configuration = configured(
        {"samples.max": 8, **{key.replace("__", "."): value for key, value in settings.items()}}
    )
    kept = TextureChoices(
        bool(configuration["textures.prepared"]), int(configuration["textures.max_size"])
    )
    built = build_scene(scene, Stopwatch(), None, kept)
    return render(built, configuration, size, 1, View(), Stopwatch())


def mapped_quad(name: str, corners: list[tuple[float, float, float]]) -> Mesh:
    """A square that shows a whole texture once."""
    mesh = quad(name, 0, corners)
    mesh.uvs = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    return mesh


def floor_with(texture: Texture, times: float = 4.0) -> Scene:
    floor = mapped_quad("floor", [(-20, 0, 20), (20, 0, 20), (20, 0, -20), (-20, 0, -20)])
    return Scene(
        name="floor",
        meshes=[floor],
        materials=[Material(name="floor", textures={"base": repeated(texture, times, times)})],
        camera=Camera(position=(0, 1, 6), target=(0, 0, 0)),
        environment=sky(1.0),
    )


@pytest.mark.parametrize(("width", "height"), [(64, 64), (100, 37), (1, 1), (5, 300)])
def test_levels_go_down_to_one_texel_and_fill_the_tiles(width: int, height: int) -> None:
    levels = levels_of(width, height)
    assert (levels[-1].width, levels[-1].height) == (1, 1)
    tiles = pyramid(noisy(width, height).pixels, srgb=True)
    assert tiles.shape == (levels[-1].first + levels[-1].tiles, TILE * TILE)
    finest = pyramid(noisy(width, height).pixels, srgb=True, first_level=len(levels) - 1)
    assert np.array_equal(finest[0], tiles[-1])


def test_coarser_levels_average_light_not_codes() -> None:
    squares = np.zeros((64, 64, 4), np.uint8)
    squares[::2, ::2] = squares[1::2, 1::2] = 255

    for srgb, expected in ((True, 188), (False, 128)):
        packed = pyramid(squares, srgb, first_level=1)[0].reshape(TILE, TILE)
        assert (packed & 255 == expected).all()
        assert (packed >> 24 == 128).all()

    flat = np.full((40, 24, 4), 77, np.uint8)
    assert (pyramid(flat, srgb=True)[-1, 0] & 255) == 77


def test_the_largest_size_is_kept() -> None:
    levels = levels_of(300, 200)
    assert kept_levels(levels, 0) == 0
    assert kept_levels(levels, 300) == 0
    assert kept_levels(levels, 299) == 1
    assert kept_levels(levels, 40) == 3


@pytest.mark.parametrize("memory", [1, 256])
def test_prepared_textures_show_the_same_pixels(memory: int) -> None:
    scene = floor_with(noisy(1024, 512))
    plain, _ = take(scene)
    tiled, record = take(scene, textures__prepared=True, textures__memory=memory)
    assert np.array_equal(plain.beauty, tiled.beauty)
    assert 0 < record.texture_misses < record.texture_reads


def test_little_memory_reads_tiles_again_and_again() -> None:
    scene = floor_with(noisy(2048, 2048), times=2)
    scene.camera = Camera(position=(0, 20, 0.1), target=(0, 0, 0))

    given = {
        "size": (512, 320),
        "samples__max": 2,
        "tiles__size": 8,
        "tiles__order": "scattered",
        "device__threads": 1,
        "bounces__total": 0,
        "textures__prepared": True,
    }
    _, roomy = take(scene, **given, textures__memory=256)
    _, tight = take(scene, **given, textures__memory=1)
    assert tight.texture_misses > 1.5 * roomy.texture_misses
    assert tight.memory_bytes["textures"] <= 2**20 + 4096 < roomy.memory_bytes["textures"]


def test_what_is_far_away_is_read_coarsely_and_keeps_its_brightness() -> None:
    """A black and white pattern far finer than a pixel is grey at once, from one small level."""
    scene = floor_with(checker(128), times=64)
    scene.camera = Camera(position=(0, 30, 0.1), target=(0, 0, 0))
    _, record = take(scene, textures__prepared=True, bounces__total=0)
    assert record.texture_misses <= 2 * 4
    picture, _ = take(scene, bounces__total=0, samples__max=1, samples__pixel_filter="box")
    middle = picture.beauty[8:24, 12:36, 0]
    grey = floor_with(Texture("grey", np.full((1, 1, 4), 188, np.uint8)))
    grey.camera = scene.camera
    expected = take(grey, bounces__total=0, samples__max=1, samples__pixel_filter="box")[0].beauty[
        8:24, 12:36, 0
    ]
    assert middle.mean() == pytest.approx(expected.mean(), rel=0.03)
    assert middle.std() < 1.1 * expected.std()


def test_smaller_textures_take_less_memory_and_soften_the_picture() -> None:
    scene = floor_with(noisy(512, 512), times=1)
    full, record = take(scene)
    small, less = take(scene, textures__max_size=16)
    assert less.memory_bytes["textures"] < record.memory_bytes["textures"] / 50
    assert small.beauty[16:].std() < 0.7 * full.beauty[16:].std()
    tiled, _ = take(scene, textures__max_size=16, textures__prepared=True)
    assert np.array_equal(small.beauty, tiled.beauty)


def test_nearest_textures_stay_sharp_and_may_be_prepared() -> None:
    texture = noisy(64, 64)
    texture.nearest = True
    scene = floor_with(texture, times=1)
    assert np.array_equal(take(scene)[0].beauty, take(scene, textures__prepared=True)[0].beauty)


def test_a_prepared_texture_is_made_once_and_again_when_it_changes_or_is_damaged(
    own_folder: Path,
) -> None:
    first = noisy(80, 60)
    tiles = np.array(prepared(first))
    (path,) = own_folder.iterdir()
    stamp = path.stat().st_mtime_ns
    prepared(noisy(80, 60))
    assert path.stat().st_mtime_ns == stamp
    prepared(Texture("other", 255 - first.pixels))
    assert len(list(own_folder.iterdir())) == 2
    path.write_bytes(path.read_bytes()[:500])
    assert np.array_equal(prepared(first), tiles)
    path.write_bytes(b"rubbish")
    assert np.array_equal(prepared(first), tiles)


def test_a_folder_that_cannot_be_written_is_one_sentence(own_folder: Path) -> None:
    own_folder.write_text("a file where a folder should be")
    with pytest.raises(SceneError, match=r"prepared textures cannot be written.*--clear textures"):
        prepared(noisy(8, 8))


def test_the_stall_is_the_same_with_prepared_textures() -> None:
    scene = honey_stall("small")
    assert np.array_equal(
        take(scene)[0].beauty, take(scene, textures__prepared=True, textures__memory=1)[0].beauty
    )


def test_cutouts_keep_their_holes_at_any_distance() -> None:
    """Small holes let through their share of light, however little of the texture a pixel
    covers."""
    holes = checker(64, opacity=True)
    lid = Material(
        name="lid",
        base_colour=(0, 0, 0),
        specular=0.0,
        opacity_mode="mask",
        textures={"base": TextureUse(holes)},
    )

    scene = Scene(
        name="lid",
        meshes=[mapped_quad("lid", [(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0)])],
        materials=[lid],
        camera=Camera(position=(0, 0, 300), target=(0, 0, 0), vertical_field=0.004),
        environment=sky(1.0),
    )
    assert take(scene, samples__max=128)[0].beauty[8:24, 16:32].mean() == pytest.approx(
        0.5, abs=0.02
    )
