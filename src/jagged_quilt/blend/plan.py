"""A blend as data: layers, how each lies, and which output reads which channel of which array."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.pages import TexelPages
from jagged_quilt.arrays.texel_cache import TexelCache
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.distance import seen_from
from jagged_quilt.blend.film import Film, film_rows
from jagged_quilt.blend.layer import Layer, every_swatch, far_of, one_each
from jagged_quilt.blend.mappings import Mappings, is_plain, rigid_frame
from jagged_quilt.blend.projection import Filter
from jagged_quilt.blend.shuffle import Turn
from jagged_quilt.blend.tuning import AS_IT_IS
from jagged_quilt.blend.warps import AnyWarp
from jagged_quilt.foundation.checks import frozen, positive, wrong_kind
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.maps.roles import BLENDED_ROLES, COLUMN_OF, OPTIONAL_ROLES, MapRole
from jagged_quilt.weights.medley import shown_names

if TYPE_CHECKING:
    from jagged_quilt.arrays.texture_arrays import TextureArrays
    from jagged_quilt.foundation.points import Points
    from jagged_quilt.weights.point_weights import PointWeights

_SOFTEST_CUT = 1e-4  # or rounding would take something from the tallest layer itself

Pages = TexelPages | TexelCache
"""What a blend reads: all texels, or a cache of them."""


@dataclass(frozen=True, slots=True)
class Output:
    """One of the maps that a blend gives.

    Attributes
    ----------
    role : MapRole
    array : str
        The layout that it is read from; empty where none carries it, and its neutral value stands in.
    channels : tuple of int
        Which channel of that array holds each of its own.
    fine : tuple of int
        Which channel of the array "fine" holds what 8 bits left away of each; none where nothing does.
    """

    role: MapRole
    array: str
    channels: tuple[int, ...]
    fine: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True, eq=False, kw_only=True, repr=False)
class BlendPlan:
    """All that says a blend, but the texels.

    Attributes
    ----------
    names : tuple of str
        What weights name, from the bottom up: each layer, or each swatch of its medley.
    layers : tuple of Layer
        As many, each of one swatch; then those that stand for some of them far from the eye.
    slices : tuple of str
        The slices of the pages that the plan was made for.
    layouts : tuple of Layout
        Their arrays.
    outputs : tuple of Output
        The maps that are blended.
    filter : Filter
        How texels are read where a layer does not say.
    relief : float
        Metres of relief that height 1 stands for.
    layer_rows : (L,) structured, read-only
        For the kernel, by name: hardness, relief, level_bias, sharpness, planes, wrap_u, wrap_v, filter, most_taps, slice,
        chart, tiles.
    mapping_rows : (C,) structured, read-only
        The charts on which they lie: kind, planes, axes, origin, offset, turn, warp, cheap, fine, radius, ….
    warps : tuple of AnyWarp
    groups : tuple of frozenset of MapRole
        Roles that some layers have apart, together where they always lie alike.
    per_map_rows : (G, L) int32, read-only
        The chart on which a layer has the roles of a group, or -1.
    far : (L,) int32, read-only
        Which of `layers` stands for each that weights name far from the eye, or -1.
    films : tuple of Film
        What lies upon the layers, in order.
    """

    names: tuple[str, ...]
    layers: tuple[Layer, ...]
    slices: tuple[str, ...]
    layouts: tuple[Layout, ...]
    outputs: tuple[Output, ...]
    filter: Filter
    relief: float
    layer_rows: NDArray[np.void]
    mapping_rows: NDArray[np.void]
    warps: tuple[AnyWarp, ...]
    groups: tuple[frozenset[MapRole], ...]
    per_map_rows: NDArray[np.int32]
    far: NDArray[np.int32]
    films: tuple[Film, ...] = ()

    @classmethod
    def of(
        cls,
        layers: Sequence[Layer],
        pages: Pages,
        *,
        filter: Filter | str = Filter.TRILINEAR,
        frame: object | None = None,
        metres: float = 1.0,
        relief: float | None = None,
        films: Sequence[Film] = (),
    ) -> BlendPlan:
        """Lay a blend out; see `Blend` for the parameters and what is refused."""
        filter = Filter.of(filter)
        if not layers:
            raise ShapeError("there is no layer to blend; name at least one")
        near = one_each(layers)
        shown = [*near, *(far_of(layer) for layer in near if layer.far is not None)]
        indices = [pages.index_of(layer.swatch) for layer in shown]
        tallest = tallest_of(near, pages) if relief is None else positive("relief", relief, "m")
        mappings = Mappings(np.eye(4) if frame is None else rigid_frame(frame), positive("metres", metres, "m"))
        rows = np.zeros(len(shown), k.LAYER)
        groups = _groups_of(shown)
        per_map_rows = np.full((len(groups), len(shown)), -1, np.int32)
        for number, (row, layer, index) in enumerate(zip(rows, shown, indices, strict=True)):
            _fill_row(row, layer, pages, index, tallest, filter)
            how, aspect = (layer.projection, pages.facts[index].tile, filter), pages.facts[index].aspect
            if aspect != 1 and layer.projection.shuffle is not None and layer.projection.shuffle.turn is not Turn.NONE:
                raise RangeError(
                    f'layer "{layer.base_name or layer.name}": patches of a tile that is not square cannot be turned; say '
                    'turn = "none"'
                )
            row["mapping"] = mappings.add(*how, aspect=aspect)
            for group, roles in enumerate(groups):
                per_map = dict(layer.per_map).get(min(role.key for role in roles))
                if per_map is not None:
                    per_map_rows[group, number] = mappings.add(*how, per_map, aspect)
        return cls(
            names=shown_names(layers),
            layers=tuple(shown),
            slices=pages.names,
            layouts=pages.layouts,
            outputs=_outputs(pages, indices),
            filter=filter,
            relief=tallest,
            layer_rows=frozen(rows, k.LAYER),
            mapping_rows=mappings.table,
            groups=groups,
            per_map_rows=frozen(per_map_rows, np.int32),
            far=frozen(_far_numbers(near), np.int32),
            warps=tuple(mappings.warps),
            films=tuple(films),
        )

    def __repr__(self) -> str:
        outputs = ", ".join(each.role.key for each in self.outputs)
        return f"<BlendPlan {len(self.names)} layers on {len(self.mapping_rows)} charts, {self.filter}: {outputs}>"

    @property
    def has_optional(self) -> bool:
        """Whether one of the `OPTIONAL_ROLES` is blended."""
        return any(each.role in OPTIONAL_ROLES for each in self.outputs)

    @property
    def needs_uv(self) -> bool:
        """Whether a layer is laid on by the points' uv."""
        return bool((self.mapping_rows["kind"] == k.BY_UV).any())

    @property
    def needs_true_steps(self) -> bool:
        """Whether a layer is read along the true sides of the footprint."""
        return bool((self.mapping_rows["true_steps"] > 0).any())

    @property
    def most_taps(self) -> int:
        """The most samples that a layer takes along the footprint."""
        fine = self.layer_rows["filter"] == Filter.ANISOTROPIC.code
        return int(np.where(fine, self.layer_rows["most_taps"], 1).max())

    @property
    def needs_ways(self) -> bool:
        """Whether a layer takes slopes as they are along the points' uv."""
        return bool(((self.mapping_rows["kind"] == k.BY_UV) & (self.mapping_rows["cheap"] > 0)).any())

    @property
    def tinted(self) -> NDArray[np.bool_]:
        """Which of `layers` the vertex colours of points are multiplied into, (L,); not what is black anyway."""
        asked = np.array([layer.tuning.vertex_colour for layer in self.layers], bool)
        return asked & self.layer_rows["colours"].any(axis=(1, 2))

    def without_tinted(self) -> BlendPlan:
        """Return the plan with those layers black: what it gives is the share of all others of the diffuse."""
        rows = self.layer_rows.copy()
        rows["colours"][self.tinted] = 0
        return replace(self, layer_rows=frozen(rows, k.LAYER))

    def with_true_slopes(self) -> BlendPlan:
        """Return the plan with the slopes of every layer as long as its texture: what a survey of how it lies goes by."""
        mappings = self.mapping_rows.copy()
        mappings["cheap"] = 0
        return replace(self, mapping_rows=frozen(mappings, k.MAPPING))

    def seen_from(self, eye: Sequence[float], points: Points, weights: PointWeights) -> PointWeights:
        """Return the weights of `layers` as they are seen from a place (x, y, z): beyond its range, what stands for a layer."""
        if (self.far < 0).all():
            return weights
        ranges = [(layer.far.start, layer.far.over) if layer.far else (0.0, 1.0) for layer in self.layers[: len(self.names)]]
        return seen_from(np.asarray(eye, np.float64), points, weights, self.far, np.array(ranges))

    def near_alone(self) -> BlendPlan:
        """Return the plan as it is seen from near by: without what stands for some layers far away."""
        if (self.far < 0).all():
            return self
        count = len(self.names)
        near = tuple(replace(layer, far=None) for layer in self.layers[:count])
        rows, per_map = frozen(self.layer_rows[:count], k.LAYER), frozen(self.per_map_rows[:, :count], np.int32)
        return replace(self, layers=near, layer_rows=rows, per_map_rows=per_map, far=frozen(np.full(count, -1), np.int32))

    def in_slots(self, slots: NDArray[np.int32]) -> BlendPlan:
        """Return the plan for slices that lie elsewhere: each in the slot (S,) given for it."""
        rows = self.layer_rows.copy()
        rows["slice"] = slots[rows["slice"]]
        return replace(self, layer_rows=frozen(rows, k.LAYER))

    def levels(self, side: int) -> int:
        """How many levels of slices of a side are read."""
        return level_count(side) if (self.layer_rows["filter"] >= Filter.TRILINEAR.code).any() else 1

    @property
    def shuffled(self) -> tuple[int, ...]:
        """Which layers' textures lie in patches."""
        return tuple(row for row, layer in enumerate(self.layers) if layer.projection.shuffle is not None)

    @property
    def preferred_slots(self) -> NDArray[np.int32]:
        """The slot of each layer that costs more, where it is to stand at every point; -1 for others, none where all are."""
        out = np.full(len(self.layers), -1, np.int32)
        dear = [row for row, layer in enumerate(self.layers) if layer.projection.shuffle is not None or layer.per_map]
        out[dear] = np.arange(len(dear))
        return frozen(out if dear else out[:0], np.int32)

    def rows(self, *, is_world: bool, means: NDArray[np.float64] | None = None) -> k.PlanRows:
        """Return the plan as the kernels read it.

        means : (L, 4 * arrays), of the channels of the layers that are shuffled, colour as linear light.
        """
        is_shuffled = bool(self.shuffled)
        reads, fine, neutral = *np.full((2, k.ALL_OUTPUTS), -1, np.int32), np.zeros(k.ALL_OUTPUTS, np.float32)
        for role, first in COLUMN_OF.items():
            neutral[first : first + role.value.channels] = role.value.neutral
        names = [layout.name for layout in self.layouts]
        for each in self.outputs:
            if each.array:
                first = COLUMN_OF[each.role]
                reads[first : first + len(each.channels)] = [4 * names.index(each.array) + c for c in each.channels]
                fine[first : first + len(each.fine)] = [4 * names.index("fine") + c for c in each.fine]
        count, read = (k.ALL_OUTPUTS if self.has_optional else k.OUTPUTS), {each.array for each in self.outputs}
        is_colour = np.array([layout.srgb and layout.name in read for layout in self.layouts])
        plain = is_plain([layer.projection for layer in self.layers], self.filter)
        slot_rows = _slot_rows(self.layer_rows)
        return k.PlanRows(
            frozen(self.layer_rows, k.LAYER),
            frozen(slot_rows.reshape(-1), np.float32),
            frozen((slot_rows != slot_rows[:1]).any(axis=0).reshape(-1, 4).any(axis=1), bool),
            int(self.layer_rows["mapping"][0]) if (self.layer_rows["mapping"] == self.layer_rows["mapping"][0]).all() else -1,
            frozen(self.mapping_rows, k.MAPPING),
            frozen(reads[:count], np.int32),
            frozen(fine[:count], np.int32),
            frozen(neutral[:count], np.float32),
            frozen(_summed(reads, is_colour), bool),
            frozen(is_colour, bool),
            plain,
            any(layer.tuning != AS_IT_IS for layer in self.layers),
            is_shuffled,
            (k.PATCHES_BESIDE if is_shuffled else 0) + len(self.per_map_rows),
            frozen(self.per_map_rows, np.int32),
            frozen(self._groups(), np.int32),
            self._means(means if is_shuffled else None),
            self._pairs(),
            film_rows(self.films),
            is_world,
        )

    def _groups(self) -> NDArray[np.int32]:
        """The group of roles to which each channel of the arrays belongs, or -1."""
        out = np.full(4 * len(self.layouts), -1, np.int32)
        for row, layout in enumerate(self.layouts):
            for channel, content in enumerate(layout.channels):
                group = next((n for n, roles in enumerate(self.groups) if content.role in roles), -1)
                out[4 * row + channel] = group
        return out

    def _means(self, means: NDArray[np.float64] | None) -> NDArray[np.float32]:
        """The means of shuffled layers, tuned; nothing of roles that lie apart, which are not shuffled."""
        if means is None:
            return frozen(np.zeros((0, 4 * len(self.layouts))), np.float32)
        out = means.copy()
        for row, layer in enumerate(self.layers):
            for column, layout in enumerate(self.layouts):
                for channel, content in enumerate(layout.channels):
                    at = 4 * column + channel
                    if content.role in {MapRole[key.upper()] for key in dict(layer.per_map)}:
                        out[row, at] = 0
                    elif content.role is MapRole.ROUGHNESS:
                        out[row, at] = np.clip(out[row, at] + layer.tuning.roughness, 0, 1)
                    elif content.role is MapRole.OCCLUSION:
                        out[row, at] = np.clip(1 - layer.tuning.occlusion * (1 - out[row, at]), 0, 1)
                    elif content.role is MapRole.DIFFUSE and content.component == 0:
                        out[row, at : at + 3] = np.clip(layer.tuning.colours @ out[row, at : at + 3], 0, 1)
        return frozen(out, np.float32)

    def _pairs(self) -> NDArray[np.float32]:
        """The hardness where each layer meets each other one; none where every layer's own holds."""
        if not any(layer.meets for layer in self.layers):
            return frozen(np.empty((0, 0)), np.float32)
        soft = np.repeat([[layer.softness] for layer in self.layers], len(self.layers), axis=1)
        called = [*self.names, *(layer.base_name for layer in self.layers[len(self.names) :])]
        for row, layer in enumerate(self.layers):
            for name, softness in dict(layer.meets).items():
                for column in (n for n, other in enumerate(self.layers) if name in (other.base_name, called[n])):
                    soft[row, column] = soft[column, row] = softness
        return frozen(_hardness(soft), np.float32)


def opened(arrays: TextureArrays | Pages, layers: Sequence[Layer]) -> Pages:
    """Return pages as they are, and arrays opened for what some layers show."""
    if isinstance(arrays, Pages):
        return arrays
    if not hasattr(arrays, "open"):
        raise wrong_kind("arrays", arrays, "packed: jq.pack(swatches), or jq.open_arrays(folder)")
    return arrays.open(every_swatch(layers))


def _fill_row(row: np.void, layer: Layer, pages: Pages, index: int, tallest: float, filter: Filter) -> None:
    """Fill the kernel's row of one layer, but its chart."""
    lie, tuning = layer.projection, layer.tuning
    row["hardness"] = _hardness(layer.softness)
    row["relief"] = pages.facts[index].relief * tuning.relief / tallest
    row["height_offset"] = tuning.lift / tallest
    row["normal_scale"], row["roughness_offset"], row["occlusion_strength"] = tuning.normal, tuning.roughness, tuning.occlusion
    row["colours"] = tuning.colours
    if lie.shuffle is not None:
        row["patch_size"], row["patch_border"] = 1 / lie.shuffle.size, lie.shuffle.border
        row["patch_ways"] = lie.shuffle.ways
    row["level_bias"] = math.log2(pages.side / pages.facts[index].tile)
    row["sharpness"] = lie.plane_sharpness
    row["planes"] = lie.planes
    row["wrap_u"], row["wrap_v"] = (each.code for each in lie.wraps)
    row["filter"] = (lie.filter or filter).code
    row["most_taps"] = lie.anisotropy
    row["slice"] = index
    row["tiles"] = row["tiles_high"] = 1 / pages.facts[index].tile
    row["tiles_low"] = 1 / pages.facts[index].tile - float(row["tiles_high"])


def _far_numbers(near: Sequence[Layer]) -> list[int]:
    """Which layer stands for each far from the eye: they follow in order; -1 for none."""
    has = [layer.far is not None for layer in near]
    return [len(near) + sum(has[:n]) if own else -1 for n, own in enumerate(has)]


def _groups_of(layers: Sequence[Layer]) -> tuple[frozenset[MapRole], ...]:
    """Roles that layers have apart, together where they lie alike in all layers."""
    by_lie: dict[tuple[object, ...], set[MapRole]] = {}
    for key in sorted({key for layer in layers for key in dict(layer.per_map)}):
        by_lie.setdefault(tuple(dict(layer.per_map).get(key) for layer in layers), set()).add(MapRole[key.upper()])
    return tuple(frozenset(roles) for roles in by_lie.values())


def _hardness(softness: float | NDArray[np.float64]) -> NDArray[np.float64]:
    soft = np.maximum(softness, _SOFTEST_CUT)
    return np.asarray((1 - soft) / soft)


def tallest_of(layers: Sequence[Layer], pages: Pages) -> float:
    """Return the metres of the tallest relief of some layers, each of one swatch."""
    reliefs = [pages.facts[pages.index_of(layer.swatch)].relief for layer in layers]
    tuned = [relief * layer.tuning.relief for relief, layer in zip(reliefs, layers, strict=True)]
    return max(tuned) or max(reliefs)


_BITS = ("slice", "patch_ways")  # whole numbers, kept as their bits


def _slot_rows(rows: NDArray[np.void]) -> NDArray[np.float32]:
    """Return what each layer says in the rows of a slot, (L, LAYER_ROWS): fields of LAYER by the names of those rows."""
    out = np.zeros((len(rows), k.LAYER_ROWS), np.float32)
    for row in list(k.Slot)[: list(k.Slot).index(k.Slot.WEIGHT)]:
        values = rows[row.name.lower()]
        out[:, row : row + row.width] = (
            values.astype(np.int32).view(np.float32)[:, None] if row.name.lower() in _BITS else values.reshape(len(rows), -1)
        )
    return out


def _outputs(pages: Pages, shown: Sequence[int]) -> tuple[Output, ...]:
    """What the arrays carry of the slices that are shown, and what is blended in any case."""
    out = []
    optional = {role for index in shown for role in pages.facts[index].optional}
    for role in BLENDED_ROLES:
        layout = next((each for each in pages.layouts if role in each.roles), None)
        if layout is not None and (role.value.always or role in optional):
            indices = [index for index, channel in enumerate(layout.channels) if channel.role is role]
            beside = next((each.channels for each in pages.layouts if each.is_fine), ())
            fine = tuple(index for index, channel in enumerate(beside) if channel.fine and channel.role is role)
            out.append(Output(role, layout.name, tuple(indices), fine))
        elif role.value.always:
            out.append(Output(role, "", ()))
    return tuple(out)


def _summed(reads: NDArray[np.int32], is_colour: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Return which channels (4 * array + channel) are plain sums: those that are read, but normals, height and colour."""
    summed = np.zeros(4 * len(is_colour), bool)
    for output, row in enumerate(reads):
        special = output == k.HEIGHT or any(first <= output < first + 3 for first in (k.NORMAL, k.COAT_NORMAL))
        if row >= 0 and not special and not (is_colour[row // 4] and row % 4 < 3):
            summed[row] = True
    return summed
