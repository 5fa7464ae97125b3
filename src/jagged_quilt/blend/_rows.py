"""The words of the blend's kernels: what is in a record, and what is in a row.

Whatever belongs together travels as one record: arrays as a `NamedTuple`, the facts of a layer or of a chart as a structured
type with named fields. What is worked out for a block of texels lies in flat buffers of rows of B lanes, one texel to a lane, a
constant apart, so that LLVM sees that rows do not overlap; their names here are the numbers of those rows.
"""

from __future__ import annotations

from itertools import accumulate
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.loose import Stored
from jagged_quilt.maps.roles import BLENDED_ROLES, SURFACE_ROLES, MapRole

B = 128  # lanes: texels of a block, and columns of every row; all loops run over all of them, whatever the block holds
TILE_ROWS, TILE_COLUMNS = 8, 16  # a block of a grid: such texels share more layers, planes and texture than a row does

# What a projection does with the three planes of its chart: shares them by how a place faces, or looks at one alone.
SHARED, ONLY_Y, ONLY_Z, FACED_MOST = 0, 1, 2, 3
REPEAT, CLAMP, MIRROR = (each.code for each in Wrap)
NEAREST, BILINEAR, TRILINEAR, ANISOTROPIC = 0, 1, 2, 3

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
        ("chart", "i4"),
        ("tiles", "f8"),  # repeats for a metre
        ("tiles_high", "f4"),  # in float32, and what that leaves away
        ("tiles_low", "f4"),
        ("rise", "f4"),  # of the tallest, by which it stands higher where layers meet
        ("steep", "f4"),  # times as steep
        ("rougher", "f4"),
        ("occluded", "f4"),  # times as much light kept away
        ("colours", "f4", (3, 3)),  # what linear diffuse colours are multiplied by
        ("patch_size", "f4"),  # patches of a shuffled texture for a metre, or 0
        ("patch_border", "f4"),  # how wide they fade
        ("patch_ways", "i4"),  # what is done to each, and the seed
    ],
    align=True,
)
CHART = np.dtype(
    [
        ("kind", "i4"),
        ("planes", "i4"),  # a bit for each plane that is used: X 1, Y 2, Z 4
        ("sharing", "i4"),  # SHARED ... FACED_MOST where all its layers do the same, and are as sharp; else -1
        ("sharpness", "f4"),
        ("axes", "f4", (3, 3)),  # in the world, one a row
        ("origin", "f4", (3,)),
        ("offset", "f4", (2,)),  # metres on the surface to metres of the pattern: the offset first, then the turn
        ("turn", "f4", (2, 2)),
        ("flat", "f4"),  # what v is divided by: how much longer tiles are along it
        ("warp", "i4"),  # which warp moves places, or -1
        ("cheap", "i4"),  # whether slopes go along unit directions
        ("fine", "i4"),  # whether the true steps between texels are used
        ("radius", "f4"),  # or metres of one unit of uv
        ("around", "f4"),  # how much longer the pattern lies around
        ("spiral", "f4"),  # metres around for a metre outwards
        ("slope_from", "f4"),  # cosines of slope between which side planes come in
        ("slope_to", "f4"),
        ("eye", "f4", (3,)),  # and a camera with metres, between which they do
        ("near", "f4"),
        ("far", "f4"),
        ("exact_axes", "f8", (3, 3)),  # the same in float64, for places far from the origin
        ("exact_origin", "f8", (3,)),
        ("exact_offset", "f8", (2,)),
        ("exact_turn", "f8", (2, 2)),
    ],
    align=True,
)

# Rows of `frame`: normal, tangent, handedness, the footprint along tangent and bitangent, position, uv and its gradients, the
# unit directions of u and v, the true steps to the next texels, how a warp moves the place and a step along tangent and
# bitangent, and what float32 leaves away of a position far from the origin.
NX, NY, NZ, TX, TY, TZ, HAND, ALONG, ACROSS, X, Y, Z = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11
UV, UV_GRADIENT, UV_WAYS, TRUE_STEPS, WARPED, REST, FRAME_ROWS = 12, 14, 20, 26, 32, 41, 44
# Rows of `moved`: the place on which a chart looks, and the two steps from it.
MOVED_STEPS, MOVED_ROWS = 3, 9
# Rows of a plane in `laid`: u and v in metres of the pattern, the base-2 logarithm of the footprint, the gradients of u and v
# in the world, and the footprint's steps in u and v; or, for true steps, its longer axis and the logarithms of both axes.
# Last, what float32 leaves away of u and v far from the origin; else 0.
U, V, LEVEL, GRADIENT_U, GRADIENT_V, STEPS, U_REST, V_REST, PLANE_ROWS = 0, 1, 2, 3, 6, 9, 13, 14, 15
LONG_U, LONG_V, LONGER, SHORTER = 9, 10, 11, 12
# Rows of a chart in `laid` after its three planes: the logarithms of |n|, and how much the sides count.
FACING, SIDES, LAID_ROWS = 45, 48, 49
# Rows of a place in `places`: what its layer says, four at a time as they are laid out, and its weight. The slice is the bits
# of a whole number.
SLICE, TILES, TILES_REST, BIAS, LOW, HARD, SHARP, BY, WRAP_U, WRAP_V, FILTER, TAPS = range(12)
RISE, STEEP, ROUGHER, OCCLUDED, COLOURS, PATCH_SIZE, PATCH_BORDER, PATCH_WAYS = *range(12, 17), 25, 26, 27
LAYER_ROWS, WEIGHT, PLACE_ROWS = 28, 28, 29
# Rows of each of the three in `patches`: how much it counts, and which it is; last, by how much what they mix is to be spread.
# Those of `turns`: a 2 x 2, the middle of a patch, and where that comes to lie.
PATCH_ROWS, PATCH_GAIN, TURN_ROWS = 3, 9, 8
# What is said of a film.
FILM_SHARP, FILM_HIDES, FILM_ROUGHNESS, FILM_ROUGH, FILM_SPECULAR, FILM_SHINES, FILM_LEVEL, FILM_FILLS = range(8)
FILM_TINT, FILM_COLOUR, FILM_ROWS = 8, 11, 14
SURVEYED = 13  # columns of what `survey_points` tells: the first nine rows of a plane, then plane, share, reads and mip

_CHANNELS = [role.value.channels for role in BLENDED_ROLES]
ROW_OF = dict(zip(BLENDED_ROLES, accumulate(_CHANNELS, initial=0), strict=False))
"""The first row of a blended texel that each role takes."""
OUTPUTS = sum(role.value.channels for role in SURFACE_ROLES)  # of every surface; plans with rare roles have ALL_OUTPUTS
ALL_OUTPUTS = sum(_CHANNELS)
NORMAL, HEIGHT, COAT_NORMAL = ROW_OF[MapRole.NORMAL], ROW_OF[MapRole.HEIGHT], ROW_OF[MapRole.COAT_NORMAL]
DIFFUSE, SPECULAR = ROW_OF[MapRole.DIFFUSE], ROW_OF[MapRole.SPECULAR]
ROUGHNESS, OCCLUSION = ROW_OF[MapRole.ROUGHNESS], ROW_OF[MapRole.OCCLUSION]
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
    rest: NDArray[np.float32]  # (N, 3), what float32 leaves away of positions far from the origin
    warps: NDArray[np.float32]  # (W, N, 9): metres, and metres for a metre along tangent and bitangent
    layer: Stored  # (N, K) which layers
    weight: NDArray[np.float32]  # (N, K) how much of each
    films: NDArray[np.float32]  # (N, F) how much of each film there is
    columns: int  # how wide a grid the points are, or 0


class PlanRows(NamedTuple):
    """What a `BlendPlan` says."""

    layers: NDArray[np.void]  # (L,) LAYER
    looks: NDArray[np.float32]  # (L * LAYER_ROWS,) what each layer says in the rows of a place
    differ: NDArray[np.bool_]  # (LAYER_ROWS / 4,) in which fours of those rows layers differ
    one_chart: int  # on which all layers lie, but maps apart; -1 where they lie on several
    charts: NDArray[np.void]  # (C,) CHART
    role_row: NDArray[np.int32]  # (OUTPUTS or ALL_OUTPUTS,) 4 * array + channel that holds it, or -1
    neutral: NDArray[np.float32]  # as many, what then stands in
    mixed: NDArray[np.bool_]  # (4 * arrays,) which channels are plain sums
    is_colour: NDArray[np.bool_]  # (arrays,) whether its first three channels are read as colour
    is_plain: bool  # whether all repeat, and are read by one plain filter
    is_tuned: bool  # whether a layer changes its maps as they are read
    is_shuffled: bool  # whether a layer's texture lies in patches
    extra: int  # seats of a place beside its own
    apart: NDArray[np.int32]  # (G, L) the chart on which a layer has the roles of a group apart, or -1
    group_of: NDArray[np.int32]  # (4 * arrays,) the group to which the role of a channel belongs, or -1
    means: NDArray[np.float32]  # (L, 4 * arrays) of the channels of layers that are shuffled
    pairs: NDArray[np.float32]  # (L, L) the hardness where one layer meets another, or (0, 0): each layer's own
    films: NDArray[np.float32]  # (F * FILM_ROWS,) what is said of each
    is_world: bool  # whether normals are wanted in the world


class TexelRows(NamedTuple):
    """The texels of all arrays: level after level from the full size down, slice after slice within a level.

    Each row of a slice ends with its first texel once more.
    """

    texels: NDArray[np.uint32]  # (M * arrays,), all arrays of a texel side by side
    side_bits: int
    slice_count: int
    levels: int


class LookRows(NamedTuple):
    """How the layer at each of the K places of a texel is read."""

    rows: NDArray[np.float32]  # PLACE_ROWS each
    counts: NDArray[np.float32]  # three for each seat: how much each plane counts


class PlaceRows(NamedTuple):
    """What lies at each of the K places of a texel: the k-th heaviest layer."""

    look: LookRows
    layers_at: NDArray[np.int32]  # the layer of each lane of the place at hand
    layers: NDArray[np.int32]  # of every place
    charts_at: NDArray[np.int32]  # the chart of each lane where lanes have several, else its first is -1 - chart
    laid_at: NDArray[np.int64]  # of each seat, where the rows of its chart begin in `laid`
    more: NDArray[np.float32]  # one: how much of its mean a shuffled place is given back
    apart: NDArray[np.float32]  # one for each group: 1 where its roles lie apart
    apart_at: NDArray[np.int32]  # and on which chart, or -1
    taps: NDArray[np.float32]  # three for each seat: samples along the footprint


class LaidRows(NamedTuple):
    """Where the block lies on each chart."""

    frame: NDArray[np.float32]
    moved: NDArray[np.float32]
    laid: NDArray[np.float32]
    shares: NDArray[np.float32]  # three for each chart, then for each place: how much each plane counts there
    alike: NDArray[np.float32]  # two: sharpness and what is done with the planes, of the chart at hand
    is_laid: NDArray[
        np.int32
    ]  # of each chart, a bit for each place upon it; then whether float32 leaves something of places away
    patches: NDArray[np.float32]  # those of the plane at hand
    turns: NDArray[np.float32]  # how one of them lies
    shown: NDArray[np.float32]  # one: how much it counts


class SpotRows(NamedTuple):
    """Where the samples of each pass lie."""

    at: NDArray[np.int32]  # two: where the upper and the lower two texels around each lane's sample begin
    between: NDArray[np.float32]  # two: the place between them
    shares: NDArray[np.float32]


class SampleRows(NamedTuple):
    """What is read in each pass."""

    spot: SpotRows
    around: NDArray[np.uint32]  # four for each array: the texels around each lane's sample
    heights: NDArray[np.float32]
    place: NDArray[np.int32]  # of each pass
    plane: NDArray[np.int32]
    seat: NDArray[np.int32]
    group: NDArray[np.int32]  # of the roles that it is read for, or -1


class MixRows(NamedTuple):
    """What comes of it."""

    tall: NDArray[np.float32]  # one for each place
    tallest: NDArray[np.float32]
    kept: NDArray[np.float32]  # one for each place
    whole: NDArray[np.float32]
    weight: NDArray[np.float32]
    scaled: NDArray[np.float32]  # the weight for slopes, of layers that change theirs
    masked: NDArray[np.float32]  # the weight where roles do not lie apart
    channels: NDArray[np.float32]  # four for each array
    sums: NDArray[np.float32]  # SUM_ROWS
    steps: NDArray[np.int32]  # ALL_OUTPUTS


class Scratch(NamedTuple):
    """The buffers of one thread."""

    who: NDArray[np.int64]  # which points the block takes
    to: NDArray[np.int64]  # which rows of the targets those are
    places: PlaceRows
    lying: LaidRows
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


def scratch_for(places: int, charts: int, arrays: int, passes: int, extra: int = 0, groups: int = 0) -> Scratch:
    """Return buffers for so many places of a texel, charts, arrays, passes, extra seats of a place, and groups of roles."""
    seats = places * (1 + extra)
    f4 = lambda rows: np.zeros(rows * B, np.float32)
    i4 = lambda rows: np.zeros(rows * B, np.int32)
    return Scratch(
        np.zeros(B, np.int64),
        np.zeros(B, np.int64),
        PlaceRows(
            LookRows(f4(PLACE_ROWS * places), f4(3 * seats)),
            i4(1),
            i4(places),
            i4(places),
            np.zeros(seats, np.int64),
            f4(places),
            f4(max(1, groups * places)),
            i4(max(1, groups * places)),
            f4(3 * seats),
        ),
        LaidRows(
            f4(FRAME_ROWS),
            f4(MOVED_ROWS),
            f4(LAID_ROWS * (charts + seats)),
            f4(3 * (charts + places)),
            f4(2),
            np.zeros(charts + 1, np.int32),
            f4(3 * PATCH_ROWS + 1),
            f4(TURN_ROWS),
            f4(1),
        ),
        SampleRows(
            SpotRows(i4(2 * passes), f4(2 * passes), f4(passes)),
            np.zeros(4 * arrays * passes * B, np.uint32),
            f4(passes),
            *(np.zeros(passes, np.int32) for _ in range(4)),
        ),
        MixRows(f4(places), f4(1), f4(places), f4(1), f4(1), f4(1), f4(1), f4(4 * arrays), f4(SUM_ROWS), i4(ALL_OUTPUTS)),
    )
