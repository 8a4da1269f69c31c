"""Random numbers: pure functions of pixel, sample index, dimension and seed.

Pairs of dimensions come from the first two dimensions of the Sobol sequence, its index shuffled and
its values Owen-scrambled by hashing, anew for every pair (Burley 2020, "Practical Hash-based Owen
Scrambling", JCGT 9(4)). Nothing depends on tiles, threads or order.
"""

from numba import uint32

from swift_sample.core.kernels.compiling import kernel
from swift_sample.core.kernels.vector import f32
from swift_sample.core.renderers.builtin.lowlevel.simd import reverse_bits

EVEN, RANDOM, BLUE_NOISE = 0, 1, 2
"""Sample patterns, in the order of the catalogue."""

TO_UNIT = f32(2.0**-24)


@kernel
def hash_bits(value):
    """A uint32 hash with good avalanche (the two-round multiply-xorshift of Wellons 2018,
    `lowbias32`)."""
    x = uint32(value)
    x = uint32((x ^ (x >> uint32(16))) * uint32(0x7FEB352D))
    x = uint32((x ^ (x >> uint32(15))) * uint32(0x846CA68B))

    return uint32(x ^ (x >> uint32(16)))


@kernel
def pixel_seed(x, y, seed):
    """The seed of everything random in one pixel."""
    row = hash_bits(uint32(y) + uint32(0x85EBCA6B) * hash_bits(uint32(seed)))
    return hash_bits(uint32(x) + uint32(0x9E3779B9) * row)


@kernel
def curve_place(x, y):
    """Where a pixel stands on the Z curve over the picture: the bits of both coordinates in turn,
    16 of each. With the samples of each pixel behind it (`render_pixel`), the highest bits are lost
    where a picture has more than 2^32: places far apart then have the same samples."""
    return uint32(_spread(uint32(x)) | (_spread(uint32(y)) << uint32(1)))


@kernel
def _spread(value):
    """The lower 16 bits with a 0 between each two."""
    v = uint32(value & uint32(0xFFFF))
    v = uint32((v | (v << uint32(8))) & uint32(0x00FF00FF))
    v = uint32((v | (v << uint32(4))) & uint32(0x0F0F0F0F))
    v = uint32((v | (v << uint32(2))) & uint32(0x33333333))

    return uint32((v | (v << uint32(1))) & uint32(0x55555555))


@kernel
def scramble_low_to_high(value, seed):
    """Laine-Karras permutation: each bit is flipped depending on the bits below it only (Burley
    2020, listing 3)."""
    x = uint32(uint32(value) + uint32(seed))
    x = uint32(x ^ (x * uint32(0x6C50B47C)))
    x = uint32(x ^ (x * uint32(0xB82F1E52)))
    x = uint32(x ^ (x * uint32(0xC7AFE638)))

    return uint32(x ^ (x * uint32(0x8D22F6E6)))


@kernel
def sobol_second_reversed(index):
    """The second Sobol dimension of `index`, its 32 bits in reversed order.

    Its generator matrix is Pascal's triangle modulo 2, so bit j is the exclusive or of all index
    bits whose place contains j as a bit set (Lucas' theorem): a superset sum in five steps.
    """
    x = uint32(index)
    x = uint32(x ^ ((x >> uint32(1)) & uint32(0x55555555)))
    x = uint32(x ^ ((x >> uint32(2)) & uint32(0x33333333)))
    x = uint32(x ^ ((x >> uint32(4)) & uint32(0x0F0F0F0F)))
    x = uint32(x ^ ((x >> uint32(8)) & uint32(0x00FF00FF)))

    return uint32(x ^ (x >> uint32(16)))


@kernel
def to_unit(bits):
    """A float32 in [0, 1) from the upper 24 bits."""
    return f32(uint32(bits) >> uint32(8)) * TO_UNIT


@kernel
def sample_pair(seed, index, dimension, pattern):
    """Two numbers in [0, 1): number `index` of the sequence that belongs to this pixel seed and
    dimension."""
    mixed = hash_bits(uint32(seed) ^ (uint32(dimension) * uint32(0x9E3779B9)))
    second = hash_bits(mixed + uint32(0x68BC21EB))

    if pattern == RANDOM:
        a = hash_bits(mixed + uint32(index) * uint32(0xB5297A4D))
        return to_unit(a), to_unit(hash_bits(a ^ second))

    shuffled = reverse_bits(scramble_low_to_high(reverse_bits(uint32(index)), mixed))
    u = reverse_bits(scramble_low_to_high(shuffled, second))
    v = reverse_bits(
        scramble_low_to_high(sobol_second_reversed(shuffled), mixed ^ (second >> uint32(7)))
    )

    return to_unit(u), to_unit(v)


@kernel
def next_random(path):
    """The next number in [0, 1) of a path's own row, for walks whose length is not known
    beforehand."""
    path.random = uint32(path.random + uint32(0x9E3779B9))
    return to_unit(hash_bits(path.random))
