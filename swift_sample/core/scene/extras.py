"""What glTF cannot say and `extras.swift_sample` can; docs/scenes.md explains it,
docs/scene-extras.schema.json states it.

The models below are the schema: unknown members and values out of range are errors.
"""

from dataclasses import replace
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator
from pydantic.alias_generators import to_camel

from swift_sample.core.errors import SceneError
from swift_sample.core.scene.environment import constant_environment, read_environment
from swift_sample.core.scene.gltf_document import TextureInfo
from swift_sample.core.scene.gltf_files import GltfFiles
from swift_sample.core.scene.gltf_materials import MaterialReader
from swift_sample.core.scene.model import Displacement, Environment, Haze, Scene, Subsurface

MAX_GRID_CELLS = 1 << 24

_Amount = Annotated[float, Field(ge=0, le=1e6)]
_Share = Annotated[float, Field(ge=0, le=1)]
_Length = Annotated[float, Field(gt=0, le=1e6)]
_Place = Annotated[float, Field(ge=-1e9, le=1e9)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, alias_generator=to_camel)


class SkyExtras(_Strict):
    """Light from everywhere: `colour` or `image` (a path beside the scene), times `strength`.

    `rotation` turns the picture around +Y in degrees, counter-clockwise seen from above.
    """

    colour: tuple[_Amount, _Amount, _Amount] | None = None
    image: str | None = None
    strength: _Amount = 1.0
    rotation: float = Field(0.0, ge=-3600, le=3600)

    @model_validator(mode="after")
    def _one_of_both(self) -> "SkyExtras":
        if (self.colour is None) == (self.image is None):
            raise ValueError("expected either colour or image")
        return self


class GridExtras(_Strict):
    """Densities at the middles of cells: `size` is how many along x, y and z; x runs fastest in
    `values`."""

    size: tuple[int, int, int]
    values: list[_Amount]

    @model_validator(mode="after")
    def _complete(self) -> "GridExtras":
        if min(self.size) < 1 or max(self.size) > 4096 or np.prod(self.size) > MAX_GRID_CELLS:
            raise ValueError(f"expected sizes from 1 to 4096 and at most {MAX_GRID_CELLS} cells")
        if len(self.values) != np.prod(self.size):
            raise ValueError(f"expected {np.prod(self.size)} values")

        return self


class HazeExtras(_Strict):
    """A medium that fills the box from `low` to `high`, in metres. Coefficients are per metre and
    colour."""

    low: tuple[_Place, _Place, _Place]
    high: tuple[_Place, _Place, _Place]
    scattering: tuple[_Amount, _Amount, _Amount]
    absorption: tuple[_Amount, _Amount, _Amount] = (0, 0, 0)
    anisotropy: float = Field(0, ge=-0.98, le=0.98)
    density: _Amount = 1.0
    grid: GridExtras | None = None

    @model_validator(mode="after")
    def _has_room(self) -> "HazeExtras":
        if any(a >= b for a, b in zip(self.low, self.high, strict=True)):
            raise ValueError("expected low below high")
        return self


class SubsurfaceExtras(_Strict):
    """Scattering below the surface: `meanFreePath` in metres and `albedo`, the share kept at each
    scattering."""

    mean_free_path: tuple[_Length, _Length, _Length]
    albedo: tuple[_Share, _Share, _Share]


class DisplacementExtras(_Strict):
    """Moves the surface by (first channel of `texture` - 0.5) times `scale` metres."""

    texture: int = Field(ge=0)
    scale: float = Field(ge=-1e3, le=1e3)
    tex_coord: int = Field(0, ge=0, le=1)


class MaterialExtras(_Strict):
    subsurface: SubsurfaceExtras | None = None
    displacement: DisplacementExtras | None = None


class LensExtras(_Strict):
    """A thin lens of radius `aperture` metres, sharp at `focusDistance` metres."""

    aperture: float = Field(ge=0, le=10)
    focus_distance: _Length


class SceneExtras(_Strict):
    """The object at `extras.swift_sample` of a glTF document; `materials` is by material name."""

    environment: SkyExtras | None = None
    haze: HazeExtras | None = None
    materials: dict[str, MaterialExtras] = {}
    lens: LensExtras | None = None


def with_extras(
    scene: Scene, extras: SceneExtras, files: GltfFiles, reader: MaterialReader
) -> Scene:
    """The scene with everything its extras say. Raises SceneError."""
    names = {material.name for material in scene.materials}
    materials = list(scene.materials)

    for name, said in extras.materials.items():
        if name not in names:
            raise SceneError(
                f"{files.path}: extras.swift_sample names the material {name!r}, which is not "
                f"there; there are {', '.join(sorted(names))[:200]}"
            )

        for place, material in enumerate(materials):
            if material.name == name:
                if said.subsurface is not None:
                    material = replace(
                        material,
                        subsurface=Subsurface(
                            said.subsurface.mean_free_path, said.subsurface.albedo
                        ),
                    )

                if said.displacement is not None:
                    info = {
                        "index": said.displacement.texture,
                        "texCoord": said.displacement.tex_coord,
                    }
                    use = reader.use(TextureInfo.model_validate(info), False)
                    if use is not None:
                        material = replace(
                            material, displacement=Displacement(use, said.displacement.scale)
                        )

                materials[place] = material

    camera = scene.camera
    if extras.lens is not None:
        camera = replace(
            camera, aperture=extras.lens.aperture, focus_distance=extras.lens.focus_distance
        )

    environment = (
        scene.environment if extras.environment is None else _environment(extras.environment, files)
    )
    return replace(
        scene, materials=materials, camera=camera, environment=environment, haze=_haze(extras.haze)
    )


def _environment(said: SkyExtras, files: GltfFiles) -> Environment:
    if said.colour is not None:
        red, green, blue = said.colour
        return constant_environment(
            (red * said.strength, green * said.strength, blue * said.strength)
        )

    assert said.image is not None
    return read_environment(files.file(said.image), said.strength, said.rotation)


def _haze(said: HazeExtras | None) -> Haze | None:
    if said is None:
        return None

    density = np.full((1, 1, 1), said.density, np.float32)
    if said.grid is not None:
        columns, rows, layers = said.grid.size
        density = np.array(said.grid.values, np.float32).reshape(
            layers, rows, columns
        ) * np.float32(said.density)

    return Haze(
        low=said.low,
        high=said.high,
        scattering=said.scattering,
        absorption=said.absorption,
        anisotropy=said.anisotropy,
        density=density,
    )
