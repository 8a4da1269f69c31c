"""How much of the light a place of a triangle stops, where its material is cut out."""

from numba import int64, types

from swift_sample.core.kernels.compiling import VECTOR, kernel, part
from swift_sample.core.kernels.vector import ONE, ZERO, along, dot, f32, subtract
from swift_sample.core.renderers.builtin.kernels.textures import read_use, square_decoded
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at, i32_at
from swift_sample.core.renderers.builtin.lowlevel.records import (
    BASE,
    CUT_MASK,
    face_at,
    material_at,
    path_at,
    scene_at,
    texture_use_at,
    tree_at,
)


@kernel
def lane_vector(packets, first, row):
    """Three rows of a packet at one lane; `first` already contains the lane."""
    return (
        f32_at(packets, first + 8 * row),
        f32_at(packets, first + 8 * row + 8),
        f32_at(packets, first + 8 * row + 16),
    )


@kernel
def triangle_in(tree, slot, time):
    """(corner, first edge, second edge) of the triangle in a slot at a moment."""
    if tree.moving:
        first = (slot >> 3) * 144 + (slot & 7)
        return (
            along(lane_vector(tree.packets, first, 0), lane_vector(tree.packets, first, 9), time),
            along(lane_vector(tree.packets, first, 3), lane_vector(tree.packets, first, 12), time),
            along(lane_vector(tree.packets, first, 6), lane_vector(tree.packets, first, 15), time),
        )

    first = (slot >> 3) * 72 + (slot & 7)
    return (
        lane_vector(tree.packets, first, 0),
        lane_vector(tree.packets, first, 3),
        lane_vector(tree.packets, first, 6),
    )


@kernel
def barycentric(corner, edge1, edge2, point):
    """Weights of the second and third corner at a point of the triangle."""
    p = subtract(point, corner)
    d11 = dot(edge1, edge1)
    d12 = dot(edge1, edge2)
    d22 = dot(edge2, edge2)
    p1 = dot(p, edge1)
    p2 = dot(p, edge2)
    size = d11 * d22 - d12 * d12
    inverse = ONE / size if size != ZERO else ZERO

    return (d22 * p1 - d12 * p2) * inverse, (d11 * p2 - d12 * p1) * inverse


@kernel
def blended(field, wb, wc):
    return field[0] + wb * (field[1] - field[0]) + wc * (field[2] - field[0])


@kernel
def second_uv(scene, triangle, wb, wc):
    """The second pair of texture coordinates at a place of a triangle."""
    first = triangle * 6
    w = ONE - wb - wc

    return (
        w * f32_at(scene.second_uvs, first)
        + wb * f32_at(scene.second_uvs, first + 2)
        + wc * f32_at(scene.second_uvs, first + 4),
        w * f32_at(scene.second_uvs, first + 1)
        + wb * f32_at(scene.second_uvs, first + 3)
        + wc * f32_at(scene.second_uvs, first + 5),
    )


@kernel
def vertex_colour(face, wb, wc):
    a = square_decoded(face.colours[0])
    b = square_decoded(face.colours[1])
    c = square_decoded(face.colours[2])
    w = ONE - wb - wc

    return (
        w * a[0] + wb * b[0] + wc * c[0],
        w * a[1] + wb * b[1] + wc * c[1],
        w * a[2] + wb * b[2] + wc * c[2],
        w * a[3] + wb * b[3] + wc * c[3],
    )


@part(types.float32(types.int64, types.int64, types.int64, types.float32, types.float32))
def opacity_at(scene_address, path_address, triangle, wb, wc):
    """The share of light that a triangle with a cut-out stops at a place; 0 or 1 where it is
    masked."""
    scene = scene_at(scene_address, 0)
    path = path_at(path_address, 0)
    face = face_at(scene.faces, triangle)
    material = material_at(scene.materials, int64(face.material))
    opacity = material.opacity

    if material.slots[BASE] >= 0:
        use = texture_use_at(scene.texture_uses, int64(material.slots[BASE]))
        u, v = blended(face.u, wb, wc), blended(face.v, wb, wc)
        if use.uv_set != 0:
            u, v = second_uv(scene, triangle, wb, wc)
        opacity *= read_use(scene, path, use, u, v, f32(0))[3]
        path.thread.reads += 1

    if face.coloured:
        opacity *= vertex_colour(face, wb, wc)[3]
    if material.cut == CUT_MASK:
        return ONE if opacity >= material.cutoff else ZERO

    return opacity


@part(
    types.float32(
        types.int64,
        types.int64,
        types.int64,
        types.int64,
        *VECTOR,
        *VECTOR,
        types.float32,
        types.float32,
    )
)
def opacity_met(
    scene_address, path_address, tree_address, slot, ox, oy, oz, dx, dy, dz, distance, time
):
    """The same where a ray meets the triangle in a slot."""
    tree = tree_at(tree_address, 0)
    corner, edge1, edge2 = triangle_in(tree, slot, time)
    wb, wc = barycentric(corner, edge1, edge2, along((ox, oy, oz), (dx, dy, dz), distance))

    return opacity_at(scene_address, path_address, int64(i32_at(tree.triangles, slot)), wb, wc)
