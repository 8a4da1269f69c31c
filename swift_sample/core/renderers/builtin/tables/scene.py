"""The compiled scene: the model turned into flat tables, and one record that leads kernels to them
all."""

from dataclasses import dataclass, fields

import numpy as np

from swift_sample.core.picture.colour import srgb_decoded
from swift_sample.core.renderers.builtin.lowlevel.records import (
    HAZE,
    LENS,
    MAX_CLUSTERS,
    NEAR,
    SCENE,
    VISIBILITY_SIDE,
)
from swift_sample.core.renderers.builtin.lowlevel.schema import Records
from swift_sample.core.renderers.builtin.tables.clusters import whole_blocks
from swift_sample.core.renderers.builtin.tables.energy import load_tables
from swift_sample.core.renderers.builtin.tables.lights import LightTable
from swift_sample.core.renderers.builtin.tables.surfaces import (
    SurfaceTable,
    TextureTable,
    tree_records,
)
from swift_sample.core.renderers.builtin.tables.tree import Tree
from swift_sample.core.scene.model import Camera, Haze, Pose, Scene


@dataclass(kw_only=True)
class CompiledScene:
    """Everything kernels need to know about a scene; `record` leads to all of it."""

    surfaces: SurfaceTable
    textures: TextureTable
    lights: LightTable
    trees: list[Tree]
    materials: list[str]
    record: Records
    """SCENE"""
    visibility: "Visibility"

    @property
    def address(self) -> int:
        return self.record.address

    @property
    def memory_bytes(self) -> dict[str, int]:
        """What holds how much."""
        return {
            "geometry": self.surfaces.memory_bytes,
            "acceleration": sum(tree.memory_bytes for tree in self.trees),
            "textures": self.textures.memory_bytes + self.lights.environment.nbytes,
            "light choice": self.lights.memory_bytes
            - self.lights.environment.nbytes
            + self.visibility.shares.nbytes,
        }


@dataclass(frozen=True)
class Visibility:
    """By place, in cubes of `side` along each axis from `low` on, `scale` of them a metre: which
    share of what each light cluster might bring there it does bring, of 255. shares:
    uint8[VISIBILITY_SIDE^3, MAX_CLUSTERS], at least 1."""

    shares: np.ndarray
    side: int
    low: tuple[float, float, float]
    scale: tuple[float, float, float]


EVERYWHERE = Visibility(
    np.ones((VISIBILITY_SIDE**3, MAX_CLUSTERS), np.uint8), 1, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
)
"""Nothing is known: all places are alike, and every light may bring all it can."""


def join_tables(
    scene: Scene,
    surfaces: SurfaceTable,
    textures: TextureTable,
    trees: list[Tree],
    lights: LightTable,
    visibility: "Visibility | None" = None,
) -> CompiledScene:
    """Make the record that leads to all tables."""
    owners = surfaces.faces["material"]
    single = surfaces.materials["single_sided"][owners] != 0
    cut = surfaces.materials["cut"][owners]
    record = Records(SCENE)
    record.bind("trees", tree_records(trees, single, cut))
    record.bind("faces", surfaces.faces)
    record.bind("second_uvs", surfaces.second_uvs)
    record.bind("materials", surfaces.materials)
    record.bind("texture_uses", textures.uses)
    record.bind("haze", _haze_record(scene.haze))
    record.bind("energy", load_tables())
    record.bind("decode", srgb_decoded(np.arange(256) / 255).astype(np.float32))
    scene_record = record.records[0]
    scene_record["tree_count"] = len(trees)
    scene_record["met_trees"] = sum(not tree.camera_only for tree in trees)
    scene_record["sky_height"], scene_record["sky_width"] = lights.environment.shape[:2]
    scene_record["sky_rows"], scene_record["sky_columns"] = lights.sky_density.shape
    scene_record["turn"] = scene.environment.turn
    known = visibility or EVERYWHERE
    compiled = CompiledScene(
        surfaces=surfaces,
        textures=textures,
        lights=lights,
        trees=trees,
        materials=[m.name for m in scene.materials],
        record=record,
        visibility=known,
    )
    put_lights(compiled, lights)
    put_visibility(compiled, known)

    return compiled


def put_lights(compiled: CompiledScene, lights: LightTable) -> None:
    """Let a scene's record lead to these lights."""
    compiled.lights = lights
    for field in fields(lights):
        compiled.record.bind(field.name, getattr(lights, field.name))

    used = lights.clusters["count"] > 0
    near = np.flatnonzero(used & (lights.clusters["kind"] == NEAR))
    compiled.record.records[0]["cluster_count"] = np.flatnonzero(used).max(initial=-1) + 1
    compiled.record.records[0]["near_clusters"] = whole_blocks(near.max(initial=-1) + 1)


def put_visibility(compiled: CompiledScene, known: Visibility) -> None:
    """Let a scene's record know which lights reach where."""
    compiled.visibility = known
    compiled.record.bind("visibility", known.shares)
    fields = compiled.record.records[0]
    fields["visibility_side"] = known.side
    fields["visibility_low"] = known.low
    fields["visibility_scale"] = known.scale


def _haze_record(haze: Haze | None) -> Records | None:
    if haze is None or haze.density.max() <= 0 or max(haze.scattering) + max(haze.absorption) <= 0:
        return None

    record = Records(HAZE)
    record.bind("density", np.ascontiguousarray(haze.density, np.float32))
    fields = record.records[0]
    extinction = np.asarray(haze.scattering, float) + haze.absorption
    fields["low"] = haze.low
    fields["high"] = haze.high
    fields["scattering"] = haze.scattering
    fields["absorption"] = haze.absorption
    fields["extinction"] = extinction
    fields["anisotropy"] = np.clip(haze.anisotropy, -0.98, 0.98)
    fields["majorant"] = extinction.max() * haze.density.max()
    fields["layers"], fields["rows"], fields["columns"] = haze.density.shape
    fields["even"] = haze.density.size == 1

    return record


def compile_camera(
    camera: Camera,
    width: int,
    height: int,
    depth_of_field: bool = True,
    motion: bool = True,
    timed: bool = False,
) -> np.ndarray:
    """LENS[1] for pictures of this size; the vertical field is kept, the width follows.

    `timed` says that something in the scene moves while the shutter is open.
    """
    lens = np.zeros(1, LENS)
    fields = lens[0]
    opening = Pose(camera.position, camera.target, camera.up)
    closing = camera.closing if camera.closing is not None and motion else opening

    for k, pose in enumerate((opening, closing)):
        for name, vector in _axes(pose, camera, width / height).items():
            fields[name][k] = vector

    fields["moving"] = closing is not opening
    fields["timed"] = motion and (timed or closing is not opening)
    fields["orthographic"] = camera.half_height is not None

    if depth_of_field and camera.half_height is None:
        fields["aperture"] = camera.aperture
        fields["focus"] = camera.focus_distance

    return lens


def pixel_cone(camera: Camera, height: int) -> tuple[float, float]:
    """Angle in radians and width in metres of the cone of rays behind half a pixel (Akenine-Moeller
    et al. 2021, "Improved Shader and Texture Level of Detail Using Ray Cones", JCGT 10(1)); half,
    since filters and samples soften by themselves.
    """
    if camera.half_height is not None:
        return 0.0, camera.half_height / height

    return float(np.tan(camera.vertical_field / 2)) / height, 0.0


def _axes(pose: Pose, camera: Camera, aspect: float) -> dict[str, np.ndarray]:
    position, target, up = (
        np.asarray(v, np.float64) for v in (pose.position, pose.target, pose.up)
    )
    forward = target - position
    forward /= np.linalg.norm(forward)
    right = np.cross(forward, up)
    right /= np.linalg.norm(right)
    half = np.tan(camera.vertical_field / 2) if camera.half_height is None else camera.half_height

    return {
        "origin": position,
        "right": right * half * aspect,
        "up": np.cross(right, forward) * half,
        "forward": forward,
    }
