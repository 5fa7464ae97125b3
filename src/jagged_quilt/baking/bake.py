"""Baking: a canvas into finished maps."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Protocol

import numpy as np

from jagged_quilt.arrays.pages import TexelPages
from jagged_quilt.arrays.texel_cache import TexelCache
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.baked_maps import BakedMaps, Cover
from jagged_quilt.blend.blend import Blend, Texels
from jagged_quilt.blend.detail_mask import layers_seeing
from jagged_quilt.blend.film import Film, films_on
from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.plan import BlendPlan, Pages, opened, tallest_of
from jagged_quilt.blend.projection import Filter, ProjectionBase
from jagged_quilt.blend.settings import FILTER, NORMALS, NormalSpace
from jagged_quilt.blend.warps import AnyWarp, Flow
from jagged_quilt.foundation.canvas import TEXELS_AT_ONCE, Block, Canvas, checked_canvas, go_over
from jagged_quilt.foundation.checks import instance_of, whole_number_in
from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.padding import Padding
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import BLENDED_ROLES, MapRole, stored_type
from jagged_quilt.maps.texture_map import stored_values
from jagged_quilt.masks.mask import stamps_of
from jagged_quilt.surfaces.uv_canvas import UvBlock, UvCanvas
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.weigh import Weighable
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap
from jagged_quilt.weights.weight_windows import WeightWindows

if TYPE_CHECKING:
    from _typeshed import DataclassInstance

Layers = Sequence[Layer] | Mapping[str, Sequence[Layer]]
"""From the bottom up; or those of each part by its name."""
Weights = Weigher | WeightMap | WeightWindows
_MOST_IN_A_BLOCK = 1 << 26


class Answering(Protocol):
    """What blends at points: our kernel (`Blend`), or a shader on a device."""

    def at(
        self,
        points: Points,
        weights: PointWeights,
        *,
        normals: NormalSpace | str = NORMALS,
        columns: int = 0,
        eye: Sequence[float] | None = None,
    ) -> Texels:
        """Blend at points; see `Blend.at`."""
        ...


def bake(
    canvas: Weighable,
    layers: Layers,
    arrays: TextureArrays | Pages,
    *,
    weights: Weights | Mapping[str, Weights] | None = None,
    normals: NormalSpace | str = NormalSpace.TANGENT,
    filter: Filter | str = FILTER,
    eye: Sequence[float] | None = None,
    films: Sequence[Film] = (),
    work: Work = ANYHOW,
) -> BakedMaps:
    """Blend layers over a canvas: a terrain's grid or a page of it, a mesh's uv layout, a mesh's vertices.

    Parameters
    ----------
    canvas : Canvas
        `terrain.canvas(texels)`, `UvCanvas(mesh, texels)` or `VertexCanvas(mesh)`.
    layers : sequence of Layer, or mapping of part to such
        From the bottom up; each part of a mesh may have its own.
    arrays : TextureArrays, TexelPages or TexelCache
    weights : WeightMap or Weigher, or mapping of part to such, optional
        A map is read bilinearly by uv, as an engine will; a weigher answers its masks and daubs at every texel, exactly. Where
        nothing is given, the masks of the layers answer.
    normals : "tangent" or "world"
        Against the surface's own tangents (interpolated, made square to the normal), or in the world.
    filter : "trilinear", "anisotropic", "bilinear" or "nearest"
        Of layers that do not say.
    eye : (x, y, z), optional
        From where layers are seen that lie otherwise far away; all are near where it is not given.
    films : sequence of Film, optional
        What lies upon the layers, in order.

    Raises
    ------
    QuiltError
        If layers, arrays, weights and parts do not fit each other.

    Examples
    --------
    >>> from jagged_quilt import Layer, Terrain, pack, plain_swatch
    >>> level = Terrain([[0, 0], [0, 0]], size=(4, 4))
    >>> bake(level.canvas(2), [Layer("clay")], pack([plain_swatch("clay", diffuse="#804020")], side=1))["diffuse"][0, 0]
    array([128,  64,  32], dtype=uint8)
    """
    baker = Baker(canvas, layers, arrays, weights=weights, normals=normals, filter=filter, eye=eye, films=films)
    return baker.over(canvas, work=work)


class Baker:
    """Layers, arrays and weights made ready once to be baked over a canvas, or over any windows of it; see `bake`.

    Attributes
    ----------
    canvas : Canvas
        The whole.
    roles : tuple of MapRole
        Of the maps that come of it.
    layers : list of sequence of Layer
        Those of each part of the canvas.
    sources : list of Weigher or WeightMap
        What answers the weights of each part.
    relief : float
        Metres of relief that height 1 stands for.
    films : tuple of Film
        What lies upon the layers of all parts.
    stamp : str or None
        Stands for masks, daubs and adopted weights (of a mesh, for all) in what is made of it; hashed where it is not given.
    """

    def __init__(
        self,
        canvas: Weighable,
        layers: Layers,
        arrays: TextureArrays | Pages,
        *,
        weights: Weights | Mapping[str, Weights] | None = None,
        normals: NormalSpace | str = NormalSpace.TANGENT,
        filter: Filter | str = Filter.TRILINEAR,
        eye: Sequence[float] | None = None,
        films: Sequence[Film] = (),
    ) -> None:
        checked_canvas("what is baked", canvas)
        self.canvas, self.normals, self.filter = canvas, NormalSpace.of(normals, "space of normals"), Filter.of(filter)
        self.eye = None if eye is None else tuple(float(each) for each in eye)
        self.layers, self.films = layers_of_parts(canvas, layers), tuple(films)
        check_layers(self.layers)
        shown = [one for own in self.layers for one in one_each(own)]
        pages = opened(arrays, shown)
        source = arrays.arrays if isinstance(arrays, TexelCache) else arrays
        self.stamp: str | None = None
        self._facts = source.facts if isinstance(source, TextureArrays) else None
        self.relief = tallest_of(shown, pages)
        parts = list(zip(canvas.parts, self.layers, strict=True))
        lies = [{"frame": part.frame, "metres": part.metres} for part in canvas.parts]
        known = films_on(self.films, canvas.fields)
        self._blends = [
            Blend(pages, own, filter=filter, relief=self.relief, films=known, **lie)  # type: ignore[arg-type]
            for lie, own in zip(lies, self.layers, strict=True)
        ]
        self.sources = [source_of(part.name, own, weights, canvas, pages) for part, own in parts]
        self._by: Sequence[Answering] = ()
        self._by_part = [{output.role for output in blend.plan.outputs} for blend in self._blends]
        self.roles = tuple(role for role in BLENDED_ROLES if any(role in own for own in self._by_part))

    def stamped(self, stamp: str | None) -> Baker:
        """Return the same with what stands for its weights (of a mesh, for all) in what is made of it."""
        other = copy(self)
        other.stamp = stamp
        return other

    def by(self, blends: Sequence[Answering]) -> Baker:
        """Return the same with something else that blends in place of the kernel, one for each part: a device."""
        other = copy(self)
        other._by = tuple(blends)
        return other

    @property
    def plans(self) -> list[BlendPlan]:
        """How the layers of each part are blended."""
        return [blend.plan for blend in self._blends]

    def looks(self, part: int = 0) -> list[str]:
        """Return for each layer of a part, or each swatch of its medley, a hash of how it looks: its texels, how it lies."""
        out = []
        for layer in one_each(self.layers[part]):
            shown = [layer.swatch] if layer.far is None or not layer.far.swatch else [layer.swatch, layer.far.swatch]
            lies: list[DataclassInstance] = [
                _without_picture(layer.projection),
                layer.tuning,
                *dict(layer.per_map).values(),
                *([layer.far] if layer.far else []),
            ]
            settings = (
                [(type(each).__name__, asdict(each)) for each in lies],
                stamps_of(layer.projection),
                bent_by(layer.projection.warp),
                layer.softness,
                layer.meets,
                [*dict(layer.per_map)],
                self.eye,
            )
            out.append(fingerprint(*(self._texels_of(swatch, part) for swatch in shown), repr(settings)))
        return out

    def _texels_of(self, swatch: str, part: int) -> str:
        """What tells the texels of a swatch from others."""
        pages = self._blends[part].pages
        if self._facts is None:
            assert isinstance(pages, TexelPages)
            return pages.digest(swatch)
        facts = next(each for each in self._facts if each.name == swatch)
        return repr((facts.tile, facts.aspect, facts.relief, sorted(facts.stamps.items()), pages.side))

    def over(
        self,
        canvas: Weighable,
        *,
        block: int = TEXELS_AT_ONCE,
        bits: int = 8,
        work: Work = ANYHOW,
    ) -> BakedMaps:
        """Return the maps of a window of the canvas, or of the whole, which depend neither on how many threads there are nor on
        how many texels are a piece of work (`block`). With 16 `bits` all maps have so many; heights always do."""
        most = whole_number_in("block", block, 1, _MOST_IN_A_BLOCK)
        work = replace(work, threads=1) if self._by else work  # a device answers one thread
        if bits not in (8, 16):
            raise RangeError(f"maps are baked with 8 or 16 bits; got {bits}")
        if isinstance(canvas, UvCanvas):
            canvas = canvas.asking(
                gradients=any(each.needs_uv for each in self.plans), steps=any(each.needs_true_steps for each in self.plans)
            )
        height, width = canvas.texels
        has_gaps = canvas.padding is not None
        by_all = {role: all(role in own for own in self._by_part) for role in self.roles}
        flat = {role: _room(role, height * width, bits, has_gaps, by_all[role]) for role in self.roles}
        tally = _CoverTally(canvas) if has_gaps else None

        def bake_block(one: Block) -> None:
            for piece in one.pieces:
                own = {role: each if piece.where.run is None else each[piece.where.run] for role, each in flat.items()}
                weighed = self.sources[piece.part].at(piece.points)
                blend = self._blends[piece.part]
                how: Facts = {"normals": self.normals, "columns": piece.columns, "eye": self.eye}
                if bits == 8 and not self._by:
                    blend.into(own, piece.points, weighed, where=piece.where.each, **how)
                    continue
                texels = (self._by or self._blends)[piece.part].at(piece.points, weighed, **how)
                for role, each in own.items():
                    if role in self._by_part[piece.part]:
                        values = stored_values(role, texels[role].reshape(len(piece.points), -1), max(bits, role.value.bits))
                        each[slice(None) if piece.where.each is None else piece.where.each] = values
            if tally is not None:
                tally.add(one)

        go_over(canvas, bake_block, most=most, work=work, step="baking")
        cover = None if tally is None else tally.closed(flat)
        shape = lambda role: (height, width) if role.value.channels == 1 else (height, width, role.value.channels)
        maps = {role: each.reshape(shape(role)) for role, each in flat.items()}
        return BakedMaps(maps, relief=self.relief, normals=self.normals, cover=cover)


def _without_picture(projection: ProjectionBase) -> ProjectionBase:
    return replace(projection, warp=None) if isinstance(projection.warp, Flow) else projection


def bent_by(warp: AnyWarp | None) -> str:
    """Return what tells a warp's picture from others; nothing where it has none."""
    if not isinstance(warp, Flow):
        return ""
    lies = [(each.size, each.corner, each.rotation, str(each.wrap)) for each in (warp.east, warp.south)]
    return fingerprint(repr((warp.by, lies)), warp.east.values.tobytes(), warp.south.values.tobytes())


def _room(role: MapRole, texels: int, bits: int, has_gaps: bool, by_all: bool) -> Stored:
    """ArrayStore for a map; where some part has none of it, or nothing lies, it is neutral or empty."""
    shape, kind = (texels, role.value.channels), stored_type(role, bits)
    if by_all:
        return np.zeros(shape, kind) if has_gaps else np.empty(shape, kind)
    neutral = np.array(role.value.neutral) * 0.5 + 0.5 if role.value.direction else np.array(role.value.neutral)
    return np.tile(np.rint(neutral * np.iinfo(kind).max).astype(kind), (texels, 1))


def layers_of_parts(canvas: Canvas, layers: Layers) -> list[Sequence[Layer]]:
    """Return the layers of each part of a canvas; raise `ShapeError` unless those of each are given."""
    names = [part.name for part in canvas.parts]
    if isinstance(layers, Layer):
        raise ShapeError(f"layers must be a list, from the bottom up: [{layers.name!r} …]; got a single Layer")
    if not isinstance(layers, Mapping):
        return [layers] * len(names)
    if set(layers) != set(names):
        raise ShapeError(f"layers are needed for each of the parts {names}; got them for {list(layers)}")
    return [layers[name] for name in names]


def check_layers(by_part: Sequence[Sequence[Layer]]) -> None:
    """Raise `ShapeError` unless each part has layers, and nothing but layers."""
    for own in by_part:
        if not own:
            raise ShapeError('there is no layer to bake; give at least one: [jq.Layer("clay")]')
        for each in own:
            instance_of("each of the layers", each, Layer, 'a jq.Layer: jq.Layer("clay")')


def source_of(
    part: str, layers: Sequence[Layer], weights: Weights | Mapping[str, Weights] | None, canvas: Weighable, pages: Pages
) -> Weights:
    """Return what answers the weights of a part: what is given for it, or the masks of its layers."""
    if weights is None:
        return Weigher(layers_seeing(layers, pages), canvas.fields)
    return weights[part] if isinstance(weights, Mapping) else weights


class _CoverTally:
    """What is covered of a canvas with gaps, and what lies on each other there."""

    def __init__(self, canvas: Canvas) -> None:
        self._canvas = canvas
        self._covered = np.zeros(canvas.texels, bool)
        self._found: list[tuple[int, tuple[int, int]]] = []

    def add(self, block: Block) -> None:
        """Note what a block covers."""
        for piece in block.pieces:
            piece.where.put(self._covered.reshape(-1), np.ones(len(piece.points), bool))
        if isinstance(block, UvBlock) and block.clash is not None:
            self._found.append((block.overlaps, block.clash))

    def closed(self, maps: Mapping[MapRole, Stored]) -> Cover:
        """Grow the maps into the gaps, tell what is odd, and return the whole."""
        padding = self._canvas.padding or 0
        around, shown = Padding(self._covered), self._covered
        if MapRole.OPACITY in maps:  # what is wholly cut out is filled from around too, for the mips beside it
            shown = shown & (maps[MapRole.OPACITY].reshape(shown.shape) > 0)
        beside = around if shown is self._covered else Padding(shown)
        for role, values in maps.items():
            (around if role is MapRole.OPACITY else beside).grow(values, padding)
        pairs: set[tuple[str, str]] = set()
        if isinstance(self._canvas, UvCanvas):
            names = [part.name for part in self._canvas.parts]
            for _, clash in self._found:
                first, second = (names[int(n)] for n in self._canvas.part_of(np.array(clash, np.int32)))
                pairs.add((first, second))
        without = self._canvas.without_extent if isinstance(self._canvas, UvCanvas) else 0
        cover = Cover(
            covered=self._covered,
            overlaps=sum(count for count, _ in self._found),
            overlap_parts=tuple(sorted(pairs)),
            without_extent=without,
            padding=padding,
        )
        _tell(cover)
        return cover


def _tell(cover: Cover) -> None:
    if cover.overlaps:
        pairs = ", ".join(f'"{a}" on "{b}"' if a != b else f'"{a}" on itself' for a, b in cover.overlap_parts)
        warnings.warn(
            f"{cover.overlaps} texels lie in more than one triangle of the layout ({pairs}); the first is baked",
            QuiltWarning,
            stacklevel=4,
        )
    if cover.without_extent:
        warnings.warn(f"{cover.without_extent} triangles have no extent in uv, and so no texel", QuiltWarning, stacklevel=4)
