"""What a path is inside of: closed volumes that nest by priority."""

import math

from numba import int32

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import HUGE, ONE
from swift_sample.core.renderers.builtin.lowlevel.memory import vec
from swift_sample.core.renderers.builtin.lowlevel.records import MAX_NESTED_MEDIA, material_at


@kernel
def ruling_medium(scene, path, without):
    """The place of the medium with the highest priority, the latest of equals, leaving one place
    out; -1 for air."""
    best = -1
    best_priority = -1

    for i in range(path.media_count):
        if i != without:
            priority = material_at(scene.materials, path.media[i]).priority
            if priority >= best_priority:
                best = i
                best_priority = priority

    return best


@kernel
def place_of(path, material):
    """The latest place of a material on the stack, -1 where it is missing."""
    for i in range(path.media_count - 1, -1, -1):
        if path.media[i] == material:
            return i

    return -1


@kernel
def ior_at(scene, path, place):
    return material_at(scene.materials, path.media[place]).ior if place >= 0 else ONE


@kernel
def cross_boundary(path, material, entering):
    """Put a material on the stack or take it off."""
    count = path.media_count
    if entering:
        if count < MAX_NESTED_MEDIA:
            path.media[count] = material
            path.media_count = count + 1
        return

    place = place_of(path, material)
    if place >= 0:
        for i in range(place, count - 1):
            path.media[i] = path.media[i + 1]
        path.media_count = int32(count - 1)


@kernel
def absorbed(scene, path, distance):
    """The share of light that is left after a distance in the ruling medium (Beer-Lambert)."""
    place = ruling_medium(scene, path, -1)
    if place < 0 or distance >= HUGE:
        return (ONE, ONE, ONE)

    a = vec(material_at(scene.materials, path.media[place]).absorption)
    return math.exp(-a[0] * distance), math.exp(-a[1] * distance), math.exp(-a[2] * distance)
