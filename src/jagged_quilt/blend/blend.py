"""Blending at points: a plan, the texels that it reads, and the calls that run it."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.pages import TexelPages
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.film import Film, film_amounts
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.plan import BlendPlan, Pages, opened
from jagged_quilt.blend.projection import Filter
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.blend.survey import Survey
from jagged_quilt.blend.warps import moves_of
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.colour import srgb_encode_table
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.roles import BLENDED_ROLES, COLUMN_OF, OPTIONAL_ROLES, MapRole, role_among, stored_type
from jagged_quilt.maps.texture_map import stored_values
from jagged_quilt.weights.point_weights import PointWeights

_kernels = kernels_of("jagged_quilt.blend._kernels")
_NO_VALUES = np.empty((0, 0), np.float32)
_slot_order_kernels = kernels_of("jagged_quilt.blend._slot_order_kernels")


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class Texels:
    """What a blend gives: one row of `values` per point, linear.

    Attributes
    ----------
    values : (N, 12) float32, or (N, 20) where optional roles are blended too
    """

    values: NDArray[np.float32]

    @classmethod
    def of(cls, maps: Mapping[MapRole, NDArray[np.float32]], count: int) -> Texels:
        """Return texels of maps of (N, C) values each; what is missing is neutral."""
        optional = any(role in maps for role in OPTIONAL_ROLES)
        out = cls(np.empty((count, k.ALL_OUTPUTS if optional else k.OUTPUTS), np.float32))
        for role in (role for role in COLUMN_OF if role in out):
            out[role][...] = np.reshape(maps.get(role, np.array(role.value.neutral, np.float32)), (-1, *out[role].shape[1:]))
        return out

    def __getitem__(self, role: MapRole | str) -> NDArray[np.float32]:
        """Return one role, by its name too: (N, 3) linear colour or unit normals (-1..1), or (N,) numbers 0..1."""
        role = role_among(BLENDED_ROLES, role) if isinstance(role, str) else role
        first, channels = COLUMN_OF[role], role.value.channels
        if first >= self.values.shape[1]:
            raise KeyError(f"no layer of this blend has a map of the role {role.key}")
        return self.values[:, first] if channels == 1 else self.values[:, first : first + channels]

    def columns(self, role: MapRole) -> range:
        """Return the columns of `values` that hold a role."""
        return range(COLUMN_OF[role], COLUMN_OF[role] + role.value.channels)

    def __contains__(self, role: object) -> bool:
        return any(role in (each, each.key) for each in self)

    def __iter__(self) -> Iterator[MapRole]:
        return (role for role, first in COLUMN_OF.items() if first < self.values.shape[1])

    def keys(self) -> list[str]:
        """Return the names of the roles that were blended."""
        return [role.key for role in self]

    def items(self) -> list[tuple[str, NDArray[np.float32]]]:
        """Return each role by its name, with its values."""
        return [(role.key, self[role]) for role in self]

    def __repr__(self) -> str:
        return f"<Texels at {len(self.values)} points: {', '.join(self.keys())}>"


class Blend:
    """Blends layers at points.

    Parameters
    ----------
    arrays : TextureArrays, TexelPages or TexelCache
        Pages that are opened already (`arrays.open`, `arrays.cached`) are shared; arrays are opened for what the layers show.
    layers : sequence of Layer
        From the bottom up, as they were weighed.
    filter : "trilinear", "anisotropic", "bilinear" or "nearest"
        How texels are read where a layer does not say: with mips chosen by the points' footprints, by several samples along
        the footprint, or at full size.
    frame : (4, 4), optional
        Takes places of the object to places of the world, for layers that are laid on in the object's space; its scale is
        left out, so that tiles stay true in metres.
    metres : float
        What one unit of the points' uv stands for, where a layer that is laid on by uv does not say.
    relief : float, optional
        Metres of relief that height 1 stands for; those of the tallest swatch where it is not given.
    films : sequence of Film, optional
        What lies upon the layers, in order, their masks `on` the surface where they must know it.

    Raises
    ------
    NameNotFoundError
        If a layer names a swatch that the arrays do not hold.
    """

    def __init__(
        self,
        arrays: TextureArrays | Pages,
        layers: Sequence[Layer],
        *,
        filter: Filter | str = Filter.TRILINEAR,
        frame: object | None = None,
        metres: float = 1.0,
        relief: float | None = None,
        films: Sequence[Film] = (),
    ) -> None:
        pages = opened(arrays, layers)
        plan = BlendPlan.of(layers, pages, filter=filter, frame=frame, metres=metres, relief=relief, films=films)
        self._start(plan, pages)

    @classmethod
    def by(cls, plan: BlendPlan, pages: Pages) -> Blend:
        """Return what blends by a plan that is laid out already, from the pages that it was made for."""
        if (plan.slices, plan.layouts) != (pages.names, pages.layouts):
            raise ShapeError(f"the plan was made for slices of {list(plan.slices)}; got pages of {list(pages.names)}")
        made = cls.__new__(cls)
        made._start(plan, pages)
        return made

    def _start(self, plan: BlendPlan, pages: Pages) -> None:
        self.plan, self.pages = plan, pages
        self._means = _means_of(pages, plan) if plan.shuffled else None
        self._rows = {space: plan.rows(is_world=space is NormalSpace.WORLD, means=self._means) for space in NormalSpace}
        self._levels, self._preferred = plan.levels(pages.side), plan.preferred_slots
        self._all = self._texels(pages.texels, len(pages.names)) if isinstance(pages, TexelPages) else None
        self._others = Blend.by(plan.without_tinted(), pages) if plan.tinted.any() else None
        self._scratch = threading.local()

    def __reduce__(self) -> tuple[object, ...]:
        return Blend.by, (self.plan, self.pages)

    def __repr__(self) -> str:
        return f"<Blend by {self.plan!r}>"

    @property
    def roles(self) -> set[MapRole]:
        """The roles that it gives."""
        return {output.role for output in self.plan.outputs}

    def at(
        self,
        points: Points,
        weights: PointWeights,
        *,
        normals: NormalSpace | str = NormalSpace.TANGENT,
        columns: int = 0,
        eye: Sequence[float] | None = None,
    ) -> Texels:
        """Blend at points.

        Parameters
        ----------
        weights : PointWeights
            As `WeightMap.at` or `weigh_points` answers, of the layers of this blend.
        normals : "tangent" or "world"
            In the tangent space of the points, or in the world.
        columns : int
            Where the points are the rows of a grid, how wide it is: the same result, sooner.
        eye : (x, y, z), optional
            From where layers are seen that lie otherwise far away; all are near where it is not given.

        Raises
        ------
        ShapeError, RangeError
            If weights do not fit the points or the layers, are not finite, or sum to something else than 1.
        """
        out = np.empty((len(points), k.ALL_OUTPUTS if self.plan.has_optional else k.OUTPUTS), np.float32)
        with self._input(points, weights, NormalSpace.of(normals, "space of normals"), columns, eye) as rows:
            _kernels.blend_points(out, self._targets({}, None), *rows)
        made = Texels(out)
        if self._others is not None and points.colour is not None:
            # each layer adds its share of the diffuse, so what the tinted ones add is what is missing where they are black
            others = self._others.at(points, weights, normals=normals, columns=columns, eye=eye)[MapRole.DIFFUSE]
            made[MapRole.DIFFUSE][...] = others + points.colour[:, :3] * (made[MapRole.DIFFUSE] - others)
        return made

    def into(
        self,
        target: Mapping[MapRole, Stored],
        points: Points,
        weights: PointWeights,
        *,
        normals: NormalSpace | str = NormalSpace.TANGENT,
        columns: int = 0,
        where: NDArray[np.int64] | None = None,
        eye: Sequence[float] | None = None,
    ) -> None:
        """Blend at points and store finished texels by the convention of each role.

        `target` holds an array (M,) or (M, C) for every output of the plan; point n is stored in row n, or where[n]. Else as
        `at`.
        """
        space = NormalSpace.of(normals, "space of normals")
        if self._others is not None and points.colour is not None:
            texels = self.at(points, weights, normals=space, columns=columns, eye=eye)
            for output in self.plan.outputs:
                values = stored_values(output.role, texels[output.role].reshape(len(points), -1), output.role.value.bits)
                target[output.role].reshape(len(target[output.role]), -1)[slice(None) if where is None else where] = values
            return
        with self._input(points, weights, space, columns, eye) as rows:
            _kernels.blend_points(_NO_VALUES, self._targets(target, where), *rows)

    def survey(self, points: Points, weights: PointWeights, *, eye: Sequence[float] | None = None) -> Survey:
        """Return what the blend goes by at points: how textures lie there, how dense and how stretched; `eye` as for `at`."""
        out = np.empty((len(points), int(k.SurveyColumns.END)), np.float32)
        plan = self.plan.with_true_slopes()
        with self._input(points, weights, NormalSpace.WORLD, 0, eye) as (points_rows, _, texels, scratch):
            _kernels.survey_points(out, points_rows, plan.rows(is_world=True, means=self._means), texels, scratch)
        seen = weights if eye is None else self.plan.seen_from(eye, points, weights)
        return Survey.of(out, points, self.plan.layer_rows["tiles"][seen.dominant], self.pages.side)

    def _targets(self, target: Mapping[MapRole, Stored], where: NDArray[np.int64] | None) -> k.TargetRows:
        index = np.empty(0, np.int64) if where is None else where
        roles, arrays = [], list[Stored]()
        for role in sorted(COLUMN_OF, key=lambda role: role.value.bits):  # of all roles, so that the kernel is compiled once
            blended = target and any(each.role is role for each in self.plan.outputs)
            roles.append(role)
            arrays.append(target[role].reshape(len(target[role]), -1) if blended else np.empty((0, 0), stored_type(role)))
        return k.TargetRows(
            frozen(index, np.int64),
            _encode_table(),
            frozen([COLUMN_OF[role] for role in roles], np.int32),
            frozen([role.is_colour for role in roles], bool),
            _scales()[: k.ALL_OUTPUTS if self.plan.has_optional else k.OUTPUTS],
            tuple(each for each in arrays if each.dtype == np.uint8),
            tuple(each for each in arrays if each.dtype == np.uint16),
        )

    @contextmanager
    def _input(
        self,
        points: Points,
        weights: PointWeights,
        normals: NormalSpace,
        columns: int,
        eye: Sequence[float] | None = None,
    ) -> Iterator[tuple[k.PointRows, k.PlanRows, k.TexelRows, k.Scratch]]:
        """What every kernel takes, and this thread's buffers. Weights are checked here, once."""
        if columns < 0 or (columns and len(points) % columns):
            raise ShapeError(f"columns must divide the number of points, {len(points)}; got {columns}")
        weights.check(self.plan.names, len(points))
        if eye is not None:
            weights = self.plan.seen_from(eye, points, weights)
        layers, shares = self._in_slots(weights)
        uv, gradients = self._own_coordinates(points)
        rows = k.PointRows(
            points.position,
            points.normal,
            points.tangent,
            points.footprint,
            frozen(uv, np.float32),
            gradients,
            self._true_steps(points),
            _no_rows(3) if points.rest is None else points.rest,
            moves_of(self.plan.warps, points),
            layers,
            shares,
            film_amounts(self.plan.films, points),
            columns,
        )
        scratch = self._scratch_for(weights.weights.shape[1], is_far=points.rest is not None)
        if isinstance(self.pages, TexelPages):
            assert self._all is not None
            yield rows, self._rows[normals], self._all, scratch
            return
        shown = np.unique(weights.layers[weights.weights > 0])
        with self.pages.holding(self.plan.layer_rows["slice"][shown]) as (texels, slots):
            plan = self.plan.in_slots(slots).rows(is_world=normals is NormalSpace.WORLD, means=self._means)
            yield rows, plan, self._texels(texels, self.pages.slots), scratch

    def _in_slots(self, weights: PointWeights) -> tuple[Stored, NDArray[np.float32]]:
        """The layers and weights of points, those that cost more each in its preferred slot."""
        layers = frozen(weights.layers, np.uint16)  # for one kernel, whatever the map keeps its numbers in
        if not len(self._preferred):
            return layers, frozen(weights.weights, np.float32)
        to, shares = np.empty(layers.shape, np.uint16), np.empty(layers.shape, np.float32)
        most = layers.shape[1]
        preferred = frozen(np.where(self._preferred < 0, 0, 1 + self._preferred % most), np.int32)
        orders = _slot_order_kernels.slot_orders(most)
        _slot_order_kernels.order_slots(layers, frozen(weights.weights, np.float32), preferred, orders, to, shares)
        return frozen(to, np.uint16), frozen(shares, np.float32)

    def _texels(self, texels: NDArray[np.uint32], slices: int) -> k.TexelRows:
        return k.TexelRows(frozen(texels, np.uint32).reshape(-1), self.pages.side.bit_length() - 1, slices, self._levels)

    def _own_coordinates(self, points: Points) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """The uv of the points and its gradients, (N, 2) and (N, 6), with unit directions (N, 12) where detail is cheap; none
        where no layer is laid on by them."""
        if not self.plan.needs_uv:
            return _no_rows(2), _no_rows(6)
        if points.uv is None:
            raise ShapeError("a layer is laid on by uv, and these points have none; unwrap the mesh, or use triplanar")
        gradients, needed = points.uv_gradient, self.plan.needs_ways
        if gradients is not None and not needed:
            return points.uv, frozen(gradients.reshape(-1, 6), np.float32)
        tangent = points.tangent if points.uv_tangent is None else points.uv_tangent
        along = tangent[:, :3]  # v grows against the bitangent
        ways = np.stack([along, -np.cross(points.normal, along) * tangent[:, 3:]], axis=1).reshape(-1, 6)
        if gradients is None:  # as if they were metres
            gradients = ways
        both = [gradients.reshape(-1, 6), ways] if needed else [gradients.reshape(-1, 6)]
        return points.uv, frozen(np.concatenate(both, axis=1), np.float32)

    def _true_steps(self, points: Points) -> NDArray[np.float32]:
        """The steps to the next texels, (N, 6); none where no layer is read along them."""
        return frozen(points.true_steps().reshape(-1, 6), np.float32) if self.plan.needs_true_steps else _no_rows(6)

    def _scratch_for(self, most: int, *, is_far: bool) -> k.Scratch:
        """This thread's buffers, for `most` layers at a texel; those for far places are others, since they are not as clean."""
        if getattr(self._scratch, "most", 0) < most or getattr(self._scratch, "is_far", False) != is_far:
            self._scratch.is_far = is_far
            extra = (k.PATCHES_BESIDE if self.plan.shuffled else 0) + len(self.plan.groups)
            passes = 3 * (1 + extra) * most * (2 if self._levels > 1 else 1) * self.plan.most_taps
            arrays = len(self.plan.layouts)
            groups = len(self.plan.groups)
            self._scratch.buffers = k.scratch_for(most, len(self.plan.mapping_rows), arrays, passes, extra, groups)
            self._scratch.most = most
        buffers: k.Scratch = self._scratch.buffers
        return buffers


def _means_of(pages: Pages, plan: BlendPlan) -> NDArray[np.float64]:
    """The means of the channels of layers that are shuffled, (L, 4 * arrays), colour as linear light."""
    out = np.zeros((len(plan.layers), 4 * len(pages.layouts)))
    for row in plan.shuffled:
        out[row] = pages.means(plan.layers[row].swatch).ravel()
    return out


@cache
def _no_rows(columns: int) -> NDArray[np.float32]:
    return frozen(np.empty((0, columns)), np.float32)


@cache
def _encode_table() -> NDArray[np.uint8]:
    return frozen(srgb_encode_table(), np.uint8)


@cache
def _scales() -> NDArray[np.float32]:
    """For each output the steps of its scale (of the table, where it is colour), and a x + b that brings it to 0..1."""
    out = np.zeros((k.ALL_OUTPUTS, 3), np.float32)
    for role, first in COLUMN_OF.items():
        top = len(_encode_table()) - 1 if role.is_colour else (1 << role.value.bits) - 1
        out[first : first + role.value.channels] = (top, 0.5, 0.5) if role.value.direction else (top, 1.0, 0.0)
    return frozen(out, np.float32)
