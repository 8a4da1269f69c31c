import base64
import json
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from swift_sample.core.errors import SceneError, one_line
from swift_sample.core.scene.environment import environment_fingerprint, parse_environment
from swift_sample.core.scene.extras import SceneExtras
from swift_sample.core.scene.gltf import FRAME_MARGIN, read_gltf
from swift_sample.core.scene.model import Choices
from swift_sample.core.scene.open import open_scene, scene_fingerprint
from swift_sample.core.scene.refine import refined
from tests.core.scene import gltf_maker
from tests.core.scene.gltf_maker import GltfMaker
from tests.fuzzing import examples

POSITIONS = gltf_maker.SQUARE
ORDER = gltf_maker.ORDER


def document(**changes: object) -> dict:
    made = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0, 1]}],
        "nodes": [{"mesh": 0, "translation": [0, 0, -2]}, {"camera": 0, "translation": [0, 0, 3]}],
        "cameras": [{"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}}],
        "meshes": [
            {
                "name": "square",
                "primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "material": 0}],
            }
        ],
        "materials": [
            {
                "name": "red",
                "pbrMetallicRoughness": {"baseColorFactor": [1, 0, 0, 1], "metallicFactor": 0},
            }
        ],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 6, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteLength": 48},
            {"buffer": 0, "byteOffset": 48, "byteLength": 12},
        ],
        "buffers": [{"byteLength": 60}],
    }
    return {**made, **changes}


def glb(content: dict, binary: bytes = POSITIONS.tobytes() + ORDER.tobytes()) -> bytes:
    return gltf_maker.glb(content, binary)


def save(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path


def test_reads_meshes_nodes_camera_and_material(tmp_path: Path) -> None:
    scene = open_scene(str(save(tmp_path / "a.glb", glb(document()))))
    (mesh,) = scene.meshes
    assert mesh.positions == pytest.approx(POSITIONS + [0, 0, -2])
    assert mesh.corners.tolist() == [[0, 1, 2], [0, 2, 3]]
    assert scene.materials[mesh.material].base_colour == (1, 0, 0)
    assert scene.camera.position == (0, 0, 3)
    assert scene.camera.vertical_field == 0.8
    assert scene.notes == ["No light in the file: a soft grey sky was added."]


@pytest.mark.parametrize("how", ["data", "file"])
def test_reads_text_files_with_their_buffers(tmp_path: Path, how: str) -> None:
    data = POSITIONS.tobytes() + ORDER.tobytes()
    uri = (
        "mesh.bin"
        if how == "file"
        else "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    )
    (tmp_path / "mesh.bin").write_bytes(data)
    path = save(
        tmp_path / "a.gltf", json.dumps(document(buffers=[{"byteLength": 60, "uri": uri}])).encode()
    )
    assert read_gltf(path).triangle_count == 2


@pytest.mark.parametrize(
    ("mode", "expected"), [(5, [[0, 1, 2], [1, 3, 2]]), (6, [[1, 2, 0], [2, 3, 0]])]
)
def test_strips_and_fans(tmp_path: Path, mode: int, expected: list) -> None:
    content = document(meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "mode": mode}]}])
    scene = read_gltf(save(tmp_path / "a.glb", glb(content)))
    assert scene.meshes[0].corners.tolist() == expected


def test_rotation_scale_and_mirroring(tmp_path: Path) -> None:
    half = 0.5**0.5
    nodes = [{"mesh": 0, "rotation": [0, half, 0, half], "scale": [2, 3, -1]}]
    scene = read_gltf(save(tmp_path / "a.glb", glb(document(nodes=nodes, scenes=[{"nodes": [0]}]))))
    # A quarter turn around +Y takes +X to -Z; the mirroring turns the corners' order round.
    assert scene.meshes[0].positions[2] == pytest.approx([0, 3, -2], abs=1e-6)
    assert scene.meshes[0].corners.tolist() == [[2, 1, 0], [3, 2, 0]]
    assert any("camera" in note for note in scene.notes)


def test_extensions_that_are_read(tmp_path: Path) -> None:
    materials = [
        {
            "emissiveFactor": [1, 0.5, 0],
            "extensions": {
                "KHR_materials_emissive_strength": {"emissiveStrength": 10},
                "KHR_materials_ior": {"ior": 1.4},
                "KHR_materials_transmission": {"transmissionFactor": 1},
                "KHR_materials_volume": {
                    "thicknessFactor": 1,
                    "attenuationDistance": 0.5,
                    "attenuationColor": [1, 0.5, 0.25],
                },
            },
        }
    ]
    scene = read_gltf(save(tmp_path / "a.glb", glb(document(materials=materials))))
    material = scene.materials[0]
    assert material.emission == (10, 5, 0)
    assert (material.ior, material.transmission, material.thin) == (1.4, 1, False)
    assert np.exp(-0.5 * np.array(material.absorption)) == pytest.approx([1, 0.5, 0.25])


@pytest.mark.parametrize(
    "scale", [[1, 1, 1], [50, 0.01, 1], [0.01, 0.01, 80], [1, 40, 1], [30, 1, 30]]
)
def test_a_placed_camera_sees_everything_with_a_margin_and_is_near(
    tmp_path: Path, scale: list[float]
) -> None:
    scene = read_gltf(
        save(
            tmp_path / "a.glb",
            glb(document(nodes=[{"mesh": 0, "scale": scale}], scenes=[{"nodes": [0]}])),
        )
    )
    camera = scene.camera
    points = np.concatenate([mesh.positions for mesh in scene.meshes])
    position = np.array(camera.position)
    ahead = np.subtract(camera.target, camera.position)
    ahead /= np.linalg.norm(ahead)
    right = np.cross(ahead, camera.up)
    right /= np.linalg.norm(right)
    low, high = points.min(axis=0), points.max(axis=0)
    corners = (
        np.array(
            [
                (x, y, z)
                for x in (low[0], high[0])
                for y in (low[1], high[1])
                for z in (low[2], high[2])
            ]
        )
        - position
    )
    depth = corners @ ahead
    half = np.tan(camera.vertical_field / 2)
    reach = np.maximum(abs(corners @ right), abs(corners @ np.cross(right, ahead))) / (depth * half)
    assert (depth > 0).all()
    assert reach.max() == pytest.approx(1 - FRAME_MARGIN, rel=1e-3)


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (document(asset={"version": "1.0"}), "version 1.0 is not read"),
        (
            document(extensionsRequired=["KHR_draco_mesh_compression"]),
            "needs the extension KHR_draco_mesh_compression",
        ),
        (
            document(nodes=[{"children": [0]}], scenes=[{"nodes": [0]}]),
            "node 0 has more than one parent",
        ),
        (
            document(
                nodes=[{"children": [1]}, {"children": [2]}, {"children": [1]}],
                scenes=[{"nodes": [0]}],
            ),
            "node 1 has more",
        ),
        (
            document(
                nodes=[{"children": [2]}, {"children": [2]}, {"mesh": 0}],
                scenes=[{"nodes": [0, 1]}],
            ),
            "node 2 has more",
        ),
        (
            document(
                nodes=[*({"children": [k + 1] * 2} for k in range(60)), {"mesh": 0}],
                scenes=[{"nodes": [0]}],
            ),
            "node 1 has more than one parent",
        ),
        (document(nodes=[{"mesh": 0, "scale": [float("nan"), 1, 1]}]), r"nodes\.0\.scale\.0"),
        (document(nodes=[{"mesh": 9}], scenes=[{"nodes": [0]}]), "damaged"),
        (document(meshes=[]), "damaged"),
        (document(buffers=[{"byteLength": 6000}]), "cut off"),
        (
            document(buffers=[{"byteLength": 60, "uri": "../secret.bin"}]),
            "outside the scene's folder",
        ),
        (document(buffers=[{"byteLength": 60, "uri": "gone.bin"}]), "is missing"),
        (
            document(
                accessors=[{"bufferView": 0, "componentType": 5126, "count": 4000, "type": "VEC3"}]
                * 2
            ),
            "past its data",
        ),
        (
            document(
                accessors=[{"bufferView": 0, "componentType": 5126, "count": -1, "type": "VEC3"}]
            ),
            "accessors.0.count",
        ),
        (document(scenes=[{"nodes": []}]), "no triangles"),
    ],
)
def test_bad_files_get_one_sentence(tmp_path: Path, content: dict, words: str) -> None:
    path = save(tmp_path / "bad.glb", glb(content))
    with pytest.raises(SceneError, match=words) as caught:
        read_gltf(path)

    assert str(path) in str(caught.value)
    assert "\n" not in str(caught.value)


def test_missing_scene_lists_the_demo_scenes() -> None:
    with pytest.raises(SceneError, match=r"nowhere\.glb: no such scene.*honey-stall"):
        open_scene("nowhere.glb")


_HEADER = b"IHDR" + struct.pack(">IIBBBBB", 60000, 60000, 8, 2, 0, 0, 0)
BOMB = (
    b"\x89PNG\r\n\x1a\n"
    + struct.pack(">I", 13)
    + _HEADER
    + struct.pack(">I", zlib.crc32(_HEADER))
    + struct.pack(">I4s", 9, b"IDAT")
    + bytes(32)
)
"""A picture that claims 60000 by 60000 pixels."""


@pytest.mark.parametrize(
    ("picture", "words"),
    [
        ({"uri": "../outside.png"}, "outside the scene's folder"),
        ({"uri": "link.png"}, "outside the scene's folder"),
        ({"uri": "gone.png"}, "is missing"),
        ({"uri": "bomb.png"}, "more pixels than fit"),
        ({"uri": "text.png"}, "not a readable PNG"),
        ({"uri": "data:image/png;base64,@@"}, "data URI is damaged"),
        ({"uri": "\0"}, "not a usable path"),
        ({}, "has no data"),
    ],
)
def test_malicious_textures_get_one_sentence(tmp_path: Path, picture: dict, words: str) -> None:
    folder = tmp_path / "scene"
    folder.mkdir()
    (tmp_path / "outside.png").write_bytes(BOMB)
    (folder / "link.png").symlink_to(tmp_path / "outside.png")
    (folder / "bomb.png").write_bytes(BOMB)
    (folder / "text.png").write_text("no picture")
    maker = GltfMaker(
        images=[picture],
        textures=[{"source": 0}],
        materials=[{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}],
    )
    with pytest.raises(SceneError, match=words) as caught:
        read_gltf(maker.save(folder / "a.glb"))

    assert "\n" not in str(caught.value)


EXTRAS = {
    "environment": {"image": "sky.hdr", "strength": 2.0, "rotation": 90},
    "haze": {
        "low": [0, 0, 0],
        "high": [1, 1, 1],
        "scattering": [1, 1, 1],
        "anisotropy": 0.5,
        "grid": {"size": [2, 1, 1], "values": [0.5, 1]},
    },
    "materials": {
        "first": {
            "subsurface": {"meanFreePath": [0.1, 0.2, 0.3], "albedo": [0.9, 0.8, 0.7]},
            "displacement": {"texture": 0, "scale": 0.1},
        }
    },
    "lens": {"aperture": 0.01, "focusDistance": 2},
}


def test_extras_say_what_gltf_cannot(tmp_path: Path) -> None:
    sky = np.full((2, 4, 3), 128, np.uint8)
    rgbe = np.dstack([sky, np.full((2, 4), 129, np.uint8)])
    (tmp_path / "sky.hdr").write_bytes(
        b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 2 +X 4\n" + rgbe.tobytes()
    )
    maker = GltfMaker(extras={"swift_sample": EXTRAS})
    maker.attributes["TEXCOORD_0"] = maker.add(
        np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    )
    maker.picture(np.full((2, 2, 3), 255, np.uint8))
    scene = read_gltf(maker.save(tmp_path / "a.glb"))
    assert scene.environment.pixels == pytest.approx(2.0, rel=0.01)
    assert scene.environment.turn == pytest.approx(np.pi / 2)
    assert scene.haze.density.tolist() == [[[0.5, 1.0]]]
    assert scene.materials[0].subsurface.albedo == (0.9, 0.8, 0.7)
    assert (scene.camera.aperture, scene.camera.focus_distance) == (0.01, 2)
    moved = refined(scene, Choices())
    assert moved.meshes[0].positions[:, 2] == pytest.approx(0.05)
    assert refined(scene, Choices(displacement=False)).meshes[0].positions[:, 2].max() == 0
    assert refined(scene, Choices(subdivision=2)).triangle_count == 32


@pytest.mark.parametrize(
    ("extras", "words"),
    [
        ({"enviroment": {}}, "enviroment"),
        ({"environment": {}}, "either colour or image"),
        ({"environment": {"colour": [-1, 0, 0]}}, "greater than or equal to 0"),
        ({"environment": {"image": "../sky.exr"}}, "outside the scene's folder"),
        (
            {"haze": {"low": [0, 0, 0], "high": [0, 1, 1], "scattering": [1, 1, 1]}},
            "low below high",
        ),
        (
            {"haze": {**EXTRAS["haze"], "grid": {"size": [9, 9, 9], "values": [1]}}},
            "expected 729 values",
        ),
        ({"materials": {"other": {}}}, "names the material 'other'"),
        ("text", "valid dictionary"),
    ],
)
def test_bad_extras_get_one_sentence(tmp_path: Path, extras: object, words: str) -> None:
    with pytest.raises(SceneError, match=words) as caught:
        read_gltf(GltfMaker(extras={"swift_sample": extras}).save(tmp_path / "a.glb"))
    assert "\n" not in str(caught.value)


def test_the_schema_that_is_published_is_the_one_in_use() -> None:
    published = Path(__file__).parents[3] / "docs" / "scene-extras.schema.json"
    assert json.loads(published.read_text()) == SceneExtras.model_json_schema()


def outcome(path: Path) -> None:
    """Reading ends with a scene or one sentence, whatever the file holds."""
    try:
        scene = read_gltf(path)
    except SceneError as error:
        assert "\n" not in str(error)
    else:
        assert scene.triangle_count >= 1


@examples(150)
@given(place=st.integers(0, 2000), value=st.integers(0, 255), cut=st.integers(0, 2000))
def test_flipped_and_cut_files_never_do_anything_else(
    tmp_path: Path, place: int, value: int, cut: int
) -> None:
    data = bytearray(glb(document()))
    data[place % len(data)] = value
    outcome(save(tmp_path / "fuzz.glb", bytes(data[: len(data) - cut % 40])))


def leaves(part: object, path: tuple = ()) -> list[tuple]:
    """Where every value of a document stands."""
    items = (
        part.items()
        if isinstance(part, dict)
        else enumerate(part)
        if isinstance(part, list)
        else []
    )
    return (
        [path, *(leaf for key, value in items for leaf in leaves(value, (*path, key)))]
        if path
        else [leaf for key, value in items for leaf in leaves(value, (key,))]
    )


def rich_document(tmp_path: Path) -> GltfMaker:
    """Something of everything that is read."""
    maker = GltfMaker(extras={"swift_sample": {**EXTRAS, "environment": {"colour": [1, 1, 1]}}})
    maker.attributes |= {
        "TEXCOORD_0": maker.add(np.zeros((4, 2), np.float32)),
        "COLOR_0": maker.add(np.ones((4, 4), np.float32)),
        "NORMAL": maker.add(np.ones((4, 3), np.float32)),
    }

    maker.picture(np.zeros((2, 2, 3), np.uint8))
    moves = {
        "input": maker.add(np.array([0, 1], np.float32)),
        "output": maker.add(np.zeros((2, 3), np.float32)),
    }

    maker.changes |= {
        "animations": [
            {
                "samplers": [moves],
                "channels": [{"sampler": 0, "target": {"node": 0, "path": "scale"}}],
            }
        ],
        "materials": [
            {
                "name": "first",
                "normalTexture": {"index": 0},
                "alphaMode": "MASK",
                "extensions": {
                    "KHR_materials_volume": {"thicknessFactor": 1, "attenuationColor": [1, 0, 1]},
                    "KHR_materials_clearcoat": {"clearcoatTexture": {"index": 0}},
                },
            }
        ],
        "extensions": {"KHR_lights_punctual": {"lights": [{"type": "spot"}]}},
        "nodes": [
            {"mesh": 0, "children": [1]},
            {"camera": 0, "extensions": {"KHR_lights_punctual": {"light": 0}}},
        ],
        "scenes": [{"nodes": [0]}],
    }
    return maker


@examples(400)
@given(data=st.data())
def test_any_value_anywhere_is_read_or_refused(tmp_path: Path, data: st.DataObject) -> None:
    maker = rich_document(tmp_path)
    content = json.loads(json.dumps(maker.document()))
    odd = [2**31, 2**63, -(2**40), 1e300, -0.5, float("nan"), float("inf")]
    numbers = st.one_of(st.integers(-3, 9), st.sampled_from(odd))

    values = st.one_of(
        numbers,
        st.none(),
        st.booleans(),
        st.text(max_size=5),
        st.lists(numbers, max_size=5),
        st.dictionaries(st.text(max_size=3), numbers, max_size=2),
    )
    for _ in range(data.draw(st.integers(1, 3))):
        *way, last = data.draw(st.sampled_from(leaves(content)))
        part = content
        for key in way:
            part = part[key]

        part[last] = data.draw(values)
        if not leaves(content):
            break

    outcome(save(tmp_path / "fuzz.glb", glb(content, maker.data)))


@examples(100)
@given(
    body=st.binary(max_size=300),
    head=st.sampled_from([b"", b"#?RADIANCE\n\n-Y 3 +X 8\n", b"#?RGBE\n\n-Y 2 +X 9\n\2\2\0\11"]),
)
def test_damaged_sky_pictures_are_refused(tmp_path: Path, body: bytes, head: bytes) -> None:
    path = save(tmp_path / "sky.hdr", head + body)
    try:
        assert np.isfinite(parse_environment(str(path)).pixels).all()
    except SceneError as error:
        assert "\n" not in str(error)


def test_deep_json_is_refused(tmp_path: Path) -> None:
    for text in ("[" * 100_000, '{"asset": ' * 50_000):
        with pytest.raises(SceneError, match=r"damaged or not glTF|not valid glTF"):
            read_gltf(save(tmp_path / "deep.gltf", text.encode()))


def test_a_picture_with_runs_is_unrolled(tmp_path: Path) -> None:
    row = b"\2\2\0\10" + b"\x88\x40" + b"\x88\x80" + b"\x04\1\2\3\4\x84\5" + b"\x88\x81"
    path = save(tmp_path / "sky.hdr", b"#?RADIANCE\n\n-Y 1 +X 8\n" + row)
    pixels = parse_environment(str(path)).pixels
    assert pixels[0, :, 0] == pytest.approx(64.5 / 128)
    assert pixels[0, :, 2] * 128 == pytest.approx(np.array([1, 2, 3, 4, 5, 5, 5, 5]) + 0.5)


def test_the_fingerprint_follows_files_beside_the_scene_only(tmp_path: Path) -> None:
    folder = tmp_path / "scene"
    folder.mkdir()
    data = POSITIONS.tobytes() + ORDER.tobytes()
    outside = tmp_path / "outside.bin"
    (folder / "mesh.bin").write_bytes(data)
    outside.write_bytes(data)

    for uri, changed in (("mesh.bin", folder / "mesh.bin"), ("../outside.bin", outside)):
        text = json.dumps(document(buffers=[{"byteLength": 60, "uri": uri}]))
        path = save(folder / "a.gltf", text.encode())
        before = scene_fingerprint(str(path))
        changed.write_bytes(data + b"more")
        assert (scene_fingerprint(str(path)) != before) == (uri == "mesh.bin")


@pytest.mark.parametrize("name", ["a.gltf", "a.exr", "a.hdr"])
def test_a_file_of_twenty_gigabytes_is_refused_and_not_read(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    with path.open("wb") as file:
        file.truncate(20 << 30)  # of which nothing stands on the disk

    digest, read = (
        (scene_fingerprint, open_scene)
        if name == "a.gltf"
        else (environment_fingerprint, parse_environment)
    )
    for use in (digest, read):
        with pytest.raises(SceneError, match=r"a\.[a-z]+: .*bytes"):
            use(str(path))


def test_what_a_scene_says_of_itself_controls_no_terminal(tmp_path: Path) -> None:
    raw = "\x1b]0;owned\x07\x1b[2J\u202e"
    path = tmp_path / "a.gltf"
    path.write_text(json.dumps(document(extensionsRequired=[raw + "x" * 5000])))
    with pytest.raises(SceneError) as problem:
        read_gltf(path)

    words = one_line(problem.value)
    assert words.isprintable()
    assert len(words) <= 300
    assert "\\x1b]0;owned\\x07" in words
