"""From the model's meshes, materials and textures to the tables that kernels read."""

from dataclasses import dataclass

import numpy as np

from swift_sample.core.errors import SceneError
from swift_sample.core.renderers.builtin.lowlevel.records import (
    CUT_BLEND,
    CUT_MASK,
    EMITS_BOTH,
    EMITS_FRONT,
    FACE,
    MATERIAL,
    NO_NORMAL,
    TEXTURE_USE,
    TREE,
)
from swift_sample.core.renderers.builtin.lowlevel.schema import Records
from swift_sample.core.renderers.builtin.tables.pyramids import (
    kept_levels,
    levels_of,
    prepared,
    pyramid,
)
from swift_sample.core.renderers.builtin.tables.tree import Tree, build_tree
from swift_sample.core.scene.model import MASK, OPAQUE, TEXTURE_SLOTS, Material, Mesh, Scene

LONGEST_PATH = 1e9
"""Mean free paths in metres beyond this count as this; shorter than its inverse likewise."""


@dataclass(frozen=True)
class TextureTable:
    """Uses as records, and what keeps their texels alive."""

    uses: Records
    """TEXTURE_USE[n]"""
    pyramids: list[np.ndarray]
    """uint32[tiles, TILE * TILE] each; where textures are prepared they stand on disk"""
    places: dict[int, int]
    """by identity of the model's TextureUse"""
    tiles_on_disk: int

    @property
    def memory_bytes(self) -> int:
        """What is held for as long as the scene is; tiles read on demand belong to the render."""
        return 0 if self.tiles_on_disk else sum(t.nbytes for t in self.pyramids)


@dataclass(frozen=True)
class TextureChoices:
    """How textures are held: prepared on disk or made in memory; sides above `max_size` texels are
    halved, 0 for no limit."""

    prepared: bool = False
    max_size: int = 0


@dataclass(frozen=True, kw_only=True)
class SurfaceTable:
    """All triangles: those that stand still, then those that move."""

    faces: np.ndarray
    """FACE[t]"""
    corners: np.ndarray
    """float32[t, 3, 3]: triangle, corner, axis; when the shutter opens"""
    motion: np.ndarray
    """float32[m, 3, 3] of the last m triangles"""
    second_uvs: np.ndarray
    """float32[t, 6], or empty"""
    materials: np.ndarray
    """MATERIAL[k]"""
    objects: list[str]
    camera_only: np.ndarray
    """bool[t]; among those that stand still, and among those that move, they are the last"""

    @property
    def memory_bytes(self) -> int:
        held = (
            self.faces,
            self.corners,
            self.motion,
            self.second_uvs,
            self.materials,
            self.camera_only,
        )
        return sum(array.nbytes for array in held)


def compile_textures(scene: Scene, kept: TextureChoices) -> TextureTable:
    """Make or find every texture's pyramid. Raises SceneError for a picture that cannot be read."""
    uses = [use for m in scene.materials for use in m.textures.values()]
    found: dict[tuple[str, bool], tuple[np.ndarray, int]] = {}
    on_disk = 0
    table = Records(TEXTURE_USE, max(1, len(uses)))
    places: dict[int, int] = {}

    for number, use in enumerate(uses):
        record = table.records[number]
        texture = use.texture
        levels = levels_of(*texture.size)
        finest = kept_levels(levels, kept.max_size)
        first_tile = levels[finest].first
        content = (texture.key, texture.srgb)

        if content not in found:
            tiles = (
                prepared(texture)
                if kept.prepared
                else pyramid(texture.pixels, texture.srgb, finest)
            )
            found[content] = (tiles, on_disk)
            on_disk += len(tiles) if kept.prepared else 0

        tiles, place = found[content]
        shown = levels[finest : finest + 1] if texture.nearest else levels[finest:]
        skipped = 0 if kept.prepared else first_tile
        table.bind("texels", tiles, number)
        record["levels"] = len(shown)
        record["first_tile"] = place if kept.prepared else -1

        for k, level in enumerate(shown):
            record["widths"][k] = level.width
            record["heights"][k] = level.height
            record["tiles"][k] = level.first - skipped

        scale = abs(np.linalg.det(np.asarray(use.transform, float)[:, :2]))
        record["stretch"] = np.sqrt(scale * shown[0].width * shown[0].height)
        record["wrap_u"], record["wrap_v"] = texture.wrap
        record["nearest"] = texture.nearest
        record["srgb"] = texture.srgb
        record["uv_set"] = use.uv_set
        record["transform"] = np.asarray(use.transform, np.float32).ravel()
        places[id(use)] = len(places)

    return TextureTable(table, [tiles for tiles, _ in found.values()], places, on_disk)


def compile_surfaces(scene: Scene, textures: TextureTable) -> SurfaceTable:
    """Flatten meshes and materials. Raises SceneError where there is nothing to render."""
    meshes = [mesh for mesh in scene.meshes if len(mesh.corners)]
    if not meshes:
        raise SceneError(f"{scene.name}: the scene has no triangles; give it at least one mesh")

    meshes.sort(key=lambda mesh: (len(mesh.motion) > 0, mesh.camera_only))
    materials = np.zeros(len(scene.materials), MATERIAL)
    for record, material in zip(materials, scene.materials, strict=True):
        _fill_material(record, material, textures.places)

    objects = list(dict.fromkeys(mesh.name for mesh in meshes))
    numbers = {name: i for i, name in enumerate(objects)}
    faces = np.concatenate([_faces(mesh, numbers[mesh.name]) for mesh in meshes])
    corners = np.concatenate([mesh.positions[mesh.corners].astype(np.float32) for mesh in meshes])
    moving = [mesh.motion[mesh.corners].astype(np.float32) for mesh in meshes if len(mesh.motion)]
    motion = np.concatenate(moving) if moving else np.zeros((0, 3, 3), np.float32)
    second = np.zeros((0, 6), np.float32)

    if any(len(mesh.second_uvs) for mesh in meshes):
        second = np.concatenate([_second_uvs(mesh) for mesh in meshes])

    hidden = np.repeat(
        [mesh.camera_only for mesh in meshes], [len(mesh.corners) for mesh in meshes]
    )
    return SurfaceTable(
        faces=faces,
        corners=corners,
        motion=motion,
        second_uvs=second,
        materials=materials,
        objects=objects,
        camera_only=hidden,
    )


def build_trees(surfaces: SurfaceTable) -> list[Tree]:
    """Acceleration trees over what stands still and what moves, first those that all rays meet,
    then those that only the camera's do; any may be missing."""
    still = len(surfaces.corners) - len(surfaces.motion)
    trees = []

    for camera_only in (False, True):
        for moves in (False, True):
            start, end = (still, len(surfaces.corners)) if moves else (0, still)
            count = int((surfaces.camera_only[start:end] == camera_only).sum())
            first = end - count if camera_only else start

            if count:
                motion = surfaces.motion[first - still : first - still + count] if moves else None
                tree = build_tree(surfaces.corners[first : first + count], motion)
                tree.triangles[tree.triangles >= 0] += first
                trees.append(tree._replace(camera_only=camera_only))

    return trees


def tree_records(trees: list[Tree], single: np.ndarray, cut: np.ndarray) -> Records:
    """TREE records. single: bool[t], the triangles that are seen from the front only; cut: int[t],
    `cut` of its material."""
    table = Records(TREE, len(trees))
    for number, tree in enumerate(trees):
        for name in ("nodes", "packets", "triangles"):
            table.bind(name, getattr(tree, name), number)

        table.records[number]["moving"] = tree.moving
        table.records[number]["has_cutouts"] = bool(cut[tree.triangles[tree.triangles >= 0]].any())

        for name, flags in (
            ("single_sided", single),
            ("cutouts", cut != 0),
            ("masked", cut == CUT_MASK),
        ):
            lanes = np.where(tree.triangles >= 0, flags[tree.triangles], False)
            masks = np.packbits(lanes.reshape(-1, 8), axis=1, bitorder="little").ravel().copy()
            table.bind(name, masks, number)

    return table


def _fill_material(record: np.void, m: Material, places: dict[int, int]) -> None:
    record["base"] = m.base_colour
    record["emission"] = m.emission
    record["absorption"] = m.absorption
    record["specular_colour"] = m.specular_colour
    record["sheen_colour"] = m.sheen_colour
    record["through_colour"] = m.diffuse_transmission_colour
    record["metallic"] = m.metallic
    record["roughness"] = m.roughness
    record["ior"] = m.ior
    record["transmission"] = m.transmission
    record["specular"] = m.specular
    record["coat"] = m.coat
    record["coat_roughness"] = m.coat_roughness
    record["sheen_roughness"] = m.sheen_roughness
    record["through"] = m.diffuse_transmission
    record["opacity"] = m.opacity
    record["cutoff"] = m.opacity_cutoff
    record["normal_scale"] = m.normal_scale
    record["coat_normal_scale"] = m.coat_normal_scale
    record["volume"] = m.transmission > 0 and not m.thin
    record["priority"] = m.priority
    record["unlit"] = m.unlit
    record["emits"] = 0 if max(m.emission) <= 0 else EMITS_BOTH if m.double_sided else EMITS_FRONT
    record["single_sided"] = not m.double_sided and not record["volume"]

    if m.opacity_mode != OPAQUE:
        record["cut"] = CUT_MASK if m.opacity_mode == MASK else CUT_BLEND

    if m.subsurface is not None:
        record["walks"] = 1
        record["walk_extinction"] = 1 / np.clip(
            m.subsurface.mean_free_path, 1 / LONGEST_PATH, LONGEST_PATH
        )
        record["walk_albedo"] = m.subsurface.albedo

    record["slots"] = [
        places[id(m.textures[slot])] if slot in m.textures else -1 for slot in TEXTURE_SLOTS
    ]
    record["mapped"] = bool(m.textures)


def _faces(mesh: Mesh, number: int) -> np.ndarray:
    faces = np.zeros(len(mesh.corners), FACE)
    faces["material"] = mesh.material
    faces["light"] = -1
    faces["object"] = number
    faces["normals"] = NO_NORMAL

    if len(mesh.normals):
        flat = (np.abs(mesh.normals).max(axis=1) < 1e-6)[mesh.corners].any(axis=1)
        faces["normals"] = np.where(flat[:, None], NO_NORMAL, folded(mesh.normals)[mesh.corners])

    if len(mesh.uvs):
        faces["u"] = mesh.uvs[mesh.corners, 0]
        faces["v"] = mesh.uvs[mesh.corners, 1]

    if len(mesh.colours):
        faces["coloured"] = 1
        faces["colours"] = _packed_colours(mesh.colours)[mesh.corners]

    return faces


def folded(normals: np.ndarray) -> np.ndarray:
    """Unit normals as octahedral maps, uint32[n], 16 bits each (Cigolle et al. 2014, JCGT 3(2))."""
    n = normals / np.maximum(np.abs(normals).sum(axis=1, keepdims=True), 1e-20)
    xy = n[:, :2].astype(np.float64)
    signs = np.where(xy >= 0, 1.0, -1.0)
    xy = np.where(n[:, 2:] < 0, (1 - np.abs(xy[:, ::-1])) * signs, xy)
    parts = np.clip(np.round((xy + 1) * 32767), 0, 65534).astype(np.uint32)

    return parts[:, 0] | parts[:, 1] << np.uint32(16)


def _packed_colours(colours: np.ndarray) -> np.ndarray:
    coded = np.clip(colours, 0, 1).copy()
    coded[:, :3] = np.sqrt(coded[:, :3])
    parts = np.round(coded * 255).astype(np.uint32)
    return (
        parts[:, 0]
        | parts[:, 1] << np.uint32(8)
        | parts[:, 2] << np.uint32(16)
        | parts[:, 3] << np.uint32(24)
    )


def _second_uvs(mesh: Mesh) -> np.ndarray:
    if len(mesh.second_uvs):
        return mesh.second_uvs[mesh.corners].reshape(-1, 6).astype(np.float32)
    return np.zeros((len(mesh.corners), 6), np.float32)
