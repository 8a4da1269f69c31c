"""One pixel's sums: read from the film, added to, and put back."""

from numba import int64

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.renderers.builtin.lowlevel.memory import f32_at, put_f32
from swift_sample.core.renderers.builtin.lowlevel.records import EMISSION_PASS


@kernel
def add_passes(sums, path):
    """Add one sample's light by the first scattering."""
    for axis in range(3):
        sums[EMISSION_PASS, axis] += path.sample.seen[axis]

    for kind in range(4):
        for axis in range(3):
            sums[kind, axis] += path.sample.direct[kind, axis]

    if path.bounce > 0:
        indirect = 4 + int64(path.first_kind)
        for axis in range(3):
            sums[indirect, axis] += path.sample.indirect[axis]


@kernel
def add_sample(job, path, half):
    """Add one sample to the sums of its pixel."""
    for axis in range(3):
        path.pixel.halves[half, axis] += path.sample.total[axis]
        path.pixel.guides[axis] += path.sample.albedo[axis]
        path.pixel.guides[3 + axis] += path.sample.normal[axis]

    path.pixel.guides[6] += path.sample.depth
    if job.passes != 0:
        add_passes(path.pixel.passes, path)
        if half and job.passes_half != 0:
            add_passes(path.pixel.passes_half, path)

    if half and job.guides_half != 0:
        for axis in range(3):
            path.pixel.guides_half[axis] += path.sample.albedo[axis]
            path.pixel.guides_half[3 + axis] += path.sample.normal[axis]
        path.pixel.guides_half[6] += path.sample.depth


@kernel
def read_row(field, address, place, length):
    for k in range(length):
        field[k] = f32_at(address, place * length + k)


@kernel
def write_row(field, address, place, length):
    for k in range(length):
        put_f32(address, place * length + k, field[k])


@kernel
def read_passes(field, address, place):
    for k in range(9):
        for axis in range(3):
            field[k, axis] = f32_at(address, (place * 9 + k) * 3 + axis)


@kernel
def write_passes(field, address, place):
    for k in range(9):
        for axis in range(3):
            put_f32(address, (place * 9 + k) * 3 + axis, field[k, axis])


@kernel
def load_pixel(job, path, place):
    """Go on from the sums that the film holds, so that rounds of any length add up to the same
    bits."""
    read_row(path.pixel.halves[0], job.half_a, place, 3)
    read_row(path.pixel.halves[1], job.half_b, place, 3)
    read_row(path.pixel.guides, job.guides, place, 7)

    if job.passes != 0:
        read_passes(path.pixel.passes, job.passes, place)
    if job.passes_half != 0:
        read_passes(path.pixel.passes_half, job.passes_half, place)
    if job.guides_half != 0:
        read_row(path.pixel.guides_half, job.guides_half, place, 7)


@kernel
def store_pixel(job, path, place):
    """Put the sums back into the film."""
    write_row(path.pixel.halves[0], job.half_a, place, 3)
    write_row(path.pixel.halves[1], job.half_b, place, 3)
    write_row(path.pixel.guides, job.guides, place, 7)

    if job.passes != 0:
        write_passes(path.pixel.passes, job.passes, place)
    if job.passes_half != 0:
        write_passes(path.pixel.passes_half, job.passes_half, place)
    if job.guides_half != 0:
        write_row(path.pixel.guides_half, job.guides_half, place, 7)
