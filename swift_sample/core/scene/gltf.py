"""Reading glTF 2.0: meshes, nodes, perspective cameras and metallic-roughness materials.

Textures, animation and most extensions are not read yet; each such thing becomes a note on the scene, and a file
that *requires* an extension which is not read is refused by its name. Nothing in a file is trusted: counts, offsets
and depths are bounded, and paths must stay inside the scene's folder.
"""

import base64
import binascii
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from swift_sample.core.errors import SceneError, one_line
from swift_sample.core.scene.model import Camera, Choices, Environment, Material, Mesh, Scene

READ_EXTENSIONS = {"KHR_materials_emissive_strength", "KHR_materials_ior", "KHR_materials_transmission",
                   "KHR_materials_volume"}
MAX_FILE_BYTES = 1 << 31
MAX_TRIANGLES = 50_000_000
MAX_NODE_DEPTH = 256
MAX_INSTANCES = 1_000_000
GREY_SKY = 0.6
_COMPONENTS: dict[int, Any] = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32,
                               5126: np.float32}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}


class _Part(BaseModel):
    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)


class _Accessor(_Part):
    bufferView: int | None = Field(None, ge=0)  # noqa: N815
    byteOffset: int = Field(0, ge=0)  # noqa: N815
    componentType: int  # noqa: N815
    count: int = Field(ge=1, le=1 << 30)
    type: str
    normalized: bool = False
    sparse: dict[str, Any] | None = None


class _View(_Part):
    buffer: int = Field(ge=0)
    byteOffset: int = Field(0, ge=0)  # noqa: N815
    byteLength: int = Field(ge=1)  # noqa: N815
    byteStride: int | None = Field(None, ge=4, le=252)  # noqa: N815


class _Buffer(_Part):
    byteLength: int = Field(ge=1, le=MAX_FILE_BYTES)  # noqa: N815
    uri: str | None = None


class _Primitive(_Part):
    attributes: dict[str, int]
    indices: int | None = Field(None, ge=0)
    material: int | None = Field(None, ge=0)
    mode: int = 4


class _MeshPart(_Part):
    name: str = "mesh"
    primitives: list[_Primitive]


class _Node(_Part):
    name: str = ""
    children: list[int] = []
    matrix: list[float] | None = Field(None, min_length=16, max_length=16)
    translation: list[float] = Field([0, 0, 0], min_length=3, max_length=3)
    rotation: list[float] = Field([0, 0, 0, 1], min_length=4, max_length=4)
    scale: list[float] = Field([1, 1, 1], min_length=3, max_length=3)
    mesh: int | None = Field(None, ge=0)
    camera: int | None = Field(None, ge=0)


class _Perspective(_Part):
    yfov: float = Field(gt=0, lt=np.pi)


class _CameraPart(_Part):
    perspective: _Perspective | None = None


class _Surface(_Part):
    baseColorFactor: list[float] = Field([1, 1, 1, 1], min_length=4, max_length=4)  # noqa: N815
    metallicFactor: float = Field(1, ge=0, le=1)  # noqa: N815
    roughnessFactor: float = Field(1, ge=0, le=1)  # noqa: N815


class _MaterialPart(_Part):
    name: str = "material"
    pbrMetallicRoughness: _Surface = Field(default_factory=lambda: _Surface.model_validate({}))  # noqa: N815
    emissiveFactor: list[float] = Field([0, 0, 0], min_length=3, max_length=3)  # noqa: N815
    extensions: dict[str, dict[str, Any]] = {}


class _ScenePart(_Part):
    nodes: list[int] = []


class _Document(_Part):
    asset: dict[str, Any]
    extensionsRequired: list[str] = []  # noqa: N815
    extensionsUsed: list[str] = []  # noqa: N815
    scene: int = Field(0, ge=0)
    scenes: list[_ScenePart] = []
    nodes: list[_Node] = []
    meshes: list[_MeshPart] = []
    cameras: list[_CameraPart] = []
    materials: list[_MaterialPart] = []
    accessors: list[_Accessor] = []
    bufferViews: list[_View] = []  # noqa: N815
    buffers: list[_Buffer] = []
    textures: list[dict[str, Any]] = []
    animations: list[dict[str, Any]] = []


def read_gltf(path: Path, choices: Choices | None = None) -> Scene:
    """Read a .gltf or .glb file. Raises SceneError in one sentence for anything that is wrong with it."""
    try:
        return _Reader(path).scene()
    except SceneError:
        raise
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise SceneError(f"{path}: not valid glTF, {place}: {first['msg'].lower()}; export it again") from error
    except (OSError, ValueError, KeyError, IndexError, struct.error, RecursionError, MemoryError) as error:
        raise SceneError(f"{path}: damaged or not glTF ({one_line(error)}); export it again") from error


class _Reader:
    def __init__(self, path: Path) -> None:
        self._path = path
        if path.stat().st_size > MAX_FILE_BYTES:
            raise SceneError(f"{path}: larger than {MAX_FILE_BYTES} bytes; split the scene")
        data = path.read_bytes()
        text, self._chunk = _split_glb(data) if data[:4] == b"glTF" else (data, b"")
        self._document = _Document.model_validate(json.loads(text))
        self._buffers: dict[int, bytes] = {}
        self._notes: list[str] = []
        self._triangles = 0

    def scene(self) -> Scene:
        document = self._document
        if str(document.asset.get("version", "")).split(".")[0] != "2":
            raise SceneError(f"{self._path}: glTF version {document.asset.get('version')} is not read; export version 2.0")
        for name in document.extensionsRequired:
            if name not in READ_EXTENSIONS:
                raise SceneError(f"{self._path}: needs the extension {name}, which is not read; export without it")
        skipped = [name for name in document.extensionsUsed if name not in READ_EXTENSIONS]
        if skipped:
            self._notes.append(f"Left out: {', '.join(skipped)}.")
        if document.textures:
            self._notes.append("Left out: textures; surfaces have their plain colours.")
        if document.animations:
            self._notes.append("Left out: animation; the first frame is shown.")
        materials = [_material(part) for part in document.materials]
        materials.append(Material("plain", (1, 1, 1), metallic=1.0, roughness=1.0))
        meshes: list[Mesh] = []
        cameras: list[Camera] = []
        for node, matrix in self._walk():
            if node.mesh is not None:
                meshes += self._meshes(node.mesh, matrix, len(materials) - 1)
            if node.camera is not None and document.cameras[node.camera].perspective is not None:
                cameras.append(_camera(document.cameras[node.camera], matrix))
        if not meshes:
            raise SceneError(f"{self._path}: the scene shows no triangles; export it with its meshes")
        environment = Environment()
        if not any(max(m.emission) > 0 for m in materials):
            environment = Environment(np.full((1, 1, 3), GREY_SKY, np.float32))
            self._notes.append("No light in the file: a soft grey sky was added.")
        if not cameras:
            cameras.append(_framing_camera(meshes))
            self._notes.append("No camera in the file: one was placed that frames the scene.")
        return Scene(self._path.stem, meshes, materials, cameras[0], environment, self._notes)

    def _walk(self) -> list[tuple[_Node, np.ndarray]]:
        document = self._document
        roots = document.scenes[document.scene].nodes if document.scenes else list(range(len(document.nodes)))
        waiting = [(index, np.eye(4), 0) for index in roots]
        found: list[tuple[_Node, np.ndarray]] = []
        while waiting:
            index, parent, depth = waiting.pop()
            if depth > MAX_NODE_DEPTH or len(found) > MAX_INSTANCES:
                raise SceneError(f"{self._path}: nodes nest in a circle or too deeply; export it again")
            node = document.nodes[index]
            matrix = parent @ _node_matrix(node)
            if not np.isfinite(matrix).all():
                raise SceneError(f"{self._path}: node {index} has a transform that is not finite; export it again")
            found.append((node, matrix))
            waiting += [(child, matrix, depth + 1) for child in node.children if child >= 0]
        return found

    def _meshes(self, index: int, matrix: np.ndarray, plain: int) -> list[Mesh]:
        part, meshes = self._document.meshes[index], []
        for primitive in part.primitives:
            if primitive.mode not in (4, 5, 6):
                continue
            positions = self._values(primitive.attributes["POSITION"], 3).astype(np.float64)
            if not np.isfinite(positions).all() or np.abs(positions).max() > 1e9:
                raise SceneError(f"{self._path}: mesh {part.name!r} has positions that are not usable numbers")
            order = np.arange(len(positions)) if primitive.indices is None else \
                self._values(primitive.indices, 1)[:, 0].astype(np.int64)
            corners = _triangles(order, primitive.mode)
            if len(corners) and corners.max() >= len(positions):
                raise SceneError(f"{self._path}: mesh {part.name!r} points to missing vertices; export it again")
            self._triangles += len(corners)
            if self._triangles > MAX_TRIANGLES:
                raise SceneError(f"{self._path}: more than {MAX_TRIANGLES} triangles; use a lighter scene")
            normals = np.zeros((0, 3), np.float32)
            if "NORMAL" in primitive.attributes:
                turned = self._values(primitive.attributes["NORMAL"], 3) @ np.linalg.pinv(matrix[:3, :3])
                lengths = np.linalg.norm(turned, axis=1, keepdims=True)
                normals = np.where(np.isfinite(turned) & (lengths > 0), turned / np.maximum(lengths, 1e-20), 0)
            if np.linalg.det(matrix[:3, :3]) < 0:
                corners = corners[:, ::-1]
            placed = (positions @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32)
            if len(corners):
                meshes.append(Mesh(part.name, min(primitive.material if primitive.material is not None else plain, plain),
                                   placed, np.ascontiguousarray(corners, np.int32), normals.astype(np.float32)))
        return meshes

    def _values(self, index: int, width: int) -> np.ndarray:
        accessor = self._document.accessors[index]
        if accessor.sparse is not None:
            raise SceneError(f"{self._path}: sparse data is not read; export without it")
        if _WIDTHS.get(accessor.type) != width or accessor.componentType not in _COMPONENTS:
            raise SceneError(f"{self._path}: accessor {index} has type {accessor.type}; export it again")
        dtype = np.dtype(_COMPONENTS[accessor.componentType]).newbyteorder("<")
        if accessor.bufferView is None:
            return np.zeros((accessor.count, width), dtype)
        view = self._document.bufferViews[accessor.bufferView]
        data = self._buffer(view.buffer)
        start, item = view.byteOffset + accessor.byteOffset, dtype.itemsize * width
        stride = view.byteStride or item
        needed = (accessor.count - 1) * stride + item
        if start + needed > len(data) or accessor.byteOffset + needed > view.byteLength:
            raise SceneError(f"{self._path}: accessor {index} reaches past its data; the file is cut off or damaged")
        raw = np.lib.stride_tricks.as_strided(np.frombuffer(data, np.uint8, needed, start), (accessor.count, item),
                                              (stride, 1))
        values = np.ascontiguousarray(raw).view(dtype)
        if accessor.normalized and dtype.kind in "iu":
            return np.maximum(values / np.iinfo(dtype).max, -1.0)
        return values

    def _buffer(self, index: int) -> bytes:
        if index not in self._buffers:
            part = self._document.buffers[index]
            data = self._chunk if part.uri is None else self._resolve(part.uri)
            if len(data) < part.byteLength:
                raise SceneError(f"{self._path}: buffer {index} has {len(data)} of {part.byteLength} bytes; "
                                 "the file is cut off")
            self._buffers[index] = data
        return self._buffers[index]

    def _resolve(self, uri: str) -> bytes:
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True)
            except binascii.Error as error:
                raise SceneError(f"{self._path}: a data URI is damaged; export it again") from error
        folder = self._path.resolve().parent
        target = (folder / uri).resolve()
        if not target.is_relative_to(folder):
            raise SceneError(f"{self._path}: {uri} lies outside the scene's folder; keep its files together")
        if not target.is_file():
            raise SceneError(f"{self._path}: {uri} is missing; keep the scene's files together")
        if target.stat().st_size > MAX_FILE_BYTES:
            raise SceneError(f"{self._path}: {uri} is larger than {MAX_FILE_BYTES} bytes; split the scene")
        return target.read_bytes()


def _split_glb(data: bytes) -> tuple[bytes, bytes]:
    """The JSON and the binary chunk of a GLB (glTF 2.0, section 4)."""
    _, version, total = struct.unpack_from("<4sII", data)
    if version != 2 or total > len(data):
        raise ValueError("the file is cut off or not GLB version 2")
    place = 12
    chunks: dict[bytes, bytes] = {}
    while place + 8 <= total:
        size, kind = struct.unpack_from("<I4s", data, place)
        if place + 8 + size > total:
            raise ValueError("a chunk reaches past the end")
        chunks.setdefault(kind, data[place + 8 : place + 8 + size])
        place += 8 + size
    return chunks[b"JSON"], chunks.get(b"BIN\0", b"")


def _triangles(order: np.ndarray, mode: int) -> np.ndarray:
    """Corners of a list (4), strip (5) or fan (6)."""
    if mode == 4:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if len(order) < 3:
        return np.zeros((0, 3), np.int64)
    k = np.arange(len(order) - 2)
    if mode == 5:
        return np.stack([order[k], order[k + 1 + k % 2], order[k + 2 - k % 2]], -1)
    return np.stack([order[k + 1], order[k + 2], np.full(len(k), order[0])], -1)


def _node_matrix(node: _Node) -> np.ndarray:
    if node.matrix is not None:
        return np.array(node.matrix).reshape(4, 4).T
    x, y, z, w = np.array(node.rotation) / max(np.linalg.norm(node.rotation), 1e-20)
    rotation = np.array([[1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                         [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                         [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)]])
    matrix = np.eye(4)
    matrix[:3, :3] = rotation * np.array(node.scale)
    matrix[:3, 3] = node.translation
    return matrix


def _number(part: dict[str, Any], key: str, default: float, low: float, high: float) -> float:
    value = part.get(key, default)
    if not isinstance(value, int | float) or not low <= value <= high:
        raise ValueError(f"{key}={value} is not from {low:g} to {high:g}")
    return float(value)


def _material(part: _MaterialPart) -> Material:
    surface, extensions = part.pbrMetallicRoughness, part.extensions
    strength = _number(extensions.get("KHR_materials_emissive_strength", {}), "emissiveStrength", 1, 0, 1e9)
    transmission = _number(extensions.get("KHR_materials_transmission", {}), "transmissionFactor", 0, 0, 1)
    volume = extensions.get("KHR_materials_volume", {})
    thickness = _number(volume, "thicknessFactor", 0, 0, 1e9)
    distance = _number(volume, "attenuationDistance", 1e30, 1e-9, 1e30)
    colour = np.clip(np.array([float(c) for c in volume.get("attenuationColor", (1, 1, 1))][:3]), 1e-6, 1)
    absorption = -np.log(colour) / distance if thickness > 0 else np.zeros(3)
    red, green, blue = (min(1.0, max(0.0, c)) for c in surface.baseColorFactor[:3])
    emit = [min(1e9, max(0.0, c)) * strength for c in part.emissiveFactor]
    return Material(
        part.name, (red, green, blue), surface.metallicFactor, surface.roughnessFactor,
        ior=max(1.0, _number(extensions.get("KHR_materials_ior", {}), "ior", 1.5, 0, 10)), transmission=transmission, thin=thickness == 0,
        absorption=(float(absorption[0]), float(absorption[1]), float(absorption[2])), emission=(emit[0], emit[1], emit[2]))


def _camera(part: _CameraPart, matrix: np.ndarray) -> Camera:
    assert part.perspective is not None
    position, forward, up = matrix[:3, 3], -matrix[:3, 2], matrix[:3, 1]
    if np.linalg.norm(np.cross(forward, up)) < 1e-12:
        raise ValueError("the camera's transform is flat")
    target = position + forward / np.linalg.norm(forward)
    return Camera(_triple(position), _triple(target), _triple(up), part.perspective.yfov)


def _framing_camera(meshes: list[Mesh]) -> Camera:
    """A camera a little above, far enough back to see the box around everything."""
    low = np.min([m.positions.min(axis=0) for m in meshes], axis=0).astype(float)
    high = np.max([m.positions.max(axis=0) for m in meshes], axis=0).astype(float)
    centre, radius = (low + high) / 2, max(float(np.linalg.norm(high - low)) / 2, 1e-6)
    field = 0.7
    away = np.array([0.35, 0.30, 1.0])
    position = centre + away / np.linalg.norm(away) * radius / np.sin(field / 2)
    return Camera(_triple(position), _triple(centre), (0, 1, 0), field)


def _triple(values: np.ndarray) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])
