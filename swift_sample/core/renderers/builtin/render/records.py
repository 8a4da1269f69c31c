"""The records that kernels share: what they hold, and how kernels reach them.

A field that holds the address of an array is int64 and its comment gives the array's type. All lengths are metres, all
colours linear Rec. 709.
"""

import numpy as np

from swift_sample.core.renderers.builtin.render.memory import record_reader

MAX_BOUNCES = 64
MAX_NESTED_MEDIA = 8
MAX_LEVELS = 16
"""Most levels of a texture's pyramid."""

DIFFUSE, GLOSSY, TRANSMISSION, VOLUME, CUTOUT = 0, 1, 2, 3, 4
"""Kinds of scattering."""
KINDS = ("diffuse", "glossy", "transmission", "volume", "cutout")

CAMERA_RAY, SHADOW_RAY = 5, 6
RAY_KINDS = (*KINDS, "camera", "shadow")
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

_V = (3,)


def _address(*names: str) -> list[tuple[str, str]]:
    return [(name, "i8") for name in names]


TREE = np.dtype(
    [
        *_address(
            "nodes",
            "packets",  # float32
            "triangles",  # int32 for each slot
            "single_sided",
            "cutouts",  # uint8 for each packet: a bit for each lane
        ),
        ("moving", "i8"),
    ],
    align=True,
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
        ("colours", "u4", _V),  # 8 bits each: red, green, blue, opacity; square roots of linear values
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
"""A material. `volume` marks a closed dielectric, `walks` scattering below the surface, `cut` is 0, CUT_MASK or
CUT_BLEND, `mapped` says whether any texture is used."""

CUT_MASK, CUT_BLEND = 1, 2

TEXTURE_USE = np.dtype(
    [
        ("texels", "i8"),  # uint32[tiles, 1024]: red, green, blue, opacity, 8 bits each
        ("levels", "i4"),
        ("widths", "i4", (MAX_LEVELS,)),
        ("heights", "i4", (MAX_LEVELS,)),
        ("tiles", "i4", (MAX_LEVELS,)),
        ("first_tile", "i4"),
        ("stretch", "f4"),
        ("wrap_u", "i4"),
        ("wrap_v", "i4"),
        ("nearest", "i4"),
        ("srgb", "i4"),
        ("uv_set", "i4"),
        ("transform", "f4", (6,)),
    ],
    align=True,
)
"""A texture on a material: its pyramid, finest level first (pyramids.py). `tiles` are the numbers of the levels' first tiles;
`first_tile` is the texture's first among all that threads read on demand, -1 where everything is in memory. `stretch` is
the root of how many of its texels cover one unit of area of its coordinates."""

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
        ("kept", "f4"),
        ("alias", "i4"),
        ("cone_scale", "f4"),
        ("cone_offset", "f4"),
        ("textured", "i4"),
        ("u", "f4", _V),
        ("v", "f4", _V),
    ],
    align=True,
)
"""A near light, sorted by cluster. For a triangle `density` is the probability per square metre once its cluster is
chosen; for a point or spot it is the probability, `corner` the position and `edge1` the direction. `kept` and `alias`
are the alias table of its cluster, counting from the cluster's first light. `textured` is the texture use of the
emission, -1 for none, at the coordinates `u` and `v` of the corners."""

TRIANGLE_LIGHT, POINT_LIGHT = 0, 1

CLUSTER = np.dtype([("centre", "f4", _V), ("radius", "f4"), ("power", "f4"), ("first", "i4"), ("count", "i4")], align=True)
"""Near lights that lie close together, in a ball of this radius."""
MAX_CLUSTERS = 8

SUN = np.dtype([("direction", "f4", _V), ("irradiance", "f4", _V)], align=True)
"""A directional light; `direction` points towards it."""

HAZE = np.dtype(
    [
        ("low", "f4", _V),
        ("high", "f4", _V),
        ("scattering", "f4", _V),
        ("absorption", "f4", _V),
        ("extinction", "f4", _V),
        ("anisotropy", "f4"),
        ("majorant", "f4"),
        ("columns", "i4"),
        ("rows", "i4"),
        ("layers", "i4"),
        ("even", "i4"),
        *_address("density"),  # float32[layers, rows, columns]
    ],
    align=True,
)

SCENE = np.dtype(
    [
        *_address(
            "trees",  # TREE
            "faces",  # FACE for each triangle
            "second_uvs",  # float32[6] for each triangle, or 0
            "materials",
            "texture_uses",
            "lights",
            "clusters",
            "suns",
            "haze",  # records; haze may be 0
            "environment",  # float32[height, width, 3]
            "sky_kept",
            "sky_alias",
            "sky_density",  # float32, int32, float32[rows, columns]
            "energy",  # float32: tables of energy.py
            "decode",  # float32[256]: sRGB to linear
        ),
        ("tree_count", "i4"),
        ("cluster_count", "i4"),
        ("sun_count", "i4"),
        ("sky_width", "i4"),
        ("sky_height", "i4"),
        ("sky_rows", "i4"),
        ("sky_columns", "i4"),
        ("has_cutouts", "i4"),
        ("near_share", "f4"),
        ("sky_share", "f4"),
        ("turn", "f4"),
        ("cut_low", "f4", _V),
        ("cut_high", "f4", _V),
    ],
    align=True,
)
"""`near_share` of the light samples go to near lights, `sky_share` to the environment, the rest to directional ones.
`cut_low` and `cut_high` are the box around everything with cut-outs."""

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
"""The camera when the shutter opens and closes: a ray through (x, y) in [-1, 1] goes along forward + x * right + y * up;
an orthographic one starts there and goes along forward."""

JOB = np.dtype(
    [
        *_address(
            "scene",
            "lens",
            "half_a",
            "half_b",  # float32[h, w, 3]
            "guides",  # float32[h, w, 7]
            "passes",  # float32[h, w, 9, 3], or 0 where they are not kept
            "passes_half",
            "guides_half",  # float32[h, w, 9, 3] and [h, w, 7] of one half of the samples, or 0
            "samples",
            "material",
            "object",  # int32[h, w]
            "cycles",  # uint64[h, w]
            "active",  # uint8[h, w]
            "light",  # float32[h, w, bounces + 1, 3], or 0
            "light_cells",  # float64[cell rows, cell columns, bounces + 1, 3]: radiance summed over samples, or 0
            "snapshots",  # float64[cell rows, cell columns, SNAPSHOTS]: squared distances of the halves, see film.py
            "tiles",  # int32[n, 4]
            "counter",  # int64: the next tile
            "finished",  # uint64[n]: cycle counter at each tile's end
            "spent",  # uint64[n]: cycles that each tile took
            "cancel",  # int32
        ),
        ("tile_count", "i8"),
        ("width", "i8"),
        ("height", "i8"),
        ("cell_columns", "i8"),
        ("seed", "i8"),
        ("pattern", "i8"),
        ("filter", "i8"),
        ("target", "i8"),
        ("bounces", "i8"),
        ("roulette_start", "i8"),
        ("caps", "i8", (5,)),
        ("caustics", "i8"),
        ("indirect", "i8"),
        ("technique", "i8"),
        ("haze_method", "i8"),
        ("record", "i8"),
        ("curve", "i8"),
        ("pixel_spread", "f4"),
        ("pixel_width", "f4"),
        ("clamp_direct", "f4"),
        ("clamp_indirect", "f4"),
        ("roughness_floor", "f4"),
        ("haze_step", "f4"),
        ("exposure_gain", "f4"),
    ],
    align=True,
)
"""One round of sampling. `caps` are by KINDS; `target` is how many samples each active pixel shall have.
`pixel_spread` and `pixel_width` are the angle and the width in metres of the cone behind a pixel."""

CELL = 8
"""Edge in pixels of the cells that light by bounce is kept in."""
SNAPSHOTS = 16

KEEP_REFLECTED, KEEP_REFRACTED = 1, 2
"""Bits of `caustics`."""
BOTH, LIGHTS_ONLY, SCATTER_ONLY = 0, 1, 2
"""`technique`: how direct light is found; the last two exist so that tests can compare them."""
UNBIASED, MARCHED, UNSCATTERED = 0, 1, 2
"""`haze_method`."""

PATH = np.dtype(
    [
        ("working", "i8"),  # STACK_BYTES of the traversal
        # Tiles of textures that this thread holds: for each tile its place or -1, the texels, and for each place its tile and
        # whether it was used of late.
        *_address("tile_places", "tile_texels", "tile_owners", "tile_used"),  # int32, uint32[n, 1024], int32, uint8
        ("tile_room", "i8"),
        ("tile_hand", "i8"),
        ("tile_held", "i8"),
        ("misses", "i8"),
        ("origin", "f4", _V),
        ("direction", "f4", _V),
        ("time", "f4"),
        ("width", "f4"),
        ("spread", "f4"),
        ("throughput", "f4", _V),
        ("tint", "f4", _V),
        # Where the path scattered last, for the weights of light found by chance; `lit_side` is the normal of the side that
        # lights can reach there, zero for all sides.
        ("scattered_at", "f4", _V),
        ("lit_side", "f4", _V),
        ("scatter_density", "f4"),
        ("certain", "i4"),
        ("hit", "i4"),
        ("last_kind", "i4"),
        ("first_kind", "i4"),
        ("counts", "i4", (5,)),
        ("ending", "i4"),
        ("was_rough", "i4"),
        ("eta_scale", "f4"),
        ("seed", "u4"),
        ("index", "i4"),
        ("random", "u4"),
        ("media_count", "i4"),
        ("media", "i4", (MAX_NESTED_MEDIA,)),
        # The surface in hand.
        ("distance", "f4"),
        ("slot", "i4"),
        ("tree", "i4"),
        ("face", "i4"),
        ("material", "i4"),
        ("front", "i4"),
        ("point", "f4", _V),
        ("geometric", "f4", _V),
        ("facing", "f4", _V),
        ("normal", "f4", _V),
        ("tangent", "f4", _V),
        ("bitangent", "f4", _V),
        ("out", "f4", _V),
        ("uv", "f4", (4,)),
        ("texel", "f4", (4,)),
        ("wb", "f4"),
        ("wc", "f4"),
        ("density_of_uv", "f4"),
        ("along_u", "f4", _V),
        ("up_sign", "f4"),
        ("base", "f4", _V),
        ("specular_tint", "f4", _V),
        ("sheen_colour", "f4", _V),
        ("through_colour", "f4", _V),
        ("metallic", "f4"),
        ("alpha", "f4"),
        ("eta", "f4"),
        ("transmission", "f4"),
        ("through", "f4"),
        ("specular", "f4"),
        ("coat", "f4"),
        ("coat_alpha", "f4"),
        ("coat_normal", "f4", _V),
        ("sheen_alpha", "f4"),
        ("smooth", "i4"),
        ("coat_smooth", "i4"),
        ("thin", "i4"),
        ("walks", "i4"),
        ("reflects", "i4"),
        ("refracts", "i4"),
        ("plain", "i4"),
        # What is known of its energy from this side; see surface.py.
        ("boost", "f4"),
        ("kept_boost", "f4"),
        ("coat_boost", "f4"),
        ("sheen_scale", "f4"),
        ("under", "f4"),
        ("body", "f4"),
        ("chance", "f4", (5,)),
        # What evaluating and sampling it gives back.
        ("value", "f4", (4, 3)),
        ("density", "f4"),
        ("into", "f4", _V),
        ("weight", "f4", _V),
        ("kind", "i4"),
        ("delta", "i4"),
        # A light sample.
        ("light_direction", "f4", _V),
        ("light_distance", "f4"),
        ("radiance", "f4", _V),
        ("light_density", "f4"),
        ("light_exact", "i4"),
        ("light_cast", "i4"),
        ("light_count", "i4"),
        ("light_index", "i4"),
        ("visible", "f4", _V),
        # What the sample brought.
        ("seen", "f4", _V),
        ("direct", "f4", (4, 3)),
        ("brought", "f4", (MAX_BOUNCES + 2, 3)),
        ("albedo", "f4", _V),
        ("normal_seen", "f4", _V),
        ("depth", "f4"),
        ("guided", "i4"),
        ("first_material", "i4"),
        ("first_object", "i4"),
        ("first_done", "i4"),
        # Sums over the samples of the pixel in hand.
        ("sum_halves", "f4", (2, 3)),
        ("sum_guides", "f4", (7,)),
        ("sum_guides_half", "f4", (7,)),
        ("sum_passes", "f4", (9, 3)),
        ("sum_passes_half", "f4", (9, 3)),
        # Records of the thread.
        ("rays", "i8", (MAX_BOUNCES + 2, 7)),
        ("cycles", "u8", (MAX_BOUNCES + 2, 7)),
        ("dropped", "i8"),
        ("reads", "i8"),
        ("ended", "u8"),
        ("pixel_light", "f4", (MAX_BOUNCES + 2, 3)),
        ("weights", "f4", (MAX_CLUSTERS,)),
    ],
    align=True,
)
"""One path and all that is known on the way; each thread has one."""

TREE_BYTES = TREE.itemsize

tree_at, face_at, material_at, texture_use_at = (record_reader(d) for d in (TREE, FACE, MATERIAL, TEXTURE_USE))
light_at, cluster_at, sun_at, haze_at = (record_reader(d) for d in (LIGHT, CLUSTER, SUN, HAZE))
scene_at, lens_at, job_at, path_at = (record_reader(d) for d in (SCENE, LENS, JOB, PATH))
