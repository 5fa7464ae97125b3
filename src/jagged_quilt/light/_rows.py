"""The words of the kernels of light: what is in a record, and what is in a row.

Rows are LANES wide, one point to a lane; `lane` of `_kernels` finds them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.row_table import RowTable
from jagged_quilt.maps.roles import SHADED_ROLES, MapRole, columns_of

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
INDEX = np.uint64  # needs no test for "from the end"
UPS, SKY_ROUGHNESSES = 65, 9  # columns and rows of the table of a sky's mirror images
ANGLES, ROUGHNESSES = 64, 32  # columns and rows of the table of what is thrown back
SMOOTHEST = np.float32(0.04)
COAT_FACING = np.float32(0.04)  # what a coat throws back head on: its index of refraction is 1.5
LANES = 64
LIT_COLUMN_OF, LIT_COLUMNS = columns_of(SHADED_ROLES)
DIFFUSE, NORMAL, ROUGHNESS = (LIT_COLUMN_OF[role] for role in (MapRole.DIFFUSE, MapRole.NORMAL, MapRole.ROUGHNESS))
SPECULAR, OCCLUSION, EMISSION = (LIT_COLUMN_OF[role] for role in (MapRole.SPECULAR, MapRole.OCCLUSION, MapRole.EMISSION))
COAT, COAT_NORMAL = LIT_COLUMN_OF[MapRole.COAT], LIT_COLUMN_OF[MapRole.COAT_NORMAL]
COAT_ROUGHNESS = LIT_COLUMN_OF[MapRole.COAT_ROUGHNESS]


class LobeRows(NamedTuple):
    """Samples of a lobe: half vectors (S, 3) about the normal, their shares (S,), which sum to 1, and the level of the sky that
    each reads (S,)."""

    half: NDArray[np.float64]
    share: NDArray[np.float64]
    level: NDArray[np.int64]


class Lit(RowTable):
    """What is laid out of points, and what is worked out of it."""

    TEXEL = LIT_COLUMNS  # what the surface has, by `LIT_COLUMN_OF`
    EYE = 3
    ALBEDO = 8  # what is read of the tables around each lane's place: of the reflection of a lobe,
    IRRADIANCE = 8  # of what the sky sheds on the normal,
    MIRROR = 16  # and of its mirror image
    BY_ROUGHNESS = 1  # how far beyond that place it is
    BY_ANGLE = 1
    BY_NORMAL = 1
    BY_SKY_ROUGHNESS = 1
    BY_MIRROR = 1
    N_DOT_V = 1  # then what no lamp changes
    LOBE_GAIN = 3  # by what the lobe alone is too dark
    BODY = 3  # the body's share
    SKY_BODY = 3  # what the sky gives by the body, and by the surface
    SKY_SURFACE = 3
    COAT_N_DOT_V = 1
    COAT_LOBE = 1  # the coat's share over what a white lobe keeps
    TRANSMITTED = 1  # what it leaves of the rest
    COAT_SKY = 3
    END = 0


class Way(RowTable):
    """One lamp, as the lanes see it."""

    TOWARDS = 3
    ARRIVING = 1
    END = 0


class Sum(RowTable):
    """What all lamps give: what falls on the body, and what the lobes of surface and coat reflect."""

    BODY = 3
    SURFACE = 3
    COAT = 3
    END = 0


class Leaving(RowTable):
    """What leaves towards the eye: its parts, as `PARTS` of `light.py` names them, and their sum."""

    BODY = 3
    SURFACE = 3
    SKY_BODY = 3
    SKY_SURFACE = 3
    COAT = 3
    EMISSION = 3
    SUM = 3
    END = 0


SCRATCH = (Lit.END + Way.END + Sum.END + Leaving.END) * LANES


class SurfaceRows(NamedTuple):
    """What light falls on, at N points."""

    values: NDArray[np.float32]  # (N, SURFACE_COLUMNS), or (N, LIT_COLUMNS) where there are coats or emission
    eye: NDArray[np.float32]  # (N, 3)


class LampRows(NamedTuple):
    """L lamps at N points."""

    ways: NDArray[np.float32]  # unit vectors towards the lamps: for each one, or one for every point
    starts: NDArray[np.int64]  # (L,) where those of a lamp begin
    steps: NDArray[np.int64]  # (L,) 0 or 1
    arriving: NDArray[np.float32]  # (L, N) how much of it arrives
    colours: NDArray[np.float32]  # (L, 3)


class SkyRows(NamedTuple):
    """A sky: its colours as a gradient, (3,) each, then what it sheds on normals and its mirror images by roughness.

    A gradient has tables by how far up a direction points; an image has harmonics, and a picture for each roughness.
    """

    zenith: NDArray[np.float32]
    horizon: NDArray[np.float32]
    ground: NDArray[np.float32]
    irradiance: NDArray[np.float32]  # (UPS * 4,): three colours and 0; of an image (27,): nine harmonics of three colours each
    mirrored: NDArray[np.float32]  # (SKY_ROUGHNESSES * UPS * 4,); of an image all its pictures, texels of three
    pictures: NDArray[np.int64]  # (P, 3) where each begins, its rows and columns; none for a gradient
