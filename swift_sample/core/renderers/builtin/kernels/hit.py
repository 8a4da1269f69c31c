"""What a ray hits, and what the surface is like there."""

import math

from numba import int32, int64, types, uint32, uint64

from swift_sample.core.kernels.bits import float_of
from swift_sample.core.kernels.compiling import kernel, part
from swift_sample.core.kernels.vector import (
    ONE,
    TWO,
    ZERO,
    add,
    along,
    cross,
    dot,
    f32,
    frame,
    length,
    multiply,
    negate,
    normalize,
    scale,
    subtract,
    to_local,
)
from swift_sample.core.renderers.builtin.kernels.opacity import (
    barycentric,
    blended,
    second_uv,
    triangle_in,
    vertex_colour,
)
from swift_sample.core.renderers.builtin.kernels.textures import read_texture
from swift_sample.core.renderers.builtin.kernels.traverse import EVERYTHING, closest_hit
from swift_sample.core.renderers.builtin.lowlevel.memory import i32_at, set_vec, vec
from swift_sample.core.renderers.builtin.lowlevel.records import (
    BASE,
    CLEAR,
    COAT,
    COAT_NORMAL,
    COAT_ROUGHNESS,
    EMISSION,
    METAL_ROUGH,
    NO_NORMAL,
    NORMAL,
    SHEEN_COLOUR,
    SHEEN_ROUGHNESS,
    SPECULAR,
    SPECULAR_COLOUR,
    THROUGH,
    THROUGH_COLOUR,
    TREE_BYTES,
    face_at,
    material_at,
    path_at,
    scene_at,
    tree_at,
)

SMOOTH_ALPHA = f32(0.03**2)
"""At or under this a surface counts as perfectly smooth: GGX lobes this narrow are below a
pixel."""
ROUGH_ALPHA = f32(0.25**2)
"""Above this a surface counts as diffuse where caustics and the roughness floor ask."""


@kernel
def unfolded(packed):
    """A unit normal from its octahedral map (Cigolle et al. 2014, JCGT 3(2)), 16 bits each."""
    x = f32(packed & uint32(0xFFFF)) * f32(2 / 65534) - ONE
    y = f32(packed >> uint32(16)) * f32(2 / 65534) - ONE
    z = ONE - abs(x) - abs(y)

    if z < ZERO:
        x, y = (
            (ONE - abs(y)) * (ONE if x >= ZERO else -ONE),
            (ONE - abs(x)) * (ONE if y >= ZERO else -ONE),
        )

    return normalize((x, y, z))


@part(types.int64(types.int64, types.int64, types.float32, types.int64))
def find_hit(scene_address, path_address, limit, wanted):
    """Follow the path's ray to the nearest surface and note where it is; 0 where there is none
    before `limit`.

    `wanted` is EVERYTHING, MET or WALLS. Holes on the way stand in the path.
    """
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    path.holes = int32(0)
    o = vec(path.ray.origin)
    d = vec(path.ray.direction)
    slot = int64(-1)
    found_tree = int64(0)
    distance = limit

    for k in range(scene.tree_count if wanted == EVERYTHING else scene.met_trees):
        packed = closest_hit(
            scene_address,
            path_address,
            scene.trees + k * TREE_BYTES,
            path.working,
            o[0],
            o[1],
            o[2],
            d[0],
            d[1],
            d[2],
            distance,
            path.ray.time,
            wanted,
        )
        here = int64(int32(uint32(packed)))

        if here >= 0:
            slot = here
            found_tree = k
            distance = float_of(uint32(packed >> uint64(32)))

    path.hit.distance = distance
    path.hit.slot = int32(slot)
    path.hit.tree = int32(found_tree)

    if slot < 0:
        return 0

    tree = tree_at(scene.trees, found_tree)
    triangle = i32_at(tree.triangles, slot)
    face = face_at(scene.faces, int64(triangle))
    corner, edge1, edge2 = triangle_in(tree, slot, path.ray.time)
    perpendicular = cross(edge1, edge2)
    geometric = normalize(perpendicular)
    point = along(o, d, distance)
    front = dot(geometric, d) < ZERO
    path.hit.face = triangle
    path.hit.material = face.material
    path.hit.front = int32(front)
    set_vec(path.hit.geometric, geometric)
    set_vec(path.hit.facing, geometric if front else negate(geometric))
    path.hit.wb, path.hit.wc = barycentric(corner, edge1, edge2, point)
    # On the triangle, not along the ray: far from where the ray began its rounding would reach past
    # the surface.
    set_vec(path.hit.point, add(corner, add(scale(edge1, path.hit.wb), scale(edge2, path.hit.wc))))
    material = material_at(scene.materials, int64(face.material))

    if material.mapped:
        path.hit.uv[0], path.hit.uv[1] = (
            blended(face.u, path.hit.wb, path.hit.wc),
            blended(face.v, path.hit.wb, path.hit.wc),
        )
        if scene.second_uvs != 0:
            path.hit.uv[2], path.hit.uv[3] = second_uv(
                scene, int64(triangle), path.hit.wb, path.hit.wc
            )

        # The direction along which u grows, for normal maps.
        u1 = face.u[1] - face.u[0]
        u2 = face.u[2] - face.u[0]
        v1 = face.v[1] - face.v[0]
        v2 = face.v[2] - face.v[0]
        turned = subtract(scale(edge1, v2), scale(edge2, v1))
        turn = u1 * v2 - u2 * v1
        mirrored = turn >= ZERO
        path.hit.density_of_uv = math.sqrt(abs(turn) / max(length(perpendicular), f32(1e-30)))
        set_vec(path.hit.along_u, turned if mirrored else negate(turned))
        path.hit.up_sign = -ONE if mirrored else ONE

    return 1


@kernel
def shading_normal(face, geometric, wb, wc):
    """The interpolated normal, on the geometric normal's side; the geometric one where the mesh has
    none."""
    if face.normals[0] == NO_NORMAL:
        return geometric

    a = unfolded(face.normals[0])
    b = unfolded(face.normals[1])
    c = unfolded(face.normals[2])
    n = add(scale(a, ONE - wb - wc), add(scale(b, wb), scale(c, wc)))

    if dot(n, n) < f32(1e-6):
        return geometric

    n = normalize(n)
    return n if dot(n, geometric) >= ZERO else negate(n)


@kernel
def mapped_normal(path, normal, strength):
    """The normal turned by the current texel (glTF 2.0, section 3.9.3)."""
    x, y = (TWO * path.texel[0] - ONE) * strength, (TWO * path.texel[1] - ONE) * strength
    z = TWO * path.texel[2] - ONE
    u = vec(path.hit.along_u)
    u = subtract(u, scale(normal, dot(u, normal)))

    if dot(u, u) <= f32(1e-20):
        return normal

    u = normalize(u)
    # glTF's v runs down the picture, its green channel up.
    return normalize(
        add(
            add(scale(u, x), scale(cross(normal, u), y * path.hit.up_sign)),
            scale(normal, max(z, f32(1e-3))),
        )
    )


@kernel
def towards_viewer(normal, facing, view):
    """The normal where the viewer can see that side of it; else the geometric one."""
    return normal if dot(normal, view) >= f32(1e-4) else facing


@part(types.void(types.int64, types.int64, types.float32, types.float32))
def read_surface(scene_address, path_address, eta, floor_alpha):
    """Fill in what the current surface is like; `eta` is the index of refraction behind it over
    that in front."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    material = material_at(scene.materials, int64(path.hit.material))
    face = face_at(scene.faces, int64(path.hit.face))
    base = vec(material.base)
    metallic = material.metallic
    roughness = material.roughness
    transmission = material.transmission
    through = material.through
    specular = material.specular
    coat = material.coat
    coat_roughness = material.coat_roughness
    sheen_roughness = material.sheen_roughness
    sheen = vec(material.sheen_colour)
    tint = vec(material.specular_colour)
    through_colour = vec(material.through_colour)
    view = negate(vec(path.ray.direction))
    normal = shading_normal(face, vec(path.hit.geometric), path.hit.wb, path.hit.wc)
    coat_normal = normal

    if face.coloured:
        c = vertex_colour(face, path.hit.wb, path.hit.wc)
        base = multiply(base, (c[0], c[1], c[2]))

    if material.mapped:
        slots = material.slots
        for slot in range(14):
            if slots[slot] < 0 or slot == EMISSION:
                continue

            read_texture(scene_address, path_address, int64(slots[slot]), path.ray.width)
            t = path.texel

            if slot == BASE:
                base = multiply(base, (t[0], t[1], t[2]))
            elif slot == METAL_ROUGH:
                roughness = roughness * t[1]
                metallic = metallic * t[2]
            elif slot == NORMAL:
                normal = mapped_normal(path, normal, material.normal_scale)
            elif slot == CLEAR:
                transmission *= t[0]
            elif slot == COAT:
                coat *= t[0]
            elif slot == COAT_ROUGHNESS:
                coat_roughness *= t[1]
            elif slot == COAT_NORMAL:
                coat_normal = mapped_normal(path, coat_normal, material.coat_normal_scale)
            elif slot == SHEEN_COLOUR:
                sheen = multiply(sheen, (t[0], t[1], t[2]))
            elif slot == SHEEN_ROUGHNESS:
                sheen_roughness *= t[3]
            elif slot == SPECULAR:
                specular *= t[3]
            elif slot == SPECULAR_COLOUR:
                tint = multiply(tint, (t[0], t[1], t[2]))
            elif slot == THROUGH:
                through *= t[3]
            elif slot == THROUGH_COLOUR:
                through_colour = multiply(through_colour, (t[0], t[1], t[2]))

    if not path.hit.front:
        normal = negate(normal)
        coat_normal = negate(coat_normal)

    facing = vec(path.hit.facing)
    normal = towards_viewer(normal, facing, view)
    tangent, bitangent = frame(normal)
    out = to_local(view, tangent, bitangent, normal)
    set_vec(path.surface.normal, normal)
    set_vec(path.surface.tangent, tangent)
    set_vec(path.surface.bitangent, bitangent)
    set_vec(path.surface.out, (out[0], out[1], max(out[2], f32(1e-5))))
    set_vec(path.surface.base, base)
    path.surface.metallic = metallic
    path.surface.transmission = transmission
    path.surface.eta = eta
    path.surface.alpha = max(roughness * roughness, floor_alpha)
    path.surface.smooth = int32(path.surface.alpha <= SMOOTH_ALPHA)
    path.surface.thin = int32(material.volume == 0)
    path.surface.walks = material.walks
    path.surface.coat = coat
    path.surface.specular = specular
    path.surface.through = through
    path.surface.plain = int32(
        coat <= ZERO and max(sheen[0], max(sheen[1], sheen[2])) <= ZERO and through <= ZERO
    )
    set_vec(path.surface.specular_tint, tint)

    if not path.surface.plain:
        path.surface.coat_alpha = max(coat_roughness * coat_roughness, floor_alpha)
        path.surface.coat_smooth = int32(path.surface.coat_alpha <= SMOOTH_ALPHA)
        coat_local = to_local(towards_viewer(coat_normal, facing, view), tangent, bitangent, normal)
        set_vec(path.surface.coat_normal, coat_local)
        path.surface.sheen_alpha = max(sheen_roughness * sheen_roughness, f32(0.07**2))
        set_vec(path.surface.sheen_colour, sheen)
        set_vec(path.surface.through_colour, through_colour)


@kernel
def emission_at(scene_address, path_address):
    """What the current surface sends out by itself, on a side that does."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    material = material_at(scene.materials, int64(path.hit.material))
    emission = vec(material.emission)

    if material.slots[EMISSION] >= 0:
        read_texture(scene_address, path_address, int64(material.slots[EMISSION]), ZERO)
        emission = multiply(emission, (path.texel[0], path.texel[1], path.texel[2]))

    return emission
