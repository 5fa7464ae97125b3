"""A block of places on a surface: what every mask, projection and blend reads."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, frozen
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Facts

_SHAPES: dict[str, tuple[int, ...]] = {
    "position": (3,),
    "normal": (3,),
    "tangent": (4,),
    "footprint": (2,),
    "uv": (2,),
    "colour": (4,),
    "uv_gradient": (2, 3),
    "steps": (2, 3),
    "uv_tangent": (4,),
    "rest": (3,),
}
NEAR = 4096.0  # metres from the origin, up to which float32 is as good as a quarter of a millimetre
LARGEST = 4e6  # metres from the origin, as far as positions are exact
_LEFT_AS_THEY_ARE = ("uv_gradient", "steps")  # a surface may repeat one row for all: made whole where somebody reads them


@dataclass(frozen=True, slots=True, eq=False, kw_only=True, repr=False)
class Points:
    """N places on a surface. Its arrays are read-only.

    Attributes
    ----------
    position : (N, 3) float32
        Metres, world, +Y up.
    normal : (N, 3) float32
        Unit, world, of the smooth geometry.
    tangent : (N, 4) float32
        Unit, world; w is the handedness: bitangent = cross(normal, tangent) * w.
    uv : (N, 2) float32 or None
        Where the surface has them; (0, 0) is the top left, v grows downwards.
    footprint : (N, 2) float32
        Metres of surface, along the tangent and along the bitangent, that one output texel or pixel covers.
    colour : (N, 4) float32 or None
        Vertex colours, 0..1, where the surface has them.
    uv_gradient : (N, 2, 3) float32 or None
        How u and v grow over the surface, in the world, 1/m.
    steps : (N, 2, 3) float32 or None
        Metres, world: the ways to the next texel or pixel to the right and below, where they are not those of the footprint
        along the tangent and the bitangent. Anisotropic filters read along them.
    uv_tangent : (N, 4) float32 or None
        As `tangent`, along the uv, where `tangent` is along something else: where a mesh is baked into another layout.
    rest : (N, 3) float32 or None
        What float32 leaves away of the positions, where they are far from the origin: the place is their sum (see `places`).

    Examples
    --------
    >>> Points.of([[0, 0, 0], [1, 0, 0]], [[0, 1, 0], [0, 1, 0]])
    <Points 2>
    """

    position: NDArray[np.float32]
    normal: NDArray[np.float32]
    tangent: NDArray[np.float32]
    footprint: NDArray[np.float32]
    uv: NDArray[np.float32] | None = None
    colour: NDArray[np.float32] | None = None
    uv_gradient: NDArray[np.float32] | None = None
    steps: NDArray[np.float32] | None = None
    uv_tangent: NDArray[np.float32] | None = None
    rest: NDArray[np.float32] | None = None

    def __post_init__(self) -> None:
        count = len(self.position)
        for name, shape in _SHAPES.items():
            array = getattr(self, name)
            if array is None:
                continue
            if array.shape != (count, *shape) or array.dtype != np.float32:
                raise ShapeError(
                    f"{name} must be float32 of shape {(count, *shape)}, as there are {count} positions; got "
                    f"{array.dtype} {array.shape}"
                )
            if name not in _LEFT_AS_THEY_ARE:
                object.__setattr__(self, name, frozen(array, np.float32))

    def __reduce__(self) -> tuple[partial[Points], tuple[()]]:
        """Made again where it arrives, so that its arrays are read-only there too."""
        return partial(Points, **{each.name: getattr(self, each.name) for each in fields(self)}), ()

    def __len__(self) -> int:
        return int(self.position.shape[0])

    def __repr__(self) -> str:
        more = [name for name in ("uv", "colour", "uv_gradient", "steps", "uv_tangent") if getattr(self, name) is not None]
        return f"<Points {len(self)}{': ' if more else ''}{', '.join(more)}>"

    def __getitem__(self, part: slice | NDArray[np.bool_] | NDArray[np.intp]) -> Points:
        """Return some of the points; a slice shares memory with this block."""
        some: Facts = {}
        for each in fields(self):
            array = getattr(self, each.name)
            some[each.name] = None if array is None else array[part]
        return Points(**some)

    @property
    def world(self) -> NDArray[np.float64]:
        """Where the points are, exactly, (N, 3)."""
        whole = self.position.astype(np.float64)
        return whole if self.rest is None else whole + self.rest

    def moved(self, by: NDArray[np.float32]) -> Points:
        """Return the points moved by (N, 3) metres, the rest as it is."""
        return replace(self, position=self.position + by) if self.rest is None else self.at(self.world + by)

    def at(self, positions: NDArray[np.float64]) -> Points:
        """Return the points at other places, (N, 3), the rest as it is: what float32 leaves away is kept beside."""
        position = positions.astype(np.float32)
        return replace(self, position=position, rest=(positions - position).astype(np.float32))

    def true_steps(self) -> NDArray[np.float32]:
        """Return the ways to the next texel to the right and below, (N, 2, 3)."""
        if self.steps is not None:
            return self.steps
        tangent = self.tangent[:, :3]
        return np.stack([tangent * self.footprint[:, :1], np.cross(self.normal, tangent) * self.footprint[:, 1:]], axis=1)

    @classmethod
    def joined(cls, parts: Sequence[Points]) -> Points:
        """Return the points of several parts (the meshes of one thing) as one block, in order.

        What not all of them have, as uv or colour, the whole does not have.
        """
        if not parts:
            raise ShapeError("there is no part to join; name at least one")
        whole: Facts = {}
        for each in fields(cls):
            arrays = [getattr(part, each.name) for part in parts]
            whole[each.name] = None if any(array is None for array in arrays) else np.concatenate(arrays)
        return cls(**whole)

    @classmethod
    def of(
        cls,
        position: object,
        normal: object,
        tangent: object | None = None,
        footprint: object = 1.0,
        uv: object | None = None,
        colour: object | None = None,
        uv_gradient: object | None = None,
    ) -> Points:
        """Make points from anything array-like, checked, copied, and with normals and tangents made unit.

        Parameters
        ----------
        position, normal : (N, 3)
        tangent : (N, 4), optional
            World +X laid into the surface where it is not given.
        footprint : number, (N,) or (N, 2)
            Metres.
        uv : (N, 2), optional
        colour : (N, 4), optional
            0..1.
        uv_gradient : (N, 2, 3), optional
            1/m, world; where it is not given, uv counts as metres along the tangent and against the bitangent.

        Raises
        ------
        ShapeError
            If shapes do not fit each other.
        RangeError
            If a value is not finite, a normal has no length, or a footprint is not above 0.
        """
        where = finite_array("position", position, ("N", 3))
        count = len(where)
        up = _unit("normal", finite_array("normal", normal, (count, 3)))
        if tangent is None:
            handed = _tangent_along_x(up)
        else:
            given = finite_array("tangent", tangent, (count, 4))
            handed = np.column_stack([_unit("tangent", given[:, :3]), np.where(given[:, 3] < 0, -1, 1)])
        sides = np.asarray(footprint, dtype=np.float32)
        if sides.ndim < 2:
            sides = np.broadcast_to(np.broadcast_to(sides, count)[:, None], (count, 2))
        sides = finite_array("footprint", sides, (count, 2))
        if (sides <= 0).any():
            raise RangeError(f"footprint must be above 0 m; got {sides.min()}")
        return cls(
            position=where,
            normal=frozen(up, np.float32),
            tangent=frozen(handed, np.float32),
            footprint=sides,
            uv=None if uv is None else finite_array("uv", uv, (count, 2)),
            colour=None if colour is None else finite_array("colour", colour, (count, 4)),
            uv_gradient=None if uv_gradient is None else finite_array("uv_gradient", uv_gradient, (count, 2, 3)),
        )


def _unit(name: str, vectors: NDArray[np.float32]) -> NDArray[np.float32]:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    if (length < 1e-12).any():
        raise RangeError(f"{name} must have a length; got a zero vector at point {int(np.argmin(length))}")
    return (vectors / length).astype(np.float32)


def _tangent_along_x(normal: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return world +X (or, where the normal is nearly +-X, world -Z) laid into the surface, handedness +1."""
    side = np.where(np.abs(normal[:, :1]) > 0.999, [[0, 0, -1]], [[1, 0, 0]])
    flat = side - normal * np.sum(normal * side, axis=1, keepdims=True)
    return np.column_stack([flat / np.linalg.norm(flat, axis=1, keepdims=True), np.ones(len(normal))])
