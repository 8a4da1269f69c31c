"""Three-component float32 vectors as tuples, which the compiler keeps in registers."""

import math

import numpy as np
from numba import int64

from swift_sample.core.kernels.compiling import kernel

f32 = np.float32
ZERO = f32(0)
ONE = f32(1)
TWO = f32(2)
HALF = f32(0.5)
PI = f32(math.pi)
TWO_PI = f32(2 * math.pi)
INVERSE_PI = f32(1 / math.pi)
HUGE = f32(1e30)


@kernel
def add(a, b):
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


@kernel
def subtract(a, b):
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


@kernel
def multiply(a, b):
    return (a[0] * b[0], a[1] * b[1], a[2] * b[2])


@kernel
def scale(a, s):
    return (a[0] * s, a[1] * s, a[2] * s)


@kernel
def along(origin, direction, distance):
    """origin + distance * direction."""
    return (
        origin[0] + distance * direction[0],
        origin[1] + distance * direction[1],
        origin[2] + distance * direction[2],
    )


@kernel
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@kernel
def cross(a, b):
    return (a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0])


@kernel
def length(a):
    return math.sqrt(dot(a, a))


@kernel
def normalize(a):
    """Unit vector; the zero vector stays as it is."""
    size = math.sqrt(dot(a, a))
    if size > ZERO:
        return scale(a, ONE / size)

    return a


@kernel
def negate(a):
    return (-a[0], -a[1], -a[2])


@kernel
def largest(a):
    return max(a[0], max(a[1], a[2]))


@kernel
def luminance(a):
    """Relative luminance of linear Rec. 709 RGB (ITU-R BT.709-6, item 3.2)."""
    return f32(0.2126) * a[0] + f32(0.7152) * a[1] + f32(0.0722) * a[2]


@kernel
def floor(x):
    """The largest whole number that is not above x, int64; |x| below 2^62."""
    whole = int64(x)
    return whole - 1 if x < f32(whole) else whole


@kernel
def _sine(t):
    """sin(2 pi t) for t in [-1/4, 1/4], within 2e-7: Chebyshev's fit of the function over t, in its
    square."""
    s = t * t
    p = f32(81.6024809) + s * (f32(-76.5812864) + s * f32(39.7607225))
    return t * (f32(6.28318528) + s * (f32(-41.3416807) + s * p))


@kernel
def turned(t):
    """(cosine, sine) of t whole turns, within 2e-7, without a call."""
    t -= f32(floor(t + HALF))
    quarter = f32(0.25)
    bent = (HALF if t > ZERO else -HALF) - t if abs(t) > quarter else t

    return _sine(quarter - abs(t)), _sine(bent)


@kernel
def arc_cosine(x):
    """The angle in radians, within 4e-7, of a cosine in [-1, 1] (Abramowitz and Stegun 1964,
    4.4.46)."""
    a = abs(x)
    p = f32(0.0066700901) + a * f32(-0.0012624911)
    p = f32(0.0308918810) + a * (f32(-0.0170881256) + a * p)
    p = f32(0.0889789874) + a * (f32(-0.0501743046) + a * p)
    p = f32(1.5707963050) + a * (f32(-0.2145988016) + a * p)
    angle = math.sqrt(max(ZERO, ONE - a)) * p

    return angle if x >= ZERO else PI - angle


@kernel
def frame(n):
    """Two unit tangents for the unit normal n (Duff et al. 2017, JCGT 6(1), listing 3)."""
    sign = ONE if n[2] >= ZERO else -ONE
    a = -ONE / (sign + n[2])
    b = n[0] * n[1] * a

    return (ONE + sign * n[0] * n[0] * a, sign * b, -sign * n[0]), (
        b,
        sign + n[1] * n[1] * a,
        -n[1],
    )


@kernel
def to_world(local, tangent, bitangent, normal):
    return add(add(scale(tangent, local[0]), scale(bitangent, local[1])), scale(normal, local[2]))


@kernel
def to_local(world, tangent, bitangent, normal):
    return (dot(world, tangent), dot(world, bitangent), dot(world, normal))


@kernel
def inside(low, high, origin, direction, limit):
    """Where a ray enters and leaves a box; it misses it where the first is not smaller."""
    near = ZERO
    far = limit

    for axis in range(3):
        if direction[axis] == ZERO:
            if origin[axis] < low[axis] or origin[axis] > high[axis]:
                return ONE, ZERO
            continue

        inverse = ONE / direction[axis]
        a = (low[axis] - origin[axis]) * inverse
        b = (high[axis] - origin[axis]) * inverse
        near = max(near, min(a, b))
        far = min(far, max(a, b))

    return near, far
