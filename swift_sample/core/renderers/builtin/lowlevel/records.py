"""The records that kernels share: what they hold, and how kernels reach them. All lengths are
metres, all colours linear Rec. 709."""

import numpy as np
from numba import uint32

from swift_sample.core.renderers.builtin.lowlevel.memory import record_reader
from swift_sample.core.renderers.builtin.lowlevel.schema import Schema, array, field

MAX_BOUNCES = 64
MAX_NESTED_MEDIA = 8
MOST_HOLES = 128
"""Holes on the way of one ray that are counted; a path may pass half as many."""
MAX_LEVELS = 16
"""Most levels of a texture's pyramid."""

DIFFUSE, GLOSSY, TRANSMISSION, VOLUME, CUTOUT = 0, 1, 2, 3, 4
"""Kinds of scattering."""
KINDS = ("diffuse", "glossy", "transmission", "volume", "cutout")

CAMERA_RAY, SHADOW_RAY, WALK_RAY = 5, 6, 7
RAY_KINDS = (*KINDS, "camera", "shadow", "below the surface")
"""Kinds of rays that are counted: by what scattered them, from the camera, towards a light."""

EMISSION_PASS = 8
PASSES = (
    "direct.diffuse",
    "direct.glossy",
    "direct.transmission",
    "direct.volume",
    "indirect.diffuse",
    "indirect.glossy",
    "indirect.transmission",
    "indirect.volume",
    "emission",
)
"""Light passes by the first scattering; they add up to the beauty."""

GUIDES = 7
"""Numbers that guide denoisers: albedo, normal and depth."""

END_FIELDS = 4
END_TOTAL, END_CAPS, END_INDIRECT, END_CAPPED = 0, 1, 2, 3
"""Columns of a recording's `path_ends`: most bounces; caps of the first four kinds, 8 bits each;
whether there is bounced light; whether any kind has a cap."""

NO_NORMAL = uint32(0xFFFFFFFF)
"""In place of a corner's normal, where a triangle is shaded flat."""

_V = (3,)

TREE = Schema(
    "tree",
    array("nodes", "f4", "node_floats"),
    array("packets", "f4", "packet_floats"),
    array("triangles", "i4", "slots"),
    array("single_sided", "u1", "packets"),  # a bit for each lane
    array("cutouts", "u1", "packets"),
    array("masked", "u1", "packets"),  # those cut-outs that are all or nothing
    field("moving", "i8"),
    field("has_cutouts", "i8"),
)

FACE = np.dtype(
    [
        ("material", "i4"),
        ("light", "i4"),
        ("object", "i4"),
        ("coloured", "i4"),
        ("normals", "u4", _V),  # octahedral, 16 bits each; NO_NORMAL for flat shading
        ("u", "f4", _V),
        ("v", "f4", _V),
        (
            "colours",
            "u4",
            _V,
        ),  # 8 bits each: red, green, blue, opacity; square roots of linear values
    ],
    align=True,
)
"""What one triangle carries: 64 bytes, one cache line."""

MATERIAL = np.dtype(
    [
        ("base", "f4", _V),
        ("emission", "f4", _V),
        ("absorption", "f4", _V),
        ("specular_colour", "f4", _V),
        ("sheen_colour", "f4", _V),
        ("through_colour", "f4", _V),
        ("walk_extinction", "f4", _V),
        ("walk_albedo", "f4", _V),
        ("metallic", "f4"),
        ("roughness", "f4"),
        ("ior", "f4"),
        ("transmission", "f4"),
        ("specular", "f4"),
        ("coat", "f4"),
        ("coat_roughness", "f4"),
        ("sheen_roughness", "f4"),
        ("through", "f4"),
        ("opacity", "f4"),
        ("cutoff", "f4"),
        ("normal_scale", "f4"),
        ("coat_normal_scale", "f4"),
        ("volume", "i4"),
        ("priority", "i4"),
        ("emits", "i4"),
        ("walks", "i4"),
        ("unlit", "i4"),
        ("cut", "i4"),
        ("single_sided", "i4"),
        ("mapped", "i4"),
        ("slots", "i4", (14,)),  # places among TEXTURE_USE records by TEXTURE_SLOTS, -1 for none
    ],
    align=True,
)
"""A material. `volume` marks a closed dielectric, `walks` scattering below the surface, `cut` is 0,
CUT_MASK or CUT_BLEND, `mapped` says whether any texture is used."""

CUT_MASK = 1
CUT_BLEND = 2

BASE, METAL_ROUGH, NORMAL, EMISSION, CLEAR, COAT, COAT_ROUGHNESS, COAT_NORMAL = range(8)
SHEEN_COLOUR, SHEEN_ROUGHNESS, SPECULAR, SPECULAR_COLOUR, THROUGH, THROUGH_COLOUR = range(8, 14)
"""Texture slots, in the order of the model's TEXTURE_SLOTS."""

TEXTURE_USE = Schema(
    "texture",
    array("texels", "u4", "tiles 1024", optional=True),  # red, green, blue, opacity, 8 bits each
    field("levels", "i4"),
    field("widths", "i4", MAX_LEVELS),
    field("heights", "i4", MAX_LEVELS),
    field("tiles", "i4", MAX_LEVELS),
    field("first_tile", "i4"),
    field("stretch", "f4"),
    field("wrap_u", "i4"),
    field("wrap_v", "i4"),
    field("nearest", "i4"),
    field("srgb", "i4"),
    field("uv_set", "i4"),
    field("transform", "f4", 6),
)
"""A texture on a material: its pyramid, finest level first (pyramids.py). `tiles` are the numbers
of the levels' first tiles; `first_tile` is the texture's first among all that threads read on
demand, -1 where everything is in memory. `stretch` is the root of how many of its texels cover one
unit of area of its coordinates."""

LIGHT = np.dtype(
    [
        ("corner", "f4", _V),
        ("edge1", "f4", _V),
        ("edge2", "f4", _V),
        ("colour", "f4", _V),
        ("density", "f4"),
        ("kind", "i4"),
        ("cluster", "i4"),
        ("face", "i4"),
        ("both_sides", "i4"),
        ("kept", "f4"),
        ("alias", "i4"),
        ("cone_scale", "f4"),
        ("cone_offset", "f4"),
        ("textured", "i4"),
        ("exact", "i4"),
        ("u", "f4", _V),
        ("v", "f4", _V),
    ],
    align=True,
)
"""A near light, sorted by cluster. For a triangle `density` is the probability per square metre
once its cluster is chosen; for a point or spot it is the probability, `corner` the position and
`edge1` the direction. `kept` and `alias` are the alias table of its cluster, counting from the
cluster's first light. `textured` is the texture use of the emission, -1 for none, at the
coordinates `u` and `v` of the corners; `exact` is as in PATH, for points and spots."""

TRIANGLE_LIGHT = 0
POINT_LIGHT = 1
EMITS_FRONT = 1
EMITS_BOTH = 2
"""`emits` of a material; 0 where it sends out no light."""

CLUSTER = np.dtype(
    [
        ("kind", "i4"),
        ("first", "i4"),
        ("count", "i4"),
        ("row", "i4"),
        ("column", "i4"),
        ("columns", "i4"),
    ],
    align=True,
)
"""Lights that are chosen together: near or directional lights from `first` on, or a patch of the
sky: `count` rows of cells, whose running sums begin at `first`, from `row` and `column` on."""
NEAR, SKY, SUNS = 0, 1, 2
MAX_CLUSTERS = 96
CLUSTER_ROWS = 10
"""What a cluster's weight is found from, one value for each in a row: its ball's centre and radius,
the irradiance at a distance of one metre, the axis of its normals, and the cosine and sine of their
cone. Of patches of the sky and directional lights, which stand behind the near ones in blocks of
eight of their own: the direction towards them, the sine of the half angle around it, and the
irradiance."""
VISIBILITY_SIDE = 16
"""Cubes along each axis by which it is known which lights reach where."""

SUN = np.dtype([("direction", "f4", _V), ("irradiance", "f4", _V), ("exact", "i4")], align=True)
"""A directional light; `direction` points towards it, `exact` is as in PATH."""
EXACT = 1
UNSHADOWED = 2
"""`exact` of a light sample that no scattered ray could find, UNSHADOWED where nothing stands in
its way either; else 0."""

HAZE = Schema(
    "haze",
    field("low", "f4", 3),
    field("high", "f4", 3),
    field("scattering", "f4", 3),
    field("absorption", "f4", 3),
    field("extinction", "f4", 3),
    field("anisotropy", "f4"),
    field("majorant", "f4"),
    field("columns", "i4"),
    field("rows", "i4"),
    field("layers", "i4"),
    field("even", "i4"),
    array("density", "f4", "layers rows columns"),
)

SCENE = Schema(
    "scene",
    array("trees", TREE.dtype, "trees"),
    array("faces", FACE, "triangles"),
    array("second_uvs", "f4", "triangles 6", optional=True),
    array("materials", MATERIAL, "materials"),
    array("texture_uses", TEXTURE_USE.dtype, "uses"),
    array("lights", LIGHT, "lights"),
    array("clusters", CLUSTER, "96"),
    array("cluster_rows", "f4", "10 96"),
    array(
        "visibility", "u1", "4096 96"
    ),  # by place: which share of what it might bring each cluster does, of 255
    array("suns", SUN, "suns"),
    array("haze", HAZE.dtype, "1", optional=True),
    array("environment", "f4", "sky_height sky_width 3"),
    array("sky_row_sums", "f4", "2560"),  # running sums of the rows' shares of their patch
    array(
        "sky_sums", "f4", "sky_rows sky_columns"
    ),  # and of the cells' shares of their row of the patch
    array(
        "sky_density", "f4", "sky_rows sky_columns"
    ),  # per steradian, once the cell's patch is chosen
    array("sky_patch", "i4", "sky_rows sky_columns"),  # the cluster of each cell
    array("energy", "f4", "energies"),  # tables of energy.py
    array("decode", "f4", "256"),  # sRGB to linear
    field("tree_count", "i4"),
    field("met_trees", "i4"),  # the first ones, which rays other than the camera's meet
    field("cluster_count", "i4"),
    field("near_clusters", "i4"),  # with those that fill the last block of eight
    field("sky_width", "i4"),
    field("sky_height", "i4"),
    field("sky_rows", "i4"),
    field("sky_columns", "i4"),
    field("turn", "f4"),
    field("visibility_side", "i4"),
    field("visibility_low", "f4", 3),
    field("visibility_scale", "f4", 3),
)
"""`visibility` has `visibility_side` places along each axis, from `visibility_low` on,
`visibility_scale` of them a metre."""

LENS = np.dtype(
    [
        ("origin", "f4", (2, 3)),
        ("right", "f4", (2, 3)),
        ("up", "f4", (2, 3)),
        ("forward", "f4", (2, 3)),
        ("aperture", "f4"),
        ("focus", "f4"),
        ("moving", "i4"),
        ("orthographic", "i4"),
        ("timed", "i4"),
        ("pad", "i4"),
    ],
    align=True,
)
"""The camera when the shutter opens and closes: a ray through (x, y) in [-1, 1] goes along forward
+ x * right + y * up; an orthographic one starts there and goes along forward."""

JOB = Schema(
    "job",
    array("scene", SCENE.dtype, "1"),
    array("lens", LENS, "1"),
    array("half_a", "f4", "height width 3"),
    array("half_b", "f4", "height width 3"),
    array("guides", "f4", "height width 7"),
    array("passes", "f4", "height width 9 3", optional=True),
    array(
        "passes_half", "f4", "height width 9 3", optional=True
    ),  # of one half of the samples, as is the next
    array("guides_half", "f4", "height width 7", optional=True),
    array("samples", "i4", "height width"),
    array("material", "i4", "height width"),
    array("object", "i4", "height width"),
    array("cycles", "u8", "height width"),
    array("active", "u1", "height width"),
    array(
        "light", "f4", "height width entries 3", optional=True
    ),  # an entry for each bounce and one more
    array(
        "light_cells", "f8", "cell_rows cell_columns entries 3", optional=True
    ),  # radiance summed over samples
    array(
        "snapshots", "f8", "cell_rows cell_columns 16"
    ),  # squared distances of the halves, see film.py
    array(
        "clamped", "f8", "cell_rows cell_columns 2 11 3", optional=True
    ),  # light that clamps take, see film.py
    array(
        "by_kind", "f8", "cell_rows cell_columns 4 8 3", optional=True
    ),  # light by scatterings of a kind
    array(
        "clamped_grain", "f8", "cell_rows cell_columns 23", optional=True
    ),  # squared distances of the halves, see film.py
    array("tiles", "i4", "tile_count 4"),
    array("counter", "i8", "1"),  # the next tile
    array("finished", "u8", "tile_count"),  # cycle counter at each tile's end
    array("spent", "u8", "tile_count"),  # cycles that each tile took
    array("cancel", "i4", "1"),
    field("tile_count", "i8"),
    field("width", "i8"),
    field("height", "i8"),
    field("cell_columns", "i8"),
    field("seed", "i8"),
    field("pattern", "i8"),
    field("filter", "i8"),
    field("target", "i8"),
    field("bounces", "i8"),
    field("roulette_start", "i8"),
    field("caps", "i8", 5),
    field("caustics", "i8"),
    field("indirect", "i8"),
    field("technique", "i8"),
    field("index_bits", "i8"),
    field("haze_method", "i8"),
    field("record", "i8"),
    field("curve", "i8"),
    field("pixel_spread", "f4"),
    field("pixel_width", "f4"),
    field("clamp_direct", "f4"),
    field("clamp_indirect", "f4"),
    field("roughness_floor", "f4"),
    field("haze_step", "f4"),
    field("exposure_gain", "f4"),
    field("least_clamp", "f4"),
    # A recording: how paths may end, which clamps act, and the sums of all films (recording.py).
    array("path_ends", "i4", "end_count 4", optional=True),
    array("clamps", "f4", "clamp_count 2", optional=True),
    array("end_sums", "f4", "height width end_count 2 3", optional=True),
    array("end_splits", "u4", "height width end_count", optional=True),
    array("clamp_sums", "f4", "height width end_count clamp_count 2 3", optional=True),
    array("end_guides", "f4", "height width end_count 14", optional=True),
    array("end_guided", "u1", "height width end_count", optional=True),
    array("end_cycles", "u8", "height width end_count", optional=True),
    field("end_count", "i8"),
    field("clamp_count", "i8"),
    field("least_direct", "f4"),
    field("least_indirect", "f4"),
)
"""One round of sampling. `caps` are by KINDS; `target` is how many samples each active pixel shall
have. `pixel_spread` and `pixel_width` are the angle and the width in metres of the cone behind a
pixel. `least_clamp` is the lowest of the clamps that are tried on every sample."""

CELL = 8
"""Edge in pixels of the cells that light by bounce is kept in."""
SNAPSHOTS = 16
CLAMPS = 10
"""Clamps that are tried on every sample for the records, each twice the one before."""
KIND_COUNTS = 8
"""Light is kept by how often it was scattered in each way; the last entry is for so often and
more."""

KEEP_REFLECTED = 1
KEEP_REFRACTED = 2
"""Bits of `caustics`."""
BOTH, LIGHTS_ONLY, SCATTER_ONLY = 0, 1, 2
"""`technique`: how direct light is found; the last two exist so that tests can compare them."""
UNBIASED, MARCHED, UNSCATTERED = 0, 1, 2
"""`haze_method`."""

RAY = Schema(
    "ray",
    field("origin", "f4", 3),
    field("direction", "f4", 3),
    field("time", "f4"),
    field("width", "f4"),
    field("spread", "f4"),
)
"""A ray with the cone behind it: its width in metres at the origin, and the angle by which it
widens."""

HIT = Schema(
    "hit",
    field("distance", "f4"),
    field("slot", "i4"),
    field("tree", "i4"),
    field("face", "i4"),
    field("material", "i4"),
    field("front", "i4"),
    field("point", "f4", 3),
    field("geometric", "f4", 3),
    field("facing", "f4", 3),
    field("uv", "f4", 4),
    field("wb", "f4"),
    field("wc", "f4"),
    field("density_of_uv", "f4"),
    field("along_u", "f4", 3),
    field("up_sign", "f4"),
)
"""Where a ray met a surface: the current surface. `geometric` is the triangle's normal, `facing`
the same on the ray's side; `wb` and `wc` weigh the second and third corner."""

SURFACE = Schema(
    "surface",
    field("normal", "f4", 3),
    field("tangent", "f4", 3),
    field("bitangent", "f4", 3),
    field("out", "f4", 3),
    field("base", "f4", 3),
    field("specular_tint", "f4", 3),
    field("sheen_colour", "f4", 3),
    field("through_colour", "f4", 3),
    field("metallic", "f4"),
    field("alpha", "f4"),
    field("eta", "f4"),
    field("transmission", "f4"),
    field("through", "f4"),
    field("specular", "f4"),
    field("coat", "f4"),
    field("coat_alpha", "f4"),
    field("coat_normal", "f4", 3),
    field("sheen_alpha", "f4"),
    field("smooth", "i4"),
    field("coat_smooth", "i4"),
    field("thin", "i4"),
    field("walks", "i4"),
    field("reflects", "i4"),
    field("refracts", "i4"),
    field("plain", "i4"),
    field("boost", "f4"),
    field("kept_boost", "f4"),
    field("coat_boost", "f4"),
    field("sheen_scale", "f4"),
    field("under", "f4"),
    field("body", "f4"),
    field("chance", "f4", 5),
)
"""What the current surface is like. From `boost` on: what is known of its energy from this side
(surface.py)."""

SCATTER = Schema(
    "scatter",
    field("value", "f4", 4, 3),
    field("density", "f4"),
    field("into", "f4", 3),
    field("weight", "f4", 3),
    field("kind", "i4"),
    field("delta", "i4"),
)
"""What evaluating and sampling the current surface gives back; `value` by kind and colour."""

LIGHT_SAMPLE = Schema(
    "light sample",
    field("direction", "f4", 3),
    field("distance", "f4"),
    field("radiance", "f4", 3),
    field("density", "f4"),
    field("exact", "i4"),
    field("cast", "i4"),
    field("visible", "f4", 3),
    field("open", "f4"),
    field("may_pass", "i4"),
)
"""A light sample: `exact` where no scattered ray could meet that light, `cast` where a shadow ray
was sent; `visible` is the share of it that arrives, `open` what the cut-outs passed so far leave of
it, `may_pass` how many more it may pass."""

SAMPLE = Schema(
    "sample",
    field("seen", "f4", 3),
    field("direct", "f4", 4, 3),
    field("brought", "f4", MAX_BOUNCES + 2, 3),
    field("indirect", "f4", 3),
    field("total", "f4", 3),
    field("albedo", "f4", 3),
    field("normal", "f4", 3),
    field("depth", "f4"),
    field("guided", "i4"),
    field("first_material", "i4"),
    field("first_object", "i4"),
    field("first_done", "i4"),
)
"""What one sample brought: light seen directly, direct light by kind, all light by bounce; clamped
sums; guides."""

PIXEL = Schema(
    "pixel",
    field("halves", "f4", 2, 3),
    field("guides", "f4", 7),
    field("guides_half", "f4", 7),
    field("passes", "f4", 9, 3),
    field("passes_half", "f4", 9, 3),
    field("light", "f4", MAX_BOUNCES + 2, 3),
)
"""Sums over the samples of the current pixel."""

THREAD = Schema(
    "thread",
    field("rays", "i8", MAX_BOUNCES + 2, 8),
    field("cycles", "u8", MAX_BOUNCES + 2, 8),
    field("dropped", "i8"),
    field("reads", "i8"),
    field("misses", "i8"),
    field("ended", "u8"),
)
"""What a thread did: by bounce and RAY_KINDS, samples that were no numbers, readings of textures
and of their files."""

PATH = Schema(
    "path",
    array("working", "u1", "stack"),
    # Tiles of textures that this thread holds: for each tile its place or -1, the texels, and for
    # each place its tile and whether it was used of late.
    array("tile_places", "i4", "all_tiles", optional=True),
    array("tile_texels", "u4", "room 1024", optional=True),
    array("tile_owners", "i4", "room", optional=True),
    array("tile_used", "u1", "room", optional=True),
    field("tile_room", "i8"),
    field("tile_hand", "i8"),
    field("tile_held", "i8"),
    field("ray", RAY.dtype),
    field("throughput", "f4", 3),
    field("tint", "f4", 3),
    # Where the path scattered last, for the weights of light found by chance; `lit_side` is the
    # normal of the side that lights can reach there, zero for all sides.
    field("scattered_at", "f4", 3),
    field("lit_side", "f4", 3),
    field("scatter_density", "f4"),
    field("certain", "i4"),
    field("bounce", "i4"),  # how often it has scattered
    field("last_kind", "i4"),
    field("first_kind", "i4"),
    field("counts", "i4", 5),
    field("ending", "i4"),
    field("was_rough", "i4"),
    field("eta_scale", "f4"),
    field("seed", "u4"),
    field("own_seed", "u4"),
    field("index", "i4"),
    field("random", "u4"),
    field("media_count", "i4"),
    field("media", "i4", MAX_NESTED_MEDIA),
    field("hit", HIT.dtype),
    field("texel", "f4", 4),
    field("surface", SURFACE.dtype),
    field("scatter", SCATTER.dtype),
    field("light", LIGHT_SAMPLE.dtype),
    field("sample", SAMPLE.dtype),
    field("pixel", PIXEL.dtype),
    field("thread", THREAD.dtype),
    field("dimmed", "f4", 3),  # light on its way through haze
    field(
        "counts_at", "u4", MAX_BOUNCES + 2
    ),  # after each bounce: how often it scattered in each way, 8 bits each
    field(
        "unclamped", "f4", 2, 3
    ),  # direct and indirect light of the sample, before anything limits it
    field(
        "clamped", "f4", 2, 2, CLAMPS + 1, 3
    ),  # by half; sums over the samples of the pixel, as the next
    field("by_kind", "f4", 4, KIND_COUNTS, 3),
    field("before", "f4", 2, 3),  # the sums of the halves as they were loaded
    # How much light each cluster may bring to where the path scattered last, sums of eight of them,
    # and of all.
    field("weights", "f4", MAX_CLUSTERS),
    field("weight_sums", "f4", MAX_CLUSTERS // 8),
    field("weight_total", "f4"),
    # Holes that the nearest hit was looked for through: how far along the ray, in any order.
    field("holes", "i4"),
    field("hole_distances", "f4", MOST_HOLES),
    # A recording: the indirect light up to each bounce, and when a path that may scatter no more
    # would have ended there.
    field("prefix", "f4", MAX_BOUNCES + 2, 3),
    field("stamps", "u8", MAX_BOUNCES + 2),
    field("ended", "u8"),
    field("guided_from", "i4"),  # guides are there for paths that end at a later bounce than this
    field("first_matt", "i4"),  # the bounce at which a path without bounced light ends
    field("rounded", "f4", 3),
    # Two threads never share a line of the cache.
    field("apart", "u1", 128),
)
"""One path and all that is known on the way; each thread has one. The order of fields decides which
products the compiler fuses into sums, and so the last bit of some pixels: a field that is added
stands best at the end."""

TREE_BYTES = TREE.dtype.itemsize
WEIGHTS_OFFSET = int(PATH.dtype.fields["weights"][1])  # type: ignore[index]

tree_at, texture_use_at, haze_at = (
    record_reader(schema.dtype) for schema in (TREE, TEXTURE_USE, HAZE)
)
scene_at, job_at, path_at = (record_reader(schema.dtype) for schema in (SCENE, JOB, PATH))
face_at, material_at, light_at, cluster_at, sun_at, lens_at = (
    record_reader(dtype) for dtype in (FACE, MATERIAL, LIGHT, CLUSTER, SUN, LENS)
)
