import base64
import json
import struct
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from swift_sample.core.errors import SceneError
from swift_sample.core.scene import open_scene
from swift_sample.core.scene.gltf import read_gltf

POSITIONS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
ORDER = np.array([0, 1, 2, 0, 2, 3], np.uint16)


def document(**changes: object) -> dict:
    made = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}],
        "nodes": [{"mesh": 0, "translation": [0, 0, -2]}, {"camera": 0, "translation": [0, 0, 3]}],
        "cameras": [{"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}}],
        "meshes": [{"name": "square", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "material": 0}]}],
        "materials": [{"name": "red", "pbrMetallicRoughness": {"baseColorFactor": [1, 0, 0, 1], "metallicFactor": 0}}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
                      {"bufferView": 1, "componentType": 5123, "count": 6, "type": "SCALAR"}],
        "bufferViews": [{"buffer": 0, "byteLength": 48}, {"buffer": 0, "byteOffset": 48, "byteLength": 12}],
        "buffers": [{"byteLength": 60}],
    }
    return {**made, **changes}


def glb(content: dict, binary: bytes = POSITIONS.tobytes() + ORDER.tobytes()) -> bytes:
    text = json.dumps(content).encode()
    text += b" " * (-len(text) % 4)
    chunks = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(binary), b"BIN\0") + binary
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks


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
    uri = "mesh.bin" if how == "file" else "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    (tmp_path / "mesh.bin").write_bytes(data)
    path = save(tmp_path / "a.gltf", json.dumps(document(buffers=[{"byteLength": 60, "uri": uri}])).encode())
    assert read_gltf(path).triangle_count == 2


@pytest.mark.parametrize(("mode", "expected"), [(5, [[0, 1, 2], [1, 3, 2]]), (6, [[1, 2, 0], [2, 3, 0]])])
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
    materials = [{"emissiveFactor": [1, 0.5, 0], "extensions": {
        "KHR_materials_emissive_strength": {"emissiveStrength": 10}, "KHR_materials_ior": {"ior": 1.4},
        "KHR_materials_transmission": {"transmissionFactor": 1},
        "KHR_materials_volume": {"thicknessFactor": 1, "attenuationDistance": 0.5, "attenuationColor": [1, 0.5, 0.25]}}}]
    scene = read_gltf(save(tmp_path / "a.glb", glb(document(materials=materials))))
    material = scene.materials[0]
    assert material.emission == (10, 5, 0)
    assert (material.ior, material.transmission, material.thin) == (1.4, 1, False)
    assert np.exp(-0.5 * np.array(material.absorption)) == pytest.approx([1, 0.5, 0.25])


@pytest.mark.parametrize(("content", "words"), [
    (document(asset={"version": "1.0"}), "version 1.0 is not read"),
    (document(extensionsRequired=["KHR_draco_mesh_compression"]), "needs the extension KHR_draco_mesh_compression"),
    (document(nodes=[{"children": [0]}], scenes=[{"nodes": [0]}]), "circle"),
    (document(nodes=[{"mesh": 0, "scale": [float("nan"), 1, 1]}]), r"nodes\.0\.scale\.0"),
    (document(nodes=[{"mesh": 9}], scenes=[{"nodes": [0]}]), "damaged"),
    (document(meshes=[]), "damaged"),
    (document(buffers=[{"byteLength": 6000}]), "cut off"),
    (document(buffers=[{"byteLength": 60, "uri": "../secret.bin"}]), "outside the scene's folder"),
    (document(buffers=[{"byteLength": 60, "uri": "gone.bin"}]), "is missing"),
    (document(accessors=[{"bufferView": 0, "componentType": 5126, "count": 4000, "type": "VEC3"}] * 2), "past its data"),
    (document(accessors=[{"bufferView": 0, "componentType": 5126, "count": -1, "type": "VEC3"}]), "accessors.0.count"),
    (document(scenes=[{"nodes": []}]), "no triangles"),
])
def test_bad_files_get_one_sentence(tmp_path: Path, content: dict, words: str) -> None:
    path = save(tmp_path / "bad.glb", glb(content))
    with pytest.raises(SceneError, match=words) as caught:
        read_gltf(path)
    assert str(path) in str(caught.value)
    assert "\n" not in str(caught.value)


def test_missing_scene_lists_the_demo_scenes() -> None:
    with pytest.raises(SceneError, match=r"nowhere\.glb: no such scene.*honey-stall"):
        open_scene("nowhere.glb")


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(place=st.integers(0, 2000), value=st.integers(0, 255), cut=st.integers(0, 2000))
def test_flipped_and_cut_files_never_do_anything_else(tmp_path: Path, place: int, value: int, cut: int) -> None:
    data = bytearray(glb(document()))
    data[place % len(data)] = value
    path = save(tmp_path / "fuzz.glb", bytes(data[: len(data) - cut % 40]))
    try:
        scene = read_gltf(path)
    except SceneError as error:
        assert "\n" not in str(error)
    else:
        assert scene.triangle_count >= 1
