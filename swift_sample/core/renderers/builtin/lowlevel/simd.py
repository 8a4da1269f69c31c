"""Eight-wide vector operations for the traversal, and other things that only the processor can do.

Each is a Numba intrinsic that emits LLVM instructions directly, since compilers do not turn plain
loops into vector code reliably. Addresses are those of C-contiguous arrays; nothing here checks
bounds.
"""

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from swift_sample.core.renderers.builtin.lowlevel.records import MAX_CLUSTERS

_FLOAT = ir.FloatType()
_FLOATS = ir.VectorType(_FLOAT, 8)
_INT8 = ir.IntType(8)
_INT32 = ir.IntType(32)
_INT64 = ir.IntType(64)
# "contract" only lets a multiply and an add fuse; it is safe for NaN and infinity.
_FUSE = ("contract",)

TRIANGLE_EPSILON = 1e-5
"""Nearest accepted hit distance, in scene units (metres); origins are also moved off their
surface."""


def _floats(builder, address):
    return builder.inttoptr(address, _FLOAT.as_pointer())


def _load_row(builder, data, first, row):
    address = builder.gep(data, [builder.add(first, row)])
    return builder.load(builder.bitcast(address, _FLOATS.as_pointer()), align=4)


def _splat(builder, scalar):
    vector = builder.insert_element(
        ir.Constant(_FLOATS, ir.Undefined), scalar, ir.Constant(_INT32, 0)
    )
    return builder.shuffle_vector(
        vector, ir.Constant(_FLOATS, ir.Undefined), ir.Constant(ir.VectorType(_INT32, 8), [0] * 8)
    )


def _larger(builder, a, b):
    return builder.select(builder.fcmp_ordered(">", a, b), a, b)


def _smaller(builder, a, b):
    return builder.select(builder.fcmp_ordered("<", a, b), a, b)


def _mask(builder, lanes):
    return builder.zext(builder.bitcast(lanes, _INT8), _INT32)


def _load_eight(builder, address):
    return builder.load(builder.bitcast(_floats(builder, address), _FLOATS.as_pointer()), align=4)


def _store_row(builder, data, vector):
    builder.store(vector, builder.bitcast(data, _FLOATS.as_pointer()), align=4)


def _cross(builder, a, b):
    def component(p, q, r, s):
        return builder.fsub(
            builder.fmul(p, q, flags=_FUSE), builder.fmul(r, s, flags=_FUSE), flags=_FUSE
        )

    (ax, ay, az), (bx, by, bz) = a, b
    return component(ay, bz, az, by), component(az, bx, ax, bz), component(ax, by, ay, bx)


def _dot(builder, a, b):
    total = builder.fmul(a[2], b[2], flags=_FUSE)
    for p, q in ((a[1], b[1]), (a[0], b[0])):
        total = builder.fadd(builder.fmul(p, q, flags=_FUSE), total, flags=_FUSE)
    return total


@intrinsic
def hit_boxes(
    typing_context, nodes, first, near_x, near_y, near_z, inverse, scaled_origin, limit, distances
):
    """Test the eight child boxes of the node at float offset `first`; return a bit mask of the
    boxes hit.

    `near_*` are the offsets of the rows with the nearer planes; `inverse` is 1 / direction,
    `scaled_origin` is origin / direction. The entry distances of all eight go to the address
    `distances`, float32[8].
    """
    signature = types.uint32(
        types.int64,
        types.int64,
        types.int64,
        types.int64,
        types.int64,
        inverse,
        scaled_origin,
        types.float32,
        types.int64,
    )

    def generate(context, builder, signature, arguments):
        nodes_, first_, nx, ny, nz, inverse_, origin_, limit_, distances_ = arguments
        data = _floats(builder, nodes_)
        inverses = [_splat(builder, builder.extract_value(inverse_, axis)) for axis in range(3)]
        origins = [_splat(builder, builder.extract_value(origin_, axis)) for axis in range(3)]
        near = []
        far = []

        for axis, row in enumerate((nx, ny, nz)):
            opposite = builder.sub(ir.Constant(_INT64, 24 + 16 * axis), row)
            for planes, place in ((near, row), (far, opposite)):
                plane = _load_row(builder, data, first_, place)
                planes.append(
                    builder.fsub(
                        builder.fmul(plane, inverses[axis], flags=_FUSE), origins[axis], flags=_FUSE
                    )
                )

        zero = ir.Constant(_FLOATS, [0.0] * 8)
        entry = _larger(
            builder, _larger(builder, near[0], near[1]), _larger(builder, near[2], zero)
        )
        leave = _smaller(
            builder,
            _smaller(builder, far[0], far[1]),
            _smaller(builder, far[2], _splat(builder, limit_)),
        )
        _store_row(builder, _floats(builder, distances_), entry)

        return _mask(builder, builder.fcmp_ordered("<=", entry, leave))

    return signature, generate


def _test_triangles(builder, rows, origin, direction, limit, distances):
    """Moeller and Trumbore 1997, kept undivided until the end; bits 0 to 7 are hits, bits 8 to 15
    are seen from behind."""
    corner = rows[0:3]
    edge1 = rows[3:6]
    edge2 = rows[6:9]
    o = [_splat(builder, builder.extract_value(origin, axis)) for axis in range(3)]
    d = [_splat(builder, builder.extract_value(direction, axis)) for axis in range(3)]
    p = _cross(builder, d, edge2)
    determinant = _dot(builder, edge1, p)
    integers = ir.VectorType(_INT32, 8)
    bits = builder.bitcast(determinant, integers)
    sign = builder.and_(bits, ir.Constant(integers, [-0x80000000] * 8))

    def signed(value):
        return builder.bitcast(builder.xor(builder.bitcast(value, integers), sign), _FLOATS)

    size = signed(determinant)
    t = [builder.fsub(a, b) for a, b in zip(o, corner, strict=True)]
    u = signed(_dot(builder, t, p))
    q = _cross(builder, t, edge1)
    v = signed(_dot(builder, d, q))
    distance = signed(_dot(builder, edge2, q))
    zero = ir.Constant(_FLOATS, [0.0] * 8)
    nearest = builder.fmul(ir.Constant(_FLOATS, [TRIANGLE_EPSILON] * 8), size)
    farthest = builder.fmul(_splat(builder, limit), size)
    lanes = builder.and_(builder.fcmp_ordered(">=", u, zero), builder.fcmp_ordered(">=", v, zero))
    lanes = builder.and_(lanes, builder.fcmp_ordered("<=", builder.fadd(u, v), size))
    lanes = builder.and_(lanes, builder.fcmp_ordered(">", distance, nearest))
    lanes = builder.and_(lanes, builder.fcmp_ordered("<", distance, farthest))
    _store_row(builder, _floats(builder, distances), builder.fdiv(distance, size))
    behind = builder.shl(
        _mask(builder, builder.fcmp_ordered("<", determinant, zero)), ir.Constant(_INT32, 8)
    )

    return builder.or_(_mask(builder, lanes), behind)


@intrinsic
def hit_triangles(typing_context, packets, first, origin, direction, limit, distances):
    """Test the eight triangles of the packet at float offset `first`.

    Bits 0 to 7 of the result are those hit before `limit`, bits 8 to 15 those seen from behind;
    their distances go to the address `distances`. A packet is nine rows of eight: corner, first
    edge and second edge by axis.
    """
    signature = types.uint32(
        types.int64, types.int64, origin, direction, types.float32, types.int64
    )

    def generate(context, builder, signature, arguments):
        packets_, first_, origin_, direction_, limit_, distances_ = arguments
        data = _floats(builder, packets_)
        rows = [_load_row(builder, data, first_, ir.Constant(_INT64, 8 * row)) for row in range(9)]
        return _test_triangles(builder, rows, origin_, direction_, limit_, distances_)

    return signature, generate


@intrinsic
def hit_moving_triangles(typing_context, packets, first, origin, direction, limit, distances, time):
    """Like `hit_triangles`, for packets of eighteen rows: where triangles are at time 0, then how
    far they move until 1."""
    signature = types.uint32(
        types.int64, types.int64, origin, direction, types.float32, types.int64, types.float32
    )

    def generate(context, builder, signature, arguments):
        packets_, first_, origin_, direction_, limit_, distances_, time_ = arguments
        data = _floats(builder, packets_)
        moment = _splat(builder, time_)
        rows = []

        for row in range(9):
            start = _load_row(builder, data, first_, ir.Constant(_INT64, 8 * row))
            way = _load_row(builder, data, first_, ir.Constant(_INT64, 8 * (row + 9)))
            rows.append(builder.fadd(start, builder.fmul(way, moment, flags=_FUSE), flags=_FUSE))

        return _test_triangles(builder, rows, origin_, direction_, limit_, distances_)

    return signature, generate


@intrinsic
def lowest_bit(typing_context, mask):
    """The place of the lowest set bit of a non-zero uint32."""
    signature = types.int64(types.uint32)

    def generate(context, builder, signature, arguments):
        return builder.zext(builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 1)), _INT64)

    return signature, generate


@intrinsic
def reverse_bits(typing_context, value):
    """A uint32 with its bits in opposite order."""
    signature = types.uint32(types.uint32)

    def generate(context, builder, signature, arguments):
        return builder.bitreverse(arguments[0])

    return signature, generate


@intrinsic
def read_cycles(typing_context):
    """The processor's cycle counter; costs about 20 cycles."""
    signature = types.uint64()

    def generate(context, builder, signature, arguments):
        function = cgutils.get_or_insert_function(
            builder.module, ir.FunctionType(_INT64, []), "llvm.readcyclecounter"
        )
        return builder.call(function, [])

    return signature, generate


@intrinsic
def keep_least(typing_context, into, values):
    """The smaller of each of eight floats at two addresses, kept at the first."""
    signature = types.void(types.int64, types.int64)

    def generate(context, builder, signature, arguments):
        kept, given = (_load_eight(builder, address) for address in arguments)
        _store_row(builder, _floats(builder, arguments[0]), _smaller(builder, kept, given))
        return context.get_dummy_value()

    return signature, generate


@intrinsic
def keep_least_centres(typing_context, into, box):
    """Like `keep_least` for the centre, times two, of a box of minima and negated maxima: the
    centre and its negative."""
    signature = types.void(types.int64, types.int64)

    def generate(context, builder, signature, arguments):
        kept, given = (_load_eight(builder, address) for address in arguments)
        other_side = builder.shuffle_vector(
            given,
            ir.Constant(_FLOATS, ir.Undefined),
            ir.Constant(ir.VectorType(_INT32, 8), [3, 4, 5, 0, 1, 2, 6, 7]),
        )
        centre = builder.fsub(given, other_side)
        _store_row(builder, _floats(builder, arguments[0]), _smaller(builder, kept, centre))

        return context.get_dummy_value()

    return signature, generate


@intrinsic
def swap_rows(typing_context, one, other):
    """Exchange the eight floats at two addresses."""
    signature = types.void(types.int64, types.int64)

    def generate(context, builder, signature, arguments):
        first, second = (_load_eight(builder, address) for address in arguments)
        _store_row(builder, _floats(builder, arguments[0]), second)
        _store_row(builder, _floats(builder, arguments[1]), first)
        return context.get_dummy_value()

    return signature, generate


def _kept_weights(builder, weight, rows, first, shares, into):
    """Multiply eight weights by their shares, keep them, and return their sum."""
    share = builder.gep(builder.inttoptr(shares, _INT8.as_pointer()), [first])
    share = builder.load(builder.bitcast(share, ir.VectorType(_INT8, 8).as_pointer()), align=1)
    share = builder.sitofp(builder.zext(share, ir.VectorType(_INT32, 8)), _FLOATS)
    weight = builder.fmul(weight, share, flags=_FUSE)
    _store_row(builder, _floats(builder, into), weight)
    kind = ir.FunctionType(_FLOAT, [_FLOAT, _FLOATS])
    total = cgutils.get_or_insert_function(builder.module, kind, "llvm.vector.reduce.fadd.v8f32")

    return builder.call(total, [ir.Constant(_FLOAT, 0.0), weight], fastmath=("reassoc",))


def _cluster_row(builder, rows, first, number):
    return _load_row(
        builder, _floats(builder, rows), first, ir.Constant(_INT64, MAX_CLUSTERS * number)
    )


def _eight(value):
    return ir.Constant(_FLOATS, [value] * 8)


def _side_bound(builder, along, sided):
    """The largest cosine at a lit side; 1 where `sided` is not above zero."""
    bound = _smaller(builder, _larger(builder, along, _eight(0.0)), _eight(1.0))
    return builder.select(
        builder.fcmp_ordered(">", _splat(builder, sided), _eight(0.0)), bound, _eight(1.0)
    )


@intrinsic
def eight_far_clusters(typing_context, rows, first, shares, side, sided, into):
    """Weights of eight clusters of lights at any distance, from place `first` on, kept at `into`;
    returns their sum.

    As `eight_near_clusters`, where the place does not matter.
    """
    signature = types.float32(
        types.int64, types.int64, types.int64, side, types.float32, types.int64
    )

    def generate(context, builder, signature, arguments):
        rows_, first_, shares_, side_, sided_, into_ = arguments
        row = [_cluster_row(builder, rows_, first_, k) for k in range(5)]
        n = [_splat(builder, builder.extract_value(side_, axis)) for axis in range(3)]
        along = builder.fadd(_dot(builder, row[0:3], n), row[3], flags=_FUSE)
        weight = builder.fmul(row[4], _side_bound(builder, along, sided_), flags=_FUSE)

        return _kept_weights(builder, weight, rows_, first_, shares_, into_)

    return signature, generate


@intrinsic
def eight_near_clusters(typing_context, rows, first, shares, point, side, sided, into):
    """Weights of eight clusters of near lights from place `first` on, kept at `into`; returns their
    sum.

    `rows` is CLUSTER_ROWS rows of MAX_CLUSTERS, `shares` bytes that weights are multiplied by. The
    bound is power over squared distance times the largest cosine at the cluster's normals (Conty
    Estevez and Kulla 2018, section 5.2) and, where `sided` is above zero, at the lit side. That the
    lights fill a ball is allowed for by adding its sine to a cosine, which is never less than
    turning by its angle.
    """
    signature = types.float32(
        types.int64, types.int64, types.int64, point, side, types.float32, types.int64
    )

    def generate(context, builder, signature, arguments):
        rows_, first_, shares_, point_, side_, sided_, into_ = arguments
        row = [_cluster_row(builder, rows_, first_, k) for k in range(10)]

        def times(a, b):
            return builder.fmul(a, b, flags=_FUSE)

        def plus(a, b):
            return builder.fadd(a, b, flags=_FUSE)

        def root(a):
            kind = ir.FunctionType(_FLOATS, [_FLOATS])
            function = cgutils.get_or_insert_function(builder.module, kind, "llvm.sqrt.v8f32")
            return builder.call(function, [a])

        zero = _eight(0.0)
        one = _eight(1.0)
        p, n = (
            [_splat(builder, builder.extract_value(v, axis)) for axis in range(3)]
            for v in (point_, side_)
        )
        offset = [builder.fsub(row[axis], p[axis], flags=_FUSE) for axis in range(3)]
        radius = row[3]
        power = row[4]
        axis_row = row[5:8]
        cone_cosine = row[8]
        cone_sine = row[9]
        squared = _dot(builder, offset, offset)
        ball = times(radius, radius)
        inverse = builder.fdiv(one, root(_larger(builder, squared, _eight(1e-12))))
        weight = builder.fdiv(
            power, _larger(builder, squared, _larger(builder, ball, _eight(1e-8)))
        )
        ball_sine = times(radius, inverse)
        cosine = builder.fsub(zero, times(_dot(builder, axis_row, offset), inverse))
        sine = root(_larger(builder, builder.fsub(one, times(cosine, cosine), flags=_FUSE), zero))
        beyond = plus(plus(times(cosine, cone_cosine), times(sine, cone_sine)), ball_sine)
        faced = builder.fcmp_ordered(">=", plus(cosine, ball_sine), cone_cosine)
        emits = _smaller(builder, _larger(builder, builder.select(faced, one, beyond), zero), one)
        along = plus(times(_dot(builder, offset, n), inverse), ball_sine)
        weight = times(times(weight, emits), _side_bound(builder, along, sided_))

        return _kept_weights(builder, weight, rows_, first_, shares_, into_)

    return signature, generate
