"""The uniform block of a blend: what is said of its layers, charts and films, by the rules of std140."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.plan import BlendPlan
from jagged_quilt.export.shader_arrays import FileArray
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts

_AT_ONCE = 4  # numbers in a vector


def blend_block(
    plan: BlendPlan, arrays: TextureArrays, features: Collection[str], held: Sequence[FileArray]
) -> tuple[bytes, tuple[tuple[str, int, str], ...]]:
    """Return the uniform block of a blend: tables of vectors of four, one after the other, as std140 lays them; and what lies
    where, by path, bytes from the beginning, and type."""
    out, members = b"", list[tuple[str, int, str]]()
    for name, table in _tables(plan, arrays, features, held):
        fields: Facts = dict(table.dtype.fields or {})
        for row in range(len(table)):
            for each in table.dtype.names or ():
                kind, at = fields[each][:2]
                own = f"{name}[{row}]" + ("" if len(table.dtype.names or ()) == 1 else f".{each}")
                members.append((own, len(out) + row * table.dtype.itemsize + at, "ivec4" if kind.base.kind == "i" else "vec4"))
        out += table.tobytes()
    return out, tuple(members)


def _tables(
    plan: BlendPlan, arrays: TextureArrays, features: Collection[str], held: Sequence[FileArray]
) -> list[tuple[str, NDArray[np.void]]]:
    """The members of the uniform block, in order."""
    tables = [("layers", _layer_table(plan, arrays, features, held)), ("charts", _mapping_table(plan))]
    count = len(plan.layers)
    if "meets" in features:
        pairs = np.zeros((count, -(-count // 4) * 4), "<f4")
        pairs[:, :count] = plan._pairs()[:count, :count]
        tables.append(("hardness_between", pairs.reshape(-1, 4).view([("", "<f4", 4)])[:, 0]))
    if plan.films:
        looks = np.zeros((4 * len(plan.films), 4), "<f4")
        for number, film in enumerate(plan.films):
            looks[4 * number] = (*film.tint, film.softness)
            looks[4 * number + 1] = (*(film.colour or (0.0, 0.0, 0.0)), film.hides)
            looks[4 * number + 2] = (film.roughness or 0.0, film.specular or 0.0, film.level, film.hollows)
            looks[4 * number + 3] = (film.colour is not None, film.roughness is not None, film.specular is not None, 0)
        tables.append(("film_looks", looks.view([("", "<f4", 4)])[:, 0]))
    return tables


def _layer_table(
    plan: BlendPlan, arrays: TextureArrays, features: Collection[str], held: Sequence[FileArray]
) -> NDArray[np.void]:
    rows = plan.layer_rows
    fields = [("which", "<i4"), ("slices", "<i4")] + [("more_slices", "<i4")] * (len(held) > _AT_ONCE) + [("ways", "<i4")]
    fields += [(name, "<f4") for name in ("lies", "meets", "tunes", "red", "green", "blue")]
    fields += [("per_map", "<i4")] if "per_map" in features else []
    fields += [(f"mean_{each.name}", "<f4") for each in held] if "shuffle" in features else []
    table = np.zeros(len(rows), [(name, kind, 4) for name, kind in fields])
    indices = [arrays.names.index(layer.swatch) for layer in plan.layers]
    for number, each in enumerate(held):  # swatches of the same content share a slice
        own = [arrays.facts[index].slices[each.layout.name] for index in indices]
        table["slices" if number < _AT_ONCE else "more_slices"][:, number % _AT_ONCE] = own
    table["which"] = np.stack([indices, rows["mapping"], rows["planes"], rows["filter"]], axis=1)
    taps = rows["most_taps"].astype(int)
    table["ways"] = np.stack([rows["wrap_u"], rows["wrap_v"], rows["patch_ways"], taps], axis=1)
    table["lies"] = np.stack([rows["tiles"], rows["sharpness"], rows["patch_size"], rows["patch_border"]], axis=1)
    table["meets"][:, :3] = np.stack([rows["hardness"], rows["relief"], rows["height_offset"]], axis=1)
    table["tunes"][:, :3] = np.stack([rows["normal_scale"], rows["roughness_offset"], rows["occlusion_strength"]], axis=1)
    for row, name in enumerate(("red", "green", "blue")):
        table[name][:, :3] = rows["colours"][:, row]
    if "per_map" in features:
        if len(plan.groups) > 4:
            raise RangeError(f"the shader takes maps apart in four ways at most; these layers have {len(plan.groups)}")
        table["per_map"] = -1
        table["per_map"][:, : len(plan.groups)] = plan.per_map_rows.T
    if "shuffle" in features:
        for number, layer in enumerate(plan.layers):
            if layer.projection.shuffle is not None:
                for each in held:
                    table[f"mean_{each.name}"][number] = _mean(arrays, each.layout, layer.swatch)
    return table


def _mapping_table(plan: BlendPlan) -> NDArray[np.void]:
    mappings = plan.mapping_rows
    names = ("axis_x", "axis_y", "axis_z", "turn", "placed", "around", "limits", "eye")
    table = np.zeros(len(mappings), [(name, "<f4", 4) for name in names])
    for row, name in enumerate(("axis_x", "axis_y", "axis_z")):
        table[name][:, :3] = mappings["axes"][:, row]
        table[name][:, 3] = (mappings["exact_axes"][:, row] * mappings["exact_origin"]).sum(axis=1)
    table["turn"] = mappings["turn"].reshape(-1, 4)
    table["placed"] = np.column_stack([mappings["offset"], mappings["aspect"], mappings["cheap"]])
    metres = np.where(mappings["kind"] == k.BY_UV, mappings["unit"], mappings["radius"])
    table["around"][:, :3] = np.stack([metres, mappings["around"], mappings["spiral"]], axis=1)
    table["limits"] = np.stack([mappings["slope_from"], mappings["slope_to"], mappings["near"], mappings["far"]], axis=1)
    table["eye"] = np.column_stack([mappings["eye"], mappings["kind"]])
    return table


def _mean(arrays: TextureArrays, layout: Layout, swatch: str) -> NDArray[np.float64]:
    """The mean texel of a slice, colour as linear light."""
    texels = arrays.texels(layout.name, swatch).reshape(-1, layout.stored)
    mean = np.ones(4)
    for channel in range(layout.stored):
        own = np.ascontiguousarray(texels[:, channel])
        counts, plain = np.ones(len(own)), own.astype(np.float64)
        if own.dtype.kind == "u":  # as many as there are values, and not as there are texels
            held = np.bincount(own, minlength=np.iinfo(own.dtype).max + 1)
            counts, plain = held.astype(np.float64), np.arange(len(held)) / (len(held) - 1)
        if layout.srgb and channel < 3:
            plain = np.where(plain <= 0.04045, plain / 12.92, ((plain + 0.055) / 1.055) ** 2.4)
        mean[channel] = (plain * counts).sum() / len(own)
    return mean
