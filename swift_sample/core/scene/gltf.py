"""Reading glTF 2.0: what a scene shows at one moment, in world space.

What a file requires and is not read is refused by its name; what it merely uses and is not read
becomes a note. The data itself is read by `gltf_files.py`, surfaces by `gltf_materials.py`, and
what glTF cannot say by `extras.py`.
"""

import struct
from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from swift_sample.core import budget
from swift_sample.core.errors import SceneError, one_line, plain
from swift_sample.core.scene import gltf_document as doc
from swift_sample.core.scene.extras import SceneExtras, with_extras
from swift_sample.core.scene.gltf_document import extension
from swift_sample.core.scene.gltf_files import GltfFiles
from swift_sample.core.scene.gltf_materials import MATERIAL_EXTENSIONS, MaterialReader
from swift_sample.core.scene.gltf_motion import Motion, node_matrix, turned_matrix
from swift_sample.core.scene.model import (
    DIRECTIONAL,
    POINT,
    SPOT,
    Camera,
    Choices,
    Environment,
    Light,
    Material,
    Mesh,
    Pose,
    Scene,
    check_variant,
)
from swift_sample.core.scene.staging import NO_CAMERA_NOTE, NO_LIGHT_NOTE

READ_EXTENSIONS = MATERIAL_EXTENSIONS | {
    "KHR_lights_punctual",
    "KHR_materials_variants",
    "EXT_mesh_gpu_instancing",
    "KHR_mesh_quantization",
}
MAX_NODE_DEPTH = 256
TRIANGLE_MODES = (4, 5, 6)
"""List, strip, fan."""
MAX_COORDINATE = 1e9
GREY_SKY = 0.6
FRAME_FIELD = 0.7
FRAME_MARGIN = 0.08
"""Of a camera that is placed: its vertical field in radians, and the share of the picture left free
on each side."""
_KINDS = {"point": POINT, "spot": SPOT, "directional": DIRECTIONAL}


def read_gltf(path: Path, choices: Choices | None = None) -> Scene:
    """Read a .gltf or .glb file. Raises SceneError in one sentence for anything that is wrong with
    it."""
    try:
        return _Reader(path, choices or Choices()).scene()
    except SceneError:
        raise
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        message = str(first["msg"]).removeprefix("Value error, ")
        raise SceneError(
            f"{path}: not valid glTF, {place}: {message[:1].lower()}{message[1:]}; export it again"
        ) from error
    except (
        OSError,
        ValueError,
        KeyError,
        IndexError,
        OverflowError,
        struct.error,
        RecursionError,
        MemoryError,
        np.linalg.LinAlgError,
    ) as error:
        raise SceneError(
            f"{path}: damaged or not glTF ({one_line(error)}); export it again"
        ) from error


class _Reader:
    def __init__(self, path: Path, choices: Choices) -> None:
        self._path = path
        self._choices = choices
        self._files = GltfFiles(path)
        self._document = self._files.document
        self._surfaces = MaterialReader(self._files)
        self._notes: list[str] = []
        self._shapes: dict[tuple[int, int], Mesh | None] = {}

    def scene(self) -> Scene:
        document = self._document
        path = self._path
        if str(document.asset.get("version", "")).split(".")[0] != "2":
            raise SceneError(
                f"{path}: glTF version {document.asset.get('version')} is not read; export "
                "version 2.0"
            )

        for name in document.extensions_required:
            if name not in READ_EXTENSIONS:
                raise SceneError(
                    f"{path}: needs the extension {name}, which is not read; export without it"
                )

        skipped = sorted({name for name in document.extensions_used if name not in READ_EXTENSIONS})
        if skipped:
            self._notes.append(f"Left out: {', '.join(skipped)}.")

        variants = self._variants()
        materials = [self._surfaces.material(part) for part in document.materials]
        materials.append(
            Material(
                name="plain", base_colour=(1, 1, 1), metallic=1.0, roughness=1.0, double_sided=False
            )
        )
        self._motion = Motion(self._files)
        meshes: list[Mesh] = []
        cameras: dict[str, Camera] = {}
        lights: list[Light] = []
        shown = self._walk()
        self._check_budget([node for node, *_ in shown])

        for node, opening, closing in shown:
            if node.mesh is not None:
                meshes += self._instances(node, opening, closing, len(materials) - 1, variants)
            if node.camera is not None:
                part = document.cameras[node.camera]
                cameras[_free(plain(node.name or part.name), cameras)] = _camera(
                    part, opening, closing
                )

            if "KHR_lights_punctual" in node.extensions:
                lights.append(self._light(node, opening))

        if not meshes:
            raise SceneError(f"{path}: the scene shows no triangles; export it with its meshes")
        if not cameras:
            self._notes.append(NO_CAMERA_NOTE)

        scene = Scene(
            name=path.stem,
            meshes=meshes,
            materials=materials,
            camera=next(iter(cameras.values())) if cameras else _framing_camera(meshes),
            environment=Environment(),
            lights=lights,
            variants=variants,
            frames=self._motion.frames,
            cameras=cameras,
        )
        said = document.extras.get("swift_sample") if isinstance(document.extras, dict) else None
        extras = SceneExtras.model_validate(said if said is not None else {})
        scene = with_extras(scene, extras, self._files, self._surfaces)

        if (
            not lights
            and extras.environment is None
            and not any(max(materials[m.material].emission) > 0 for m in meshes)
        ):
            scene = replace(
                scene, environment=Environment(np.full((1, 1, 3), GREY_SKY, np.float32))
            )
            self._notes.append(NO_LIGHT_NOTE)

        return replace(
            scene,
            notes=list(
                dict.fromkeys(map(plain, self._notes + self._surfaces.notes + self._motion.notes))
            ),
        )

    def _variants(self) -> tuple[str, ...]:
        """Names of the variants; checks the one that is wanted."""
        named = extension(self._document.extensions, "KHR_materials_variants", doc.VariantNames)
        names = tuple(variant.name for variant in named.variants)
        check_variant(str(self._path), self._choices.variant, names)

        return names

    def _walk(self) -> list[tuple[doc.Node, np.ndarray, np.ndarray]]:
        """Every node that the scene shows, in the file's order, with its world matrix when the
        shutter opens and closes."""
        document = self._document
        motion = self._motion
        roots = document.scenes[document.scene].nodes if document.scenes else self._parentless()
        moments = (self._choices.frame, self._choices.frame + self._choices.shutter)
        self._check_parents(roots)
        known: dict[int, int] = {}
        self._files.check(
            sum(self._shown_by(index, known, 0) for index in roots), budget.NODES, "nodes to show"
        )
        waiting = [(index, np.eye(4), np.eye(4)) for index in reversed(roots)]
        instances: list[tuple[doc.Node, np.ndarray, np.ndarray]] = []

        while waiting:
            index, opening, closing = waiting.pop()
            node = document.nodes[_place(index)]
            own = [
                motion.matrix(index, frame) if motion.moves(index) else node_matrix(node)
                for frame in moments
            ]
            opening = opening @ own[0]
            closing = closing @ own[1]

            if not (np.isfinite(opening).all() and np.isfinite(closing).all()):
                raise SceneError(
                    f"{self._path}: node {index} has a transform that is not finite; export it "
                    "again"
                )

            instances.append((node, opening, closing))
            waiting += [(child, opening, closing) for child in reversed(node.children)]

        return instances

    def _check_parents(self, roots: list[int]) -> None:
        """Raises SceneError where a node stands in two places, which the format forbids (glTF 2.0,
        3.5.2): what a few of them repeat may be without end."""
        parents = Counter(child for node in self._document.nodes for child in node.children)
        parents.update(roots)
        index = next((index for index, count in parents.items() if count > 1), None)

        if index is not None:
            raise SceneError(
                f"{self._path}: node {index} has more than one parent; export it again"
            )

    def _shown_by(self, index: int, known: dict[int, int], depth: int) -> int:
        """How many nodes a node shows, itself among them. Raises SceneError where they nest too
        deeply."""
        if depth > MAX_NODE_DEPTH:
            raise SceneError(
                f"{self._path}: nodes nest more than {MAX_NODE_DEPTH} deep; export it again"
            )

        if index not in known:
            children = self._document.nodes[_place(index)].children
            known[index] = 1 + sum(self._shown_by(child, known, depth + 1) for child in children)

        return known[index]

    def _check_budget(self, nodes: list[doc.Node]) -> None:
        """What the scene asks for, before anything is made for it. Raises SceneError."""
        accessors = self._document.accessors
        meshes = 0
        triangles = 0
        of_mesh: dict[int, tuple[int, int]] = {}

        for node in nodes:
            if node.mesh is None:
                continue

            if node.mesh not in of_mesh:
                shown = [
                    p
                    for p in self._document.meshes[node.mesh].primitives
                    if p.mode in TRIANGLE_MODES
                ]
                counts = [
                    accessors[
                        _place(p.attributes["POSITION"] if p.indices is None else p.indices)
                    ].count
                    for p in shown
                ]
                most = sum(
                    count // 3 if p.mode == 4 else max(0, count - 2)
                    for p, count in zip(shown, counts, strict=True)
                )
                of_mesh[node.mesh] = len(shown), most

            instancing = extension(node.extensions, "EXT_mesh_gpu_instancing", doc.Instancing)
            places = min(
                (accessors[_place(index)].count for _, index in _used(instancing)), default=1
            )
            meshes += places * of_mesh[node.mesh][0]
            triangles += places * of_mesh[node.mesh][1]

        self._files.check(meshes, budget.MESHES, "meshes to show")
        self._files.check(triangles, budget.TRIANGLES, "triangles")

    def _parentless(self) -> list[int]:
        children = {child for node in self._document.nodes for child in node.children}
        return [index for index in range(len(self._document.nodes)) if index not in children]

    def _light(self, node: doc.Node, matrix: np.ndarray) -> Light:
        place = extension(node.extensions, "KHR_lights_punctual", doc.LightOfNode).light
        part = extension(self._document.extensions, "KHR_lights_punctual", doc.Lights).lights[place]
        red, green, blue = np.clip(part.color, 0, 1e6) * part.intensity
        inner = min(part.spot.inner_cone_angle, part.spot.outer_cone_angle)

        return Light(
            kind=_KINDS[part.type],
            colour=(float(red), float(green), float(blue)),
            position=triple(matrix[:3, 3]),
            direction=triple(_unit(-matrix[:3, 2])),
            inner_cone=inner,
            outer_cone=part.spot.outer_cone_angle,
            name=part.name or node.name,
        )

    def _instances(
        self,
        node: doc.Node,
        opening: np.ndarray,
        closing: np.ndarray,
        plain: int,
        variants: tuple[str, ...],
    ) -> list[Mesh]:
        assert node.mesh is not None
        places = self._places(extension(node.extensions, "EXT_mesh_gpu_instancing", doc.Instancing))
        part = self._document.meshes[node.mesh]
        meshes = []

        for number, primitive in enumerate(part.primitives):
            if primitive.mode in TRIANGLE_MODES:
                key = node.mesh, number
                if key not in self._shapes:
                    self._shapes[key] = self._shape(part.name, primitive, plain, variants)
                shape = self._shapes[key]
                if shape is not None:
                    meshes += [_placed(shape, opening @ place, closing @ place) for place in places]
            else:
                self._notes.append("Left out: points and lines.")

        return meshes

    def _places(self, instancing: doc.Instancing) -> list[np.ndarray]:
        """Matrices of EXT_mesh_gpu_instancing; one identity where it is not used."""
        read = {
            name: self._files.values(index, 3, 4).astype(np.float64)
            for name, index in _used(instancing)
        }
        if not read:
            return [np.eye(4)]

        count = min(len(values) for values in read.values())
        neutral = {
            "TRANSLATION": np.zeros(3),
            "ROTATION": np.array([0.0, 0, 0, 1]),
            "SCALE": np.ones(3),
        }

        return [
            turned_matrix(
                *(read[name][i] if name in read else same for name, same in neutral.items())
            )
            for i in range(count)
        ]

    def _shape(
        self, name: str, primitive: doc.Primitive, plain: int, variants: tuple[str, ...]
    ) -> Mesh | None:
        """A primitive in its own space; None where it has no triangles."""
        values = self._files.values
        attributes = primitive.attributes
        positions = values(attributes["POSITION"], 3).astype(np.float64)

        if not np.isfinite(positions).all() or np.abs(positions).max() > MAX_COORDINATE:
            raise SceneError(
                f"{self._path}: mesh {name!r} has positions that are not usable numbers"
            )

        count = len(positions)
        order = (
            np.arange(count)
            if primitive.indices is None
            else values(primitive.indices, 1)[:, 0].astype(np.int64)
        )
        corners = triangles_of(order, primitive.mode)

        if not len(corners):
            return None
        if corners.max() >= count or corners.min() < 0:
            raise SceneError(
                f"{self._path}: mesh {name!r} points to missing vertices; export it again"
            )

        wanted = {"NORMAL": (3,), "TEXCOORD_0": (2,), "TEXCOORD_1": (2,), "COLOR_0": (3, 4)}
        given = {
            key: values(attributes[key], *widths).astype(np.float32)
            for key, widths in wanted.items()
            if key in attributes
        }
        if any(len(array) != count for array in given.values()):
            raise SceneError(
                f"{self._path}: mesh {name!r} has attributes of different lengths; export it again"
            )

        given = {key: np.nan_to_num(array, posinf=0, neginf=0) for key, array in given.items()}
        mesh = Mesh(
            name=name,
            material=self._material_of(primitive, plain, variants),
            positions=positions,
            corners=corners,
        )
        mesh.normals = given.get("NORMAL", mesh.normals)
        mesh.uvs = np.clip(given.get("TEXCOORD_0", mesh.uvs), -1e6, 1e6)
        mesh.second_uvs = np.clip(given.get("TEXCOORD_1", mesh.second_uvs), -1e6, 1e6)

        if "COLOR_0" in given:
            colours = given["COLOR_0"]
            mesh.colours = (
                colours
                if colours.shape[1] == 4
                else np.hstack([colours, np.ones((count, 1), np.float32)])
            )

        return mesh

    def _material_of(self, primitive: doc.Primitive, plain: int, variants: tuple[str, ...]) -> int:
        material = primitive.material
        if self._choices.variant:
            wanted = variants.index(self._choices.variant)
            for mapping in extension(
                primitive.extensions, "KHR_materials_variants", doc.Variants
            ).mappings:
                if wanted in mapping.variants:
                    material = mapping.material

        if material is None:
            return plain
        if material >= plain:
            raise SceneError(
                f"{self._path}: a mesh uses material {material}, which is missing; export it again"
            )

        return material


def _used(instancing: doc.Instancing) -> list[tuple[str, int]]:
    """The attributes of instances that are read, and their accessors."""
    return [
        (name, index)
        for name, index in instancing.attributes.items()
        if name in ("TRANSLATION", "ROTATION", "SCALE")
    ]


def triangles_of(order: np.ndarray, mode: int) -> np.ndarray:
    """Corners int64[t, 3] of a list (4), strip (5) or fan (6)."""
    if mode == 4:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if len(order) < 3:
        return np.zeros((0, 3), np.int64)

    k = np.arange(len(order) - 2)
    if mode == 5:
        return np.stack([order[k], order[k + 1 + k % 2], order[k + 2 - k % 2]], -1)

    return np.stack([order[k + 1], order[k + 2], np.full(len(k), order[0])], -1)


def _placed(shape: Mesh, opening: np.ndarray, closing: np.ndarray) -> Mesh:
    """A shape in world space, with how far it moves until the shutter closes."""
    positions = (shape.positions @ opening[:3, :3].T + opening[:3, 3]).astype(np.float32)
    normals = shape.normals

    if len(normals):
        turned = normals @ np.linalg.pinv(opening[:3, :3])
        lengths = np.linalg.norm(turned, axis=1, keepdims=True)
        usable = np.isfinite(turned) & (lengths > 0)
        normals = np.where(usable, turned / np.maximum(lengths, 1e-20), 0).astype(np.float32)

    mirrored = np.linalg.det(opening[:3, :3]) < 0
    corners = np.ascontiguousarray(shape.corners[:, ::-1] if mirrored else shape.corners, np.int32)
    placed = replace(shape, positions=positions, normals=normals, corners=corners)

    if not np.array_equal(opening, closing):
        ends = (shape.positions @ closing[:3, :3].T + closing[:3, 3]).astype(np.float32)
        placed.motion = ends - positions

    return placed


def _camera(part: doc.CameraPart, opening: np.ndarray, closing: np.ndarray) -> Camera:
    pose = _pose(opening)
    camera = Camera(position=pose.position, target=pose.target, up=pose.up)

    if part.type == "orthographic" and part.orthographic is not None:
        camera.half_height = part.orthographic.ymag
    elif part.perspective is not None:
        camera.vertical_field = part.perspective.yfov
    else:
        raise ValueError("a camera says neither perspective nor orthographic")

    if not np.array_equal(opening, closing):
        camera.closing = _pose(closing)

    return camera


def _pose(matrix: np.ndarray) -> Pose:
    position = matrix[:3, 3]
    forward = _unit(-matrix[:3, 2])
    up = matrix[:3, 1]

    if np.linalg.norm(np.cross(forward, up)) < 1e-12:
        raise ValueError("the camera's transform is flat")

    return Pose(triple(position), triple(position + forward), triple(_unit(up)))


def _free(name: str, taken: Mapping[str, object]) -> str:
    """A name for the next camera."""
    name = name or f"camera {len(taken) + 1}"
    while name in taken:
        name = f"{name} {len(taken) + 1}"

    return name


def _framing_camera(meshes: list[Mesh]) -> Camera:
    """A camera a little above, as near as it sees the box around everything with a margin in a
    square picture, and so in every wider one."""
    low = np.min([m.positions.min(axis=0) for m in meshes], axis=0).astype(float)
    high = np.max([m.positions.max(axis=0) for m in meshes], axis=0).astype(float)
    centre = (low + high) / 2
    half = np.maximum((high - low) / 2, 1e-6)
    away = _unit(np.array([0.35, 0.30, 1.0]))
    right = _unit(np.cross((0.0, 1.0, 0.0), away))
    corners = half * np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
    off_axis = np.maximum(abs(corners @ right), abs(corners @ np.cross(away, right)))
    distance = (corners @ away + off_axis / ((1 - FRAME_MARGIN) * np.tan(FRAME_FIELD / 2))).max()

    return Camera(
        position=triple(centre + away * distance),
        target=triple(centre),
        up=(0, 1, 0),
        vertical_field=FRAME_FIELD,
    )


def triple(values: np.ndarray) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])


def _unit(vector: np.ndarray) -> np.ndarray:
    return vector / max(float(np.linalg.norm(vector)), 1e-30)


def _place(index: int) -> int:
    if index < 0:
        raise IndexError("an index is negative")
    return index
