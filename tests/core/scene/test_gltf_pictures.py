"""What glTF says, as it shows in the picture: each thing is rendered against a closed form or its
plain counterpart."""

import math
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import SceneError
from swift_sample.core.scene.model import Choices
from swift_sample.core.scene.open import open_scene
from tests.core.renderers.builtin.kernels.scenes import take
from tests.core.scene.gltf_maker import ORDER, SQUARE, GltfMaker

UNLIT = {"extensions": {"KHR_materials_unlit": {}}}
UVS = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
QUARTERS = np.array([[[255, 0, 0], [0, 255, 0]], [[0, 0, 255], [255, 255, 255]]], np.uint8)


def shown(
    maker: GltfMaker, tmp_path: Path, choices: Choices | None = None, size: int = 8, **settings
) -> np.ndarray:
    scene = open_scene(str(maker.save(tmp_path / "scene.glb")), choices)
    settings = {"samples__max": 4, "samples__pixel_filter": "box", **settings}
    return take(scene, (size, size), **settings)[0].beauty


def coloured(**material) -> dict:
    return {"materials": [{"name": "first", **UNLIT, **material}]}


def textured(
    tmp_path: Path, info: dict, sampler: dict | None = None, uvs: np.ndarray = UVS, set_: int = 0
) -> np.ndarray:
    maker = GltfMaker(**coloured(pbrMetallicRoughness={"baseColorTexture": {"index": 0, **info}}))
    if set_:
        maker.attributes["TEXCOORD_0"] = maker.add(np.zeros((4, 2), np.float32))

    maker.attributes[f"TEXCOORD_{set_}"] = maker.add(uvs.astype(np.float32))
    maker.picture(QUARTERS)
    maker.changes |= {
        "samplers": [sampler or {"magFilter": 9728}],
        "textures": [{"source": 0, "sampler": 0}],
    }

    return shown(maker, tmp_path)


def corners(picture: np.ndarray) -> list[list[int]]:
    """Upper left, upper right, lower left, lower right as 0 and 1."""
    return [
        np.round(picture[y, x]).astype(int).tolist()
        for y, x in ((1, 1), (1, -2), (-2, 1), (-2, -2))
    ]


RED = [1, 0, 0]
GREEN = [0, 1, 0]
BLUE = [0, 0, 1]
WHITE = [1, 1, 1]


def test_textures_stand_upright_and_nearest_is_honoured(tmp_path: Path) -> None:
    picture = textured(tmp_path, {})
    assert corners(picture) == [RED, GREEN, BLUE, WHITE]
    assert set(np.unique(np.round(picture, 4))) == {0.0, 1.0}
    smooth = textured(tmp_path, {}, {"magFilter": 9729, "wrapS": 33071, "wrapT": 33071})
    assert len(np.unique(np.round(smooth, 4))) > 4
    assert corners(smooth)[0] == RED


@pytest.mark.parametrize(("wrap", "row"), [(10497, "rgrg"), (33648, "rggr"), (33071, "rggg")])
def test_wrap_modes(tmp_path: Path, wrap: int, row: str) -> None:
    picture = textured(tmp_path, {}, {"magFilter": 9728, "wrapS": wrap}, UVS * [2, 1])
    names = ["r" if p[0] > p[1] else "g" for p in picture[1, 1::2]]
    assert "".join(names) == row


def test_texture_transform_and_second_coordinates(tmp_path: Path) -> None:
    turned = textured(
        tmp_path,
        {"extensions": {"KHR_texture_transform": {"rotation": math.pi / 2, "offset": [0, 1]}}},
    )
    # Coordinates turn counter-clockwise, so the picture turns clockwise.
    assert corners(turned) == [BLUE, RED, WHITE, GREEN]
    assert corners(textured(tmp_path, {"texCoord": 1}, set_=1)) == [RED, GREEN, BLUE, WHITE]
    shifted = textured(
        tmp_path, {"extensions": {"KHR_texture_transform": {"offset": [0.5, 0], "scale": [1, 1]}}}
    )
    assert corners(shifted) == [GREEN, RED, WHITE, BLUE]


def test_srgb_colour_and_linear_data(tmp_path: Path) -> None:
    maker = GltfMaker(**coloured(pbrMetallicRoughness={"baseColorTexture": {"index": 0}}))
    maker.attributes["TEXCOORD_0"] = maker.add(UVS)
    maker.picture(np.full((2, 2, 3), 188, np.uint8))
    assert shown(maker, tmp_path)[4, 4] == pytest.approx(
        [0.5029] * 3, abs=1e-3
    )  # 188 / 255 by IEC 61966-2-1


@pytest.mark.parametrize("kind", ["f4", "u1", "u2"])
def test_vertex_colours_multiply(tmp_path: Path, kind: str) -> None:
    maker = GltfMaker(**coloured(pbrMetallicRoughness={"baseColorFactor": [0.5, 1, 1, 1]}))
    values = np.tile([1.0, 0.5, 0.25], (4, 1))
    scaled = (
        values.astype("f4") if kind == "f4" else np.round(values * np.iinfo(kind).max).astype(kind)
    )
    stride = 4 if kind == "u1" else 8 if kind == "u2" else None
    maker.attributes["COLOR_0"] = maker.add(scaled, normalized=kind != "f4", stride=stride)
    assert shown(maker, tmp_path)[4, 4] == pytest.approx([0.5, 0.5, 0.25], abs=0.01)


@pytest.mark.parametrize("order", [ORDER.astype(t) for t in ("u1", "u2", "u4")] + [None])
def test_every_way_to_index(tmp_path: Path, order: np.ndarray | None) -> None:
    positions = SQUARE if order is not None else SQUARE[ORDER]
    maker = GltfMaker(positions, **coloured())
    maker.order = maker.add(order) if order is not None else None
    assert shown(maker, tmp_path).min() == 1


def test_strides_sparse_and_quantised_positions(tmp_path: Path) -> None:
    maker = GltfMaker(**coloured())
    maker.attributes["POSITION"] = maker.add(SQUARE, stride=20)
    assert shown(maker, tmp_path).min() == 1
    maker = GltfMaker(**coloured())
    wrong = SQUARE.copy()
    wrong[2] = 0

    sparse = {
        "count": 1,
        "indices": {"bufferView": maker.view(np.array([2], "u2").tobytes()), "componentType": 5123},
        "values": {"bufferView": maker.view(SQUARE[2].tobytes())},
    }
    maker.attributes["POSITION"] = maker.add(wrong, sparse=sparse)
    assert shown(maker, tmp_path).min() == 1
    maker = GltfMaker(**coloured(), extensionsRequired=["KHR_mesh_quantization"])
    maker.attributes["POSITION"] = maker.add(
        np.round(SQUARE * 32767).astype("i2"), normalized=True, stride=8
    )
    assert shown(maker, tmp_path).min() == 1


def test_single_sided_surfaces_are_not_there_from_behind(tmp_path: Path) -> None:
    flipped = {
        "nodes": [
            {"mesh": 0, "rotation": [0, 1, 0, 0], "translation": [1, 0, 0]},
            {"camera": 0, "translation": [0.5, 0.5, 3]},
        ]
    }
    sky = {"extras": {"swift_sample": {"environment": {"colour": [0.25, 0.25, 0.25]}}}}
    assert shown(GltfMaker(**coloured(), **flipped, **sky), tmp_path).max() == 0.25
    assert shown(GltfMaker(**coloured(doubleSided=True), **flipped, **sky), tmp_path).min() == 1


def test_mask_and_blend(tmp_path: Path) -> None:
    sky = {"extras": {"swift_sample": {"environment": {"colour": [0, 0, 0]}}}}
    half = {"pbrMetallicRoughness": {"baseColorFactor": [1, 1, 1, 0.4]}}
    assert shown(GltfMaker(**coloured(alphaMode="MASK", **half), **sky), tmp_path).max() == 0
    assert (
        shown(
            GltfMaker(**coloured(alphaMode="MASK", alphaCutoff=0.3, **half), **sky), tmp_path
        ).min()
        == 1
    )
    assert shown(GltfMaker(**coloured(**half), **sky), tmp_path).min() == 1
    assert shown(
        GltfMaker(**coloured(alphaMode="BLEND", **half), **sky), tmp_path, samples__max=256
    ).mean() == pytest.approx(0.4, abs=0.02)


def test_variants_change_the_material(tmp_path: Path) -> None:
    maker = GltfMaker(
        materials=[
            {"pbrMetallicRoughness": {"baseColorFactor": [*c, 1]}, **UNLIT} for c in (RED, BLUE)
        ],
        extensions={"KHR_materials_variants": {"variants": [{"name": "red"}, {"name": "blue"}]}},
    )
    content = maker.document()
    content["meshes"][0]["primitives"][0]["extensions"] = {
        "KHR_materials_variants": {
            "mappings": [{"variants": [0], "material": 0}, {"variants": [1], "material": 1}]
        }
    }
    maker.changes |= {"meshes": content["meshes"]}
    assert shown(maker, tmp_path)[4, 4].tolist() == RED
    assert shown(maker, tmp_path, Choices(variant="blue"))[4, 4].tolist() == BLUE
    with pytest.raises(
        SceneError, match=r"geometry\.variant=green is not one of its variants; there are red, blue"
    ):
        shown(maker, tmp_path, Choices(variant="green"))


def test_instances(tmp_path: Path) -> None:
    maker = GltfMaker(**coloured())
    places = np.array([[0, 0, 0], [0.5, 0, 0], [0, 0.5, 0]], np.float32)
    sizes = np.full((3, 3), 0.5, np.float32)
    extensions = {
        "EXT_mesh_gpu_instancing": {
            "attributes": {"TRANSLATION": maker.add(places), "SCALE": maker.add(sizes)}
        }
    }
    maker.changes |= {
        "nodes": [
            {"mesh": 0, "extensions": extensions},
            {"camera": 0, "translation": [0.5, 0.5, 3]},
        ],
        "extras": {"swift_sample": {"environment": {"colour": [0, 0, 0]}}},
    }

    picture = shown(maker, tmp_path)
    assert [c == WHITE for c in corners(picture)] == [True, False, True, True]


@pytest.mark.parametrize("kind", ["LINEAR", "STEP", "CUBICSPLINE"])
def test_animation_moves_nodes_and_blurs_them(tmp_path: Path, kind: str) -> None:
    maker = GltfMaker(**coloured(), extras={"swift_sample": {"environment": {"colour": [0, 0, 0]}}})
    ends = np.array([[0, 0, 0], [2, 0, 0]], np.float32)
    if kind == "CUBICSPLINE":
        ends = np.array([[0, 0, 0], ends[0], [2, 0, 0], [2, 0, 0], ends[1], [0, 0, 0]], np.float32)

    maker.changes |= {
        "animations": [
            {
                "samplers": [
                    {
                        "input": maker.add(np.array([0, 1], np.float32)),
                        "output": maker.add(ends),
                        "interpolation": kind,
                    }
                ],
                "channels": [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
            }
        ]
    }
    scene = open_scene(str(maker.save(tmp_path / "a.glb")), Choices(frame=6))
    assert scene.frames == 25
    # A quarter of the way after a quarter of a second; stepped motion waits. Slopes of 2 make the
    # cubic a straight line.
    assert scene.meshes[0].positions[0, 0] == pytest.approx(0 if kind == "STEP" else 0.5)

    if kind == "LINEAR":
        picture = shown(maker, tmp_path, Choices(frame=0, shutter=12.0), size=16, samples__max=64)
        # The square leaves to the right by its own width: what it covers falls evenly from 1 to 0
        # to the left.
        assert picture[8, :, 0] == pytest.approx((np.arange(16) + 0.5) / 16, abs=0.08)


def test_punctual_lights(tmp_path: Path) -> None:
    lights = {
        "lights": [
            {"type": "point", "intensity": 2.0},
            {"type": "directional", "intensity": 0.5, "color": [1, 0, 0]},
        ]
    }
    maker = GltfMaker(
        extensions={"KHR_lights_punctual": lights},
        materials=[
            {
                "pbrMetallicRoughness": {"metallicFactor": 0},
                "extensions": {"KHR_materials_ior": {"ior": 1}},
            }
        ],
        nodes=[
            {"mesh": 0, "scale": [9, 9, 9], "translation": [-4, -4, 0]},
            {"camera": 0, "translation": [0.5, 0.5, 3]},
            {"translation": [0.5, 0.5, 2], "extensions": {"KHR_lights_punctual": {"light": 0}}},
            {"extensions": {"KHR_lights_punctual": {"light": 1}}},
        ],
        scenes=[{"nodes": [0, 1, 2, 3]}],
    )

    picture = shown(maker, tmp_path, size=33, samples__max=512)
    assert picture[16, 16] == pytest.approx(
        np.array([2 / 4 + 0.5, 2 / 4, 2 / 4]) / math.pi, rel=0.01
    )


def test_normal_maps_tilt_towards_their_green_and_red(tmp_path: Path) -> None:
    # Light from the right: a surface tilted to the right is brighter. Light from above: tilted up
    # is brighter.
    def brightness(texel: tuple[int, int, int], rotation: list[float]) -> float:
        maker = GltfMaker(
            materials=[
                {
                    "pbrMetallicRoughness": {"metallicFactor": 0, "baseColorFactor": [1, 1, 1, 1]},
                    "normalTexture": {"index": 0},
                    "extensions": {"KHR_materials_ior": {"ior": 1}},
                }
            ],
            extensions={
                "KHR_lights_punctual": {"lights": [{"type": "directional", "intensity": math.pi}]}
            },
            nodes=[
                {"mesh": 0},
                {"camera": 0, "translation": [0.5, 0.5, 3]},
                {"rotation": rotation, "extensions": {"KHR_lights_punctual": {"light": 0}}},
            ],
            scenes=[{"nodes": [0, 1, 2]}],
        )
        maker.attributes["TEXCOORD_0"] = maker.add(UVS)
        maker.picture(np.full((2, 2, 3), texel, np.uint8))

        return float(shown(maker, tmp_path)[4, 4, 0])

    s = math.sin(math.pi / 8)
    c = math.cos(math.pi / 8)
    from_right = [0, s, 0, c]
    from_above = [-s, 0, 0, c]
    tilted = 128 + 90
    assert brightness((tilted, 128, 218), from_right) == pytest.approx(1.0, abs=0.02)
    assert brightness((128, tilted, 218), from_above) == pytest.approx(1.0, abs=0.02)
    assert brightness((128, 128, 255), from_above) == pytest.approx(math.sqrt(0.5), abs=0.02)
    assert brightness((256 - tilted, 128, 218), from_right) < 0.1


LAYERS = {
    "clear coat": ({"KHR_materials_clearcoat": {"clearcoatFactor": 1.0}}, "coat", 1.0),
    "sheen": (
        {"KHR_materials_sheen": {"sheenColorFactor": [1, 0.5, 0.25], "sheenRoughnessFactor": 0.8}},
        "sheen_colour",
        (1, 0.5, 0.25),
    ),
    "specular": ({"KHR_materials_specular": {"specularFactor": 0.25}}, "specular", 0.25),
    "leaf": (
        {"KHR_materials_diffuse_transmission": {"diffuseTransmissionFactor": 0.5}},
        "diffuse_transmission",
        0.5,
    ),
    "no index": ({"KHR_materials_ior": {"ior": 0}}, "ior", 1000.0),
    "emission": (
        {"KHR_materials_emissive_strength": {"emissiveStrength": 4}},
        "emission",
        (4, 2, 0),
    ),
}


@pytest.mark.parametrize("name", LAYERS)
def test_material_extensions_reach_the_material_and_the_picture(tmp_path: Path, name: str) -> None:
    extensions, attribute, value = LAYERS[name]
    plain = {
        "emissiveFactor": [1, 0.5, 0],
        "pbrMetallicRoughness": {"metallicFactor": 0, "baseColorFactor": [0.2, 0.3, 0.4, 1]},
    }

    sky = {"extras": {"swift_sample": {"environment": {"colour": [1, 1, 1]}}}}
    with_it = GltfMaker(materials=[{**plain, "extensions": extensions}], **sky)
    scene = open_scene(str(with_it.save(tmp_path / "a.glb")))
    assert getattr(scene.materials[0], attribute) == value
    without = shown(GltfMaker(materials=[plain], **sky), tmp_path, samples__max=64)
    assert abs(shown(with_it, tmp_path, samples__max=64) - without).mean() > 0.01


def test_a_file_of_another_exporter_shows_its_own_materials(tmp_path: Path) -> None:
    import trimesh
    from trimesh.visual import TextureVisuals
    from trimesh.visual.material import PBRMaterial

    made = trimesh.Scene()
    for name, colour, x in (("jar", [200, 30, 20, 255], -1.2), ("wax", [20, 30, 200, 255], 1.2)):
        mesh = trimesh.creation.icosphere(3)
        own = PBRMaterial(name=name, baseColorFactor=colour, metallicFactor=0, roughnessFactor=0.8)
        mesh.visual = TextureVisuals(material=own)
        made.add_geometry(
            mesh, geom_name=name, transform=trimesh.transformations.translation_matrix([x, 0, 0])
        )

    path = tmp_path / "other.glb"
    path.write_bytes(made.export(file_type="glb"))
    scene = open_scene(str(path))
    assert {m.name for m in scene.materials} >= {"jar", "wax"}
    picture, _ = take(scene, (48, 24), samples__max=32)
    left, right = picture.beauty[:, :24].mean(axis=(0, 1)), picture.beauty[:, 24:].mean(axis=(0, 1))
    assert left[0] > left[2]
    assert right[2] > right[0]
