"""The words of the blend's kernels: what is in a record, and what is in a row.

Whatever belongs together travels as one record: arrays as a `NamedTuple`, the facts of a layer, a mapping or a film as a
structured type with named fields. What is worked out for a block of texels lies in flat buffers of rows of B lanes, one texel
to a lane, a constant apart, so that LLVM sees that rows do not overlap. The tables here name those rows; `lane` of
`_lane_kernels` finds them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.row_table import RowTable
from jagged_quilt.maps.roles import ALL_COLUMNS, COLUMN_OF, SURFACE_COLUMNS, MapRole

B = 128  # lanes: texels of a block, and columns of every row; all loops run over all of them, whatever the block holds
TILE_ROWS, TILE_COLUMNS = 8, 16  # a block of a grid: such texels share more layers, planes and texture than a row does

# What a projection does with the three planes of its mapping: shares them by how a point faces, or looks at one alone.
SHARED, ONLY_Y, ONLY_Z, FACED_MOST = 0, 1, 2, 3
FLAT, BY_UV, SPHERE, TUBE, DISC = 0, 1, 2, 3, 4  # the kinds of mapping; a new one is filled by `fill_mapping`
REPEAT, CLAMP, MIRROR = (each.code for each in Wrap)
NEAREST, BILINEAR, TRILINEAR, ANISOTROPIC = 0, 1, 2, 3
PLANE_CUT = 0.02  # a plane with less than this share is left out; the others fade so that no edge shows
QUARTER, ANY, FLIPS, SHIFTS, SEED = 1, 2, 4, 8, 16  # what `patch_ways` holds, and where the seed begins
PATCHES_BESIDE = 2  # sample sets of a slot for the patches beside the heaviest one

LAYER = np.dtype(
    [
        ("hardness", "f4"),  # (1 - softness) / softness
        ("relief", "f4"),  # of the tallest
        ("level_bias", "f4"),  # log2 of texels for a metre
        ("sharpness", "f4"),
        ("planes", "i4"),  # SHARED ... FACED_MOST
        ("wrap_u", "i4"),
        ("wrap_v", "i4"),
        ("filter", "i4"),
        ("most_taps", "f4"),
        ("slice", "i4"),
        ("mapping", "i4"),
        ("tiles", "f8"),  # repeats for a metre
        ("tiles_high", "f4"),  # in float32, and what that leaves away
        ("tiles_low", "f4"),
        ("height_offset", "f4"),  # of the tallest, by which it stands higher where layers meet
        ("normal_scale", "f4"),
        ("roughness_offset", "f4"),
        ("occlusion_strength", "f4"),
        ("colours", "f4", (3, 3)),  # what linear diffuse colours are multiplied by
        ("patch_size", "f4"),  # patches of a shuffled texture for a metre, or 0
        ("patch_border", "f4"),  # how wide they fade
        ("patch_ways", "i4"),  # what is done to each, and the seed
    ],
    align=True,
)
MAPPING = np.dtype(
    [
        ("kind", "i4"),  # FLAT ... DISC
        ("planes", "i4"),  # a bit for each plane that is used: X 1, Y 2, Z 4
        ("sharing", "i4"),  # SHARED ... FACED_MOST where all its layers do the same, and are as sharp; else -1
        ("sharpness", "f4"),
        ("axes", "f4", (3, 3)),  # in the world, one a row
        ("origin", "f4", (3,)),
        ("offset", "f4", (2,)),  # metres on the surface to metres of the pattern: the offset first, then the turn
        ("turn", "f4", (2, 2)),
        ("aspect", "f4"),  # what v is divided by: how much longer tiles are along it
        ("warp", "i4"),  # which warp moves points, or -1
        ("cheap", "i4"),  # whether slopes go along unit directions
        ("true_steps", "i4"),  # whether the true steps between texels are used
        ("unit", "f4"),  # metres of one unit of uv
        ("radius", "f4"),
        ("around", "f4"),  # how much longer the pattern is around the axis
        ("spiral", "f4"),  # metres around for a metre outwards
        ("slope_from", "f4"),  # cosines of slope between which side planes come in
        ("slope_to", "f4"),
        ("eye", "f4", (3,)),  # and a camera with metres, between which they do
        ("near", "f4"),
        ("far", "f4"),
        ("exact_axes", "f8", (3, 3)),  # the same in float64, for points far from the origin
        ("exact_origin", "f8", (3,)),
        ("exact_offset", "f8", (2,)),
        ("exact_turn", "f8", (2, 2)),
    ],
    align=True,
)
FILM = np.dtype(
    [
        ("sharpness", "f4"),  # how fast its shore rises, for hollows
        ("tint", "f4", (3,)),  # what the diffuse below is multiplied by
        ("colour", "f4", (3,)),
        ("opacity", "f4"),  # how much of what lies below the colour hides
        ("roughness", "f4"),
        ("roughness_share", "f4"),  # 0 or 1: whether it has its own
        ("specular", "f4"),
        ("specular_share", "f4"),
        ("flatten", "f4"),  # how much of the slopes it takes away
        ("fill", "f4"),  # how far hollows are filled up to where it stands
    ],
    align=True,
)


class Frame(RowTable):
    """The points of the block."""

    NORMAL = 3
    TANGENT = 3
    HANDEDNESS = 1
    FOOTPRINT = 2  # along tangent and bitangent
    POSITION = 3
    UV = 2
    UV_GRADIENT = 6
    UV_DIRECTION = 6  # unit, of u and of v
    TRUE_STEPS = 6  # to the next texels
    WARP = 3  # how a warp moves the point
    WARP_ALONG = 3  # and a step along tangent and bitangent
    WARP_ACROSS = 3
    RESIDUAL = 3  # what float32 leaves away of a position far from the origin
    END = 0


class Lookup(RowTable):
    """Where a mapping looks: the position, and the two steps from it."""

    POSITION = 3
    STEP_ALONG = 3
    STEP_ACROSS = 3
    END = 0


class Plane(RowTable):
    """A plane of a mapping: metres of the pattern, the base-2 logarithm of the footprint, the gradients of u and v in the
    world, and the footprint's steps in u and v; of true steps its longer axis and the logarithms of both axes."""

    U = 1
    V = 1
    LEVEL = 1
    GRADIENT_U = 3
    GRADIENT_V = 3
    STEPS = 4
    LONG_U = 1, "STEPS"
    LONG_V = 1, "STEPS", 1
    LONGER = 1, "STEPS", 2
    SHORTER = 1, "STEPS", 3
    U_RESIDUAL = 1  # what float32 leaves away of u and v far from the origin; else 0
    V_RESIDUAL = 1
    END = 0


class Mapped(RowTable):
    """All that a mapping says of the block."""

    PLANES = 3 * Plane.END
    FACING = 3  # the logarithms of |n| towards each plane
    SIDES = 1  # how much the side planes count
    END = 0


class Slot(RowTable):
    """What the layer in a slot says, four at a time as they are laid out, and its weight. The slice and `patch_ways` are the
    bits of whole numbers."""

    SLICE = 1
    TILES_HIGH = 1
    TILES_LOW = 1
    LEVEL_BIAS = 1
    RELIEF = 1
    HARDNESS = 1
    SHARPNESS = 1
    PLANES = 1
    WRAP_U = 1
    WRAP_V = 1
    FILTER = 1
    MOST_TAPS = 1
    HEIGHT_OFFSET = 1
    NORMAL_SCALE = 1
    ROUGHNESS_OFFSET = 1
    OCCLUSION_STRENGTH = 1
    COLOURS = 9
    PATCH_SIZE = 1
    PATCH_BORDER = 1
    PATCH_WAYS = 1
    WEIGHT = 1
    END = 0


class Sharing(RowTable):
    """What is done with the planes of the mapping at hand, as a slot says it too."""

    SHARPNESS = 1
    PLANES = 1
    END = 0


class Patch(RowTable):
    """One of the three patches around a lane: how much it counts, and which it is."""

    SHARE = 1
    COLUMN = 1
    ROW = 1
    END = 0


class Patches(RowTable):
    """All three, and by how much what they mix is to be spread."""

    EACH = 3 * Patch.END
    GAIN = 1
    END = 0


class PatchTurn(RowTable):
    """How a patch turns the pattern: a 2 x 2, the patch's middle, and where that comes to lie."""

    MATRIX = 4
    MIDDLE = 2
    TARGET = 2
    END = 0


class SurveyColumns(RowTable):
    """Columns of what `survey_points` answers: the rows of a plane first."""

    UV = 2
    LEVEL = 1
    GRADIENTS = 6
    PLANE = 1
    SHARE = 1
    READS = 1
    MIP = 1
    END = 0


LAYER_ROWS = int(Slot.WEIGHT)  # of a slot, what its layer says
SURVEYED_ROWS = int(SurveyColumns.PLANE)

OUTPUTS, ALL_OUTPUTS = SURFACE_COLUMNS, ALL_COLUMNS  # of plans without optional roles, and with them
NORMAL, HEIGHT, COAT_NORMAL = COLUMN_OF[MapRole.NORMAL], COLUMN_OF[MapRole.HEIGHT], COLUMN_OF[MapRole.COAT_NORMAL]
DIFFUSE, SPECULAR = COLUMN_OF[MapRole.DIFFUSE], COLUMN_OF[MapRole.SPECULAR]
ROUGHNESS, OCCLUSION = COLUMN_OF[MapRole.ROUGHNESS], COLUMN_OF[MapRole.OCCLUSION]
TILT, COAT_TILT, SUM_ROWS = ALL_OUTPUTS, ALL_OUTPUTS + 3, ALL_OUTPUTS + 6  # after them, the sums by which slopes tilt normals

F0, F1, F2, HALF = np.float32(0.0), np.float32(1.0), np.float32(2.0), np.float32(0.5)
# An unsigned index needs no test for "from the end"; the compiler cannot see that our signed ones are never negative.
INDEX = np.uint64


class PointRows(NamedTuple):
    """N points as the kernels read them; arrays that no layer needs have no rows."""

    position: NDArray[np.float32]  # (N, 3)
    normal: NDArray[np.float32]  # (N, 3)
    tangent: NDArray[np.float32]  # (N, 4)
    footprint: NDArray[np.float32]  # (N, 2)
    uv: NDArray[np.float32]  # (N, 2)
    uv_gradient: NDArray[np.float32]  # (N, 6), or (N, 12) with the unit directions of u and v, for cheap detail
    true_steps: NDArray[np.float32]  # (N, 6)
    residual: NDArray[np.float32]  # (N, 3), what float32 leaves away of positions far from the origin
    warps: NDArray[np.float32]  # (W, N, 9): metres, and metres for a metre along tangent and bitangent
    layer: Stored  # (N, K) which layers
    weight: NDArray[np.float32]  # (N, K) how much of each
    films: NDArray[np.float32]  # (N, F) how much of each film there is
    columns: int  # how wide a grid the points are, or 0


class PlanRows(NamedTuple):
    """What a `BlendPlan` says."""

    layers: NDArray[np.void]  # (L,) LAYER
    slot_rows: NDArray[np.float32]  # (L * LAYER_ROWS,) what each layer says in the rows of a slot
    differ: NDArray[np.bool_]  # (LAYER_ROWS / 4,) in which fours of those rows layers differ
    one_mapping: int  # that of all layers, but for maps of their own; -1 where they have several
    mappings: NDArray[np.void]  # (C,) MAPPING
    role_row: NDArray[np.int32]  # (OUTPUTS or ALL_OUTPUTS,) 4 * array + channel that holds it, or -1
    fine_row: NDArray[np.int32]  # (OUTPUTS,) the same of what 8 bits leave away of heights and normals
    neutral: NDArray[np.float32]  # as many, what then stands in
    mixed: NDArray[np.bool_]  # (4 * arrays,) which channels are plain sums
    is_colour: NDArray[np.bool_]  # (arrays,) whether its first three channels are read as colour
    is_plain: bool  # whether all repeat, and are read by one plain filter
    is_tuned: bool  # whether a layer changes its maps as they are read
    is_shuffled: bool  # whether a layer's texture lies in patches
    extra: int  # sample sets of a slot beside its own
    per_map: NDArray[np.int32]  # (G, L) the mapping by which a layer has the roles of a group, or -1 where by its own
    group_of: NDArray[np.int32]  # (4 * arrays,) the group to which the role of a channel belongs, or -1
    means: NDArray[np.float32]  # (L, 4 * arrays) of the channels of layers that are shuffled
    pairs: NDArray[np.float32]  # (L, L) the hardness where one layer meets another, or (0, 0): each layer's own
    films: NDArray[np.void]  # (F,) FILM
    is_world: bool  # whether normals are wanted in the world


class TexelRows(NamedTuple):
    """The texels of all arrays: level after level from the full size down, slice after slice within a level.

    Each row of a slice ends with its first texel once more.
    """

    texels: NDArray[np.uint32]  # (M * arrays,), all arrays of a texel side by side
    side_bits: int
    slice_count: int
    levels: int


class ReadRows(NamedTuple):
    """How the layers in the slots are read."""

    values: NDArray[np.float32]  # Slot rows for each
    plane_weights: NDArray[np.float32]  # three for each sample set: how much each plane counts


class SlotRows(NamedTuple):
    """The K slots of a texel: the k-th holds its k-th heaviest layer."""

    read: ReadRows
    layers_at: NDArray[np.int32]  # the layer of each lane of the slot at hand
    layers: NDArray[np.int32]  # of every slot
    mappings_at: NDArray[np.int32]  # the mapping of each lane where lanes have several, else its first is -1 - mapping
    mapped_at: NDArray[np.int64]  # of each sample set, the first row of its mapping in `mapped`
    mean_gain: NDArray[np.float32]  # one: how much of its mean a shuffled slot is given back
    is_own: NDArray[np.float32]  # one for each group: 1 where its roles have a mapping of their own
    own_mapping: NDArray[np.int32]  # and which, or -1
    taps: NDArray[np.float32]  # three for each sample set: samples along the footprint


class MappingRows(NamedTuple):
    """Where the block's texels are on each mapping."""

    frame: NDArray[np.float32]
    lookup: NDArray[np.float32]
    mapped: NDArray[np.float32]  # Mapped rows for each mapping, then for each sample set
    plane_shares: NDArray[np.float32]  # three for each mapping, then for each slot: how much each plane counts there
    sharing: NDArray[np.float32]  # of the mapping at hand
    users: NDArray[np.int32]  # of each mapping, a bit for each slot; then whether positions have residuals
    patches: NDArray[np.float32]  # those of the plane at hand
    turns: NDArray[np.float32]  # of one of them
    plane_weight: NDArray[np.float32]  # one: how much the plane at hand counts


class SpotRows(NamedTuple):
    """Where the samples of each pass are."""

    at: NDArray[np.int32]  # two: where the upper and the lower two texels around each lane's sample begin
    between: NDArray[np.float32]  # two: the position between them
    shares: NDArray[np.float32]


class SampleRows(NamedTuple):
    """What is read in each pass."""

    spot: SpotRows
    around: NDArray[np.uint32]  # four for each array: the texels around each lane's sample
    heights: NDArray[np.float32]
    slot: NDArray[np.int32]  # of each pass
    plane: NDArray[np.int32]
    sample_set: NDArray[np.int32]
    group: NDArray[np.int32]  # of the roles that it is read for, or -1


class MixRows(NamedTuple):
    """What comes of it."""

    tallness: NDArray[np.float32]  # one for each slot
    tallest: NDArray[np.float32]
    slot_share: NDArray[np.float32]  # one for each slot
    total: NDArray[np.float32]
    weight: NDArray[np.float32]
    scaled: NDArray[np.float32]  # the weight for slopes, of layers that scale theirs
    masked: NDArray[np.float32]  # the weight where roles have the slot's own mapping
    channels: NDArray[np.float32]  # four for each array
    sums: NDArray[np.float32]  # SUM_ROWS
    steps: NDArray[np.int32]  # ALL_OUTPUTS


class Scratch(NamedTuple):
    """The buffers of one thread."""

    who: NDArray[np.int64]  # which points the block takes
    to: NDArray[np.int64]  # which rows of the targets those are
    slots: SlotRows
    mapping: MappingRows
    samples: SampleRows
    mix: MixRows


class TargetRows(NamedTuple):
    """Where finished texels go."""

    where: NDArray[np.int64]  # (N,) the row of each point; none where it is the point's own
    encode: NDArray[np.uint8]  # the table of the sRGB curve
    rows: NDArray[np.int32]  # (targets,) the first output of each, bytes first
    is_colour: NDArray[np.bool_]  # (targets,)
    scale: NDArray[np.float32]  # (outputs, 3): steps of its scale, and a x + b before them
    bytes: tuple[NDArray[np.uint8], ...]  # (M, C) each; no columns where a role is not blended
    words: tuple[NDArray[np.uint16], ...]


def scratch_for(slots: int, mappings: int, arrays: int, passes: int, extra: int = 0, groups: int = 0) -> Scratch:
    """Return buffers for so many slots, mappings, arrays, passes, extra sample sets of a slot, and groups of roles."""
    sets = slots * (1 + extra)
    f4 = lambda rows: np.zeros(rows * B, np.float32)
    i4 = lambda rows: np.zeros(rows * B, np.int32)
    return Scratch(
        np.zeros(B, np.int64),
        np.zeros(B, np.int64),
        SlotRows(
            ReadRows(f4(Slot.END * slots), f4(3 * sets)),
            i4(1),
            i4(slots),
            i4(slots),
            np.zeros(sets, np.int64),
            f4(slots),
            f4(max(1, groups * slots)),
            i4(max(1, groups * slots)),
            f4(3 * sets),
        ),
        MappingRows(
            f4(Frame.END),
            f4(Lookup.END),
            f4(Mapped.END * (mappings + sets)),
            f4(3 * (mappings + slots)),
            f4(Sharing.END),
            np.zeros(mappings + 1, np.int32),
            f4(Patches.END),
            f4(PatchTurn.END),
            f4(1),
        ),
        SampleRows(
            SpotRows(i4(2 * passes), f4(2 * passes), f4(passes)),
            np.zeros(4 * arrays * passes * B, np.uint32),
            f4(passes),
            *(np.zeros(passes, np.int32) for _ in range(4)),
        ),
        MixRows(f4(slots), f4(1), f4(slots), f4(1), f4(1), f4(1), f4(1), f4(4 * arrays), f4(SUM_ROWS), i4(ALL_OUTPUTS)),
    )
