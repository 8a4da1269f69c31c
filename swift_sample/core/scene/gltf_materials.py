"""glTF materials and textures, with the ratified extensions that say what a surface is like."""

import numpy as np

from swift_sample.core.scene import gltf_document as doc
from swift_sample.core.scene.gltf_document import MaterialPart, TextureInfo, extension
from swift_sample.core.scene.gltf_files import GltfFiles
from swift_sample.core.scene.model import (
    BLEND,
    CLAMP,
    MASK,
    MIRROR,
    OPAQUE,
    REPEAT,
    Colour,
    Material,
    PictureSource,
    Texture,
    TextureUse,
)

MATERIAL_EXTENSIONS = {
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_specular",
    "KHR_materials_transmission",
    "KHR_materials_volume",
    "KHR_materials_clearcoat",
    "KHR_materials_sheen",
    "KHR_materials_unlit",
    "KHR_materials_diffuse_transmission",
    "KHR_texture_transform",
}

INFINITE_IOR = 1000.0
"""What an index of refraction of 0 becomes, which the standard uses for reflection everywhere."""

_WRAPS = {10497: REPEAT, 33648: MIRROR, 33071: CLAMP}
_NEAREST = 9728


class MaterialReader:
    """Turns material parts into model materials; each picture is read once."""

    def __init__(self, files: GltfFiles) -> None:
        self._files = files
        self._pictures: dict[int, PictureSource] = {}
        self._textures: dict[tuple[int, bool], Texture] = {}
        self.notes: list[str] = []

    def material(self, part: MaterialPart) -> Material:
        surface = part.pbr_metallic_roughness
        extensions = part.extensions
        transmission = extension(extensions, "KHR_materials_transmission", doc.Transmission)
        volume = extension(extensions, "KHR_materials_volume", doc.Volume)
        specular = extension(extensions, "KHR_materials_specular", doc.Specular)
        coat = extension(extensions, "KHR_materials_clearcoat", doc.Clearcoat)
        sheen = extension(extensions, "KHR_materials_sheen", doc.Sheen)
        through = extension(
            extensions, "KHR_materials_diffuse_transmission", doc.DiffuseTransmission
        )
        strength = extension(
            extensions, "KHR_materials_emissive_strength", doc.EmissiveStrength
        ).emissive_strength
        ior = extension(extensions, "KHR_materials_ior", doc.Ior).ior
        red, green, blue, opacity = surface.base_color_factor
        emission = np.clip(part.emissive_factor, 0, 1e9) * strength

        slots: dict[str, tuple[TextureInfo | None, bool]] = {
            "base": (surface.base_color_texture, True),
            "metal_rough": (surface.metallic_roughness_texture, False),
            "normal": (part.normal_texture, False),
            "emission": (part.emissive_texture, True),
            "transmission": (transmission.transmission_texture, False),
            "coat": (coat.clearcoat_texture, False),
            "coat_roughness": (coat.clearcoat_roughness_texture, False),
            "coat_normal": (coat.clearcoat_normal_texture, False),
            "sheen_colour": (sheen.sheen_color_texture, True),
            "sheen_roughness": (sheen.sheen_roughness_texture, False),
            "specular": (specular.specular_texture, False),
            "specular_colour": (specular.specular_color_texture, True),
            "diffuse_transmission": (through.diffuse_transmission_texture, False),
            "diffuse_transmission_colour": (through.diffuse_transmission_color_texture, True),
        }
        used = {
            slot: self.use(info, srgb) for slot, (info, srgb) in slots.items() if info is not None
        }

        return Material(
            name=part.name,
            base_colour=_share(red, green, blue),
            metallic=surface.metallic_factor,
            roughness=surface.roughness_factor,
            ior=INFINITE_IOR if ior == 0 else max(1.0, ior),
            transmission=transmission.transmission_factor,
            thin=volume.thickness_factor == 0,
            absorption=_absorption(volume),
            emission=(float(emission[0]), float(emission[1]), float(emission[2])),
            opacity=min(1.0, max(0.0, opacity)),
            opacity_mode={"MASK": MASK, "BLEND": BLEND}.get(part.alpha_mode, OPAQUE),
            opacity_cutoff=part.alpha_cutoff,
            specular=specular.specular_factor,
            specular_colour=_positive(specular.specular_color_factor),
            coat=coat.clearcoat_factor,
            coat_roughness=coat.clearcoat_roughness_factor,
            sheen_colour=_share(*sheen.sheen_color_factor),
            sheen_roughness=sheen.sheen_roughness_factor,
            diffuse_transmission=through.diffuse_transmission_factor,
            diffuse_transmission_colour=_share(*through.diffuse_transmission_color_factor),
            normal_scale=part.normal_texture.scale if part.normal_texture else 1.0,
            coat_normal_scale=coat.clearcoat_normal_texture.scale
            if coat.clearcoat_normal_texture
            else 1.0,
            unlit="KHR_materials_unlit" in extensions,
            double_sided=part.double_sided,
            textures={slot: use for slot, use in used.items() if use is not None},
        )

    def use(self, info: TextureInfo, srgb: bool) -> TextureUse | None:
        """A texture with its transform; None, with a note, where its picture is in a format that is
        not read."""
        transform = extension(info.extensions, "KHR_texture_transform", doc.Transform)
        texture = self._texture(info.index, srgb)
        if texture is None:
            return None

        c = np.cos(transform.rotation)
        s = np.sin(transform.rotation)
        (sx, sy), (ox, oy) = transform.scale, transform.offset
        matrix = np.array([[sx * c, sy * s, ox], [-sx * s, sy * c, oy]])
        coordinates = info.tex_coord if transform.tex_coord is None else transform.tex_coord

        if coordinates > 1:
            self.notes.append(
                f"Texture coordinates {coordinates} are not read; the first set is used."
            )
            coordinates = 0

        return TextureUse(texture, matrix, coordinates)

    def _texture(self, index: int, srgb: bool) -> Texture | None:
        if (index, srgb) in self._textures:
            return self._textures[index, srgb]

        document = self._files.document
        part = document.textures[index]

        if part.source is None:
            self.notes.append(
                f"Left out: texture {index}, whose picture is in a format that is not read."
            )
            return None

        if part.source not in self._pictures:
            self._pictures[part.source] = self._files.picture(part.source)

        sampler = (
            document.samplers[part.sampler]
            if part.sampler is not None
            else doc.Sampler.model_validate({})
        )
        name = document.images[part.source].name or f"texture {index}"

        texture = Texture(
            name,
            self._pictures[part.source],
            srgb,
            (_WRAPS.get(sampler.wrap_s, REPEAT), _WRAPS.get(sampler.wrap_t, REPEAT)),
            sampler.mag_filter == _NEAREST,
        )
        self._textures[index, srgb] = texture
        return texture


def _absorption(volume: doc.Volume) -> Colour:
    """Coefficients per metre from glTF's attenuation (KHR_materials_volume)."""
    if volume.thickness_factor == 0:
        return (0.0, 0.0, 0.0)

    red, green, blue = (
        -np.log(np.clip(volume.attenuation_color, 1e-6, 1)) / volume.attenuation_distance
    )
    return float(red), float(green), float(blue)


def _share(red: float, green: float, blue: float) -> Colour:
    return min(1.0, max(0.0, red)), min(1.0, max(0.0, green)), min(1.0, max(0.0, blue))


def _positive(colour: Colour) -> Colour:
    return max(0.0, colour[0]), max(0.0, colour[1]), max(0.0, colour[2])
