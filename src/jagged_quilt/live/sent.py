"""All that a page is sent of one state of a quilt: programs, what they read, and what is told of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property, partial

import numpy as np

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.blend.plan import BlendPlan, Pages
from jagged_quilt.export.light_shader import LightShader, light_shader
from jagged_quilt.export.shader import BlendShader, Dialect, blend_shader
from jagged_quilt.export.splat_sheets import whole_weight
from jagged_quilt.export.view_shader import ViewPart, ViewShader, view_shader
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts, Stored, Unchecked
from jagged_quilt.light.lamps import Sun
from jagged_quilt.live.knobs import knobs_of
from jagged_quilt.live.mesh_pieces import MeshPiece
from jagged_quilt.maps.roles import OPTIONAL_ROLES, MapRole
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.results.results import Results
from jagged_quilt.show.key_colours import key_colours
from jagged_quilt.show.labelled_grid import labelled_grid
from jagged_quilt.show.lit_view import haze_of
from jagged_quilt.show.scene import Scene
from jagged_quilt.weights.weight_map import WeightMap

_MOST_SAMPLES = 1025  # of the ground, along a side

_LEAST_GRID = 64  # texels of the labelled grid, below which it is made smaller from those
_APART = ("blend", "light", "view", "piece_views", "_told", "_grid")  # what does not go by the weights of the ground

Data = Callable[[], bytes]


@dataclass(frozen=True, eq=False)
class Sent:
    """All that a page is sent of one state of a quilt: its description, and data by name, each with a stamp of its content."""

    results: Results
    pages: Pages
    texels: int
    weights: WeightMap
    films: list[Stored] = field(default_factory=list)
    pieces: list[MeshPiece] = field(default_factory=list)
    former: WeightMap | None = None  # what was sent before: a page that has it is sent what differs

    @property
    def quilt(self) -> Quilt:
        return self.results.quilt

    @property
    def has_coat(self) -> bool:
        return any(role in OPTIONAL_ROLES for layout in self.results.arrays.layouts for role in layout.roles)

    @cached_property
    def blend(self) -> BlendShader:
        quilt = self.quilt
        plan = BlendPlan.of(quilt.layers, self.pages, filter=quilt.table.bake.filter, films=quilt.films_on(GROUND))
        return blend_shader(self.results.arrays, plan, dialect=Dialect.ESSL, title=quilt.table.title or quilt.path.stem)

    @cached_property
    def light(self) -> LightShader:
        return light_shader(self.quilt.lighting, coat=self.has_coat)

    @cached_property
    def view(self) -> ViewShader:
        return self._drawn_by(self.blend)

    @cached_property
    def piece_views(self) -> list[ViewShader]:
        """The programs of the pieces of meshes."""
        return [self._drawn_by(piece.blend, on_mesh=True) for piece in self.pieces]

    def _drawn_by(self, blend: BlendShader, *, on_mesh: bool = False) -> ViewShader:
        return view_shader(blend, self.light, coat=self.has_coat, lamps=len(self.quilt.lighting.lights), on_mesh=on_mesh)

    @property
    def blends(self) -> list[BlendShader]:
        """That of the ground, then those of the pieces of meshes."""
        return [self.blend, *(piece.blend for piece in self.pieces)]

    @property
    def arrays_read(self) -> list[str]:
        """The arrays that some program reads."""
        return list(dict.fromkeys(array for blend in self.blends for array in blend.arrays))

    @property
    def layers(self) -> list[str]:
        """All layers: the ground's from the bottom up, then those that only meshes have."""
        return list(dict.fromkeys(name for blend in self.blends for name in blend.layers))

    @cached_property
    def data(self) -> dict[str, tuple[str, Facts, Data]]:
        """By name: a stamp, what is to be known of it, and the bytes."""
        out: dict[str, tuple[str, Facts, Data]] = {}

        def put(name: str, stamp: str, data: Data, **facts: Unchecked) -> None:
            out[name] = stamp, facts, data

        terrain, stamps = self.quilt.terrain, self.results.runner
        ground = terrain.key
        every = [np.rint(np.linspace(0, count - 1, min(count, _MOST_SAMPLES))).astype(int) for count in terrain.heights.shape]
        rows, columns = (len(each) for each in every)
        heights = lambda: np.ascontiguousarray(np.asarray(terrain.heights)[np.ix_(*every)], "<f4")
        put("heights", ground, lambda: heights().tobytes(), size=[columns, rows])
        put("normals", ground, lambda: _normals(heights(), terrain.size).tobytes(), size=[columns, rows])
        sky = terrain.fields.open_to_sky
        open_shape = [min(count, 257) for count in terrain.heights.shape]
        put("open_sky", ground, lambda: _bytes_of(np.asarray(sky().values)), size=open_shape[::-1])
        out |= self._sheets()
        for number, film in enumerate(self.films):
            put(f"film_{number}", fingerprint(film.tobytes()), lambda film=film: _bytes_of(film), size=list(film.shape[::-1]))  # type: ignore[misc]
        for name, table in self.light.tables.items():
            stamp = fingerprint(table.tobytes())
            put(name, stamp, lambda table=table: table.astype("<f4").tobytes(), size=list(table.shape[1::-1]))  # type: ignore[misc]
        put("blend", fingerprint(self.blend.block), lambda: self.blend.block)
        put("light", fingerprint(self.light.block), lambda: self.light.block)
        for number, piece in enumerate(self.pieces):
            put(f"piece_{number}_vertices", piece.stamps[0], piece.vertices)
            put(f"piece_{number}_triangles", piece.stamps[0], piece.triangles)
            put(f"piece_{number}_carried", piece.stamps[1], piece.carried.tobytes)
            put(f"piece_{number}_blend", fingerprint(piece.blend.block), lambda piece=piece: piece.blend.block)  # type: ignore[misc]
        packed, arrays = stamps.stamp("pack"), self.results.arrays
        for level in range(level_count(arrays.side)):
            put(f"grid_{level}", str(arrays.side), lambda level=level: self._grid[level].tobytes())  # type: ignore[misc]
        for row, layout in enumerate(arrays.layouts):
            facts = {"srgb": layout.srgb, "deep": arrays.stores[row].texels(level_count(arrays.side) - 1, 0).dtype != np.uint8}
            for level in range(level_count(arrays.side) if layout.name in self.arrays_read else 0):
                side, read = arrays.side >> level, lambda row=row, level=level: self._level(row, level)
                size = [side, side, arrays.slice_count(layout.name)]
                put(f"array_{layout.name}_{level}", packed, read, size=size, **facts)
        return out

    @cached_property
    def _grid(self) -> list[Stored]:
        """Every size of the labelled grid, as large as the slices of the arrays, RGBA."""
        side, out = self.results.arrays.side, list[Stored]()
        for level in range(level_count(side)):
            across = side >> level
            picture = np.asarray(labelled_grid(max(across, _LEAST_GRID)))
            rows = picture.reshape(across, len(picture) // across, across, len(picture) // across, 3).mean(axis=(1, 3))
            out.append(np.dstack([np.rint(rows), np.full((across, across, 1), 128)]).astype(np.uint8))
        return out

    @property
    def _coloured(self) -> str | None:
        """The array that holds colours, in whose place the labelled grid can stand; None where there is none of 8 bits."""
        for layout, store in zip(self.results.arrays.layouts, self.results.arrays.stores, strict=True):
            if layout.name in self.arrays_read and layout.roles[0] is MapRole.DIFFUSE and store.texels(0, 0).dtype == np.uint8:
                return layout.name
        return None

    @property
    def _parts(self) -> list[ViewPart]:
        """What can be seen alone."""
        return [part for part in ViewPart if self._coloured or part is not ViewPart.GRID]

    def _sheets(self) -> dict[str, tuple[str, Facts, Data]]:
        """The weights of the ground, four layers in each sheet; beside them what of them differs from what was sent before."""
        out: dict[str, tuple[str, Facts, Data]] = {}
        weights, stamp = self.weights, _stamp_of(self.weights)
        whole = Region.whole(weights.layers.shape[:2])
        differs = None if self.former is None else differing(self.former, weights)
        for sheet in range(-(-len(weights.names) // 4)):
            size = [whole.columns, whole.rows]
            out[f"splat_{sheet}"] = stamp, {"size": size}, partial(_sheet, weights, sheet, whole)
            if differs is not None and self.former is not None:
                facts: Facts = {"size": [differs.columns, differs.rows], "at": [differs.left, differs.top]}
                facts |= {"onto": fingerprint(_stamp_of(self.former))}
                out[f"splat_{sheet}_patch"] = stamp, facts, partial(_sheet, weights, sheet, differs)
        return out

    def _level(self, row: int, level: int) -> bytes:
        """One level of an array, slice by slice as its file has them, RGBA: eight bits a channel, or half floats of more."""
        arrays = self.results.arrays
        store, count = arrays.stores[row], arrays.slice_count(arrays.layouts[row].name)
        texels = np.stack([store.texels(level, which) for which in range(count)])
        if texels.dtype == np.uint16:
            texels = (texels / np.float32(65535)).astype("<f2")
        whole = np.full((*texels.shape[:3], 4), 255 if texels.dtype == np.uint8 else 1, texels.dtype)
        whole[..., : texels.shape[3]] = texels
        return whole.tobytes()

    def with_weights(self, weights: WeightMap, pieces: list[MeshPiece]) -> Sent:
        """Return the same with other weights of the ground and of meshes; what does not go by them is not worked out again."""
        out = replace(self, weights=weights, former=self.weights, pieces=pieces)
        vars(out).update({name: value for name, value in vars(self).items() if name in _APART})
        return out

    @property
    def described(self) -> Facts:
        """What the page is told of it, as JSON."""
        data = {name: {"stamp": fingerprint(stamp), **facts} for name, (stamp, facts, _) in self.data.items()}
        return {**self._told, "data": data}

    @cached_property
    def _told(self) -> Facts:
        """What it is told beside the data."""
        quilt, view = self.quilt, self.view
        terrain, camera, lighting = quilt.terrain, quilt.camera, quilt.lighting
        scene = Scene(self.pages, haze=quilt.table.seen.haze, cut_out=quilt.table.seen.cut_out)
        scene.add(terrain, quilt.layers, weights=self.weights)
        suns = {number: light for number, light in enumerate(lighting.lights) if isinstance(light, Sun)}
        sun = min(suns, default=-1)
        names = self.layers
        return {
            "title": quilt.table.title or quilt.path.stem,
            "file": quilt.path.name,
            "ground": {"size": list(terrain.size), "heights": [float(each) for each in terrain.height_range]},
            "camera": {"position": list(camera.position), "target": list(camera.target), "angle": camera.view_angle},
            "layers": [{"name": name, "key": colour.tolist()} for name, colour in zip(names, key_colours(names), strict=True)],
            "samplers": [
                {"name": name, "array": array} for name, array in zip(self.blend.samplers, self.blend.arrays, strict=True)
            ],
            "arrays": self.arrays_read,
            "own_layers": list(self.blend.layers),
            "pieces": [
                {**piece.facts, "program": fingerprint(view.vertex, view.fragment)}
                for piece, view in zip(self.pieces, self.piece_views, strict=True)
            ],
            "cut_out": scene.cut_out,
            "levels": level_count(self.results.arrays.side),
            "sheets": -(-len(self.weights.names) // 4),
            "films": len(self.films),
            "lamps": [f"{type(light).__name__.lower()} {number}" for number, light in enumerate(lighting.lights, 1)],
            "coloured": self._coloured,
            "parts": [{"name": part.value, "code": part.code} for part in self._parts],
            "roles": list(view.roles),
            "shadowing": sun,
            "sun_keys": _sun_keys(quilt, sun),
            "to_sun": [float(each) for each in suns[sun].towards] if suns else [0.0, 1.0, 0.0],
            "haze": float(haze_of(scene)),
            "air": [float(each) for each in lighting.sky.rows.horizon],
            "exposure": 2.0**lighting.exposure,
            "bent": lighting.tone.value == "soft",
            "texels": self.texels,
            "left_out": [*(line for each in self.blends for line in each.left_out), *self.light.left_out],
            "knobs": knobs_of(quilt),
            "paints": {
                "layers": [layer.name for layer in quilt.layers],
                "of_meshes": _of_meshes(quilt),
                "channels": [each.name for each in quilt.channels],
            },
            "programs": fingerprint(*(each.vertex + each.fragment for each in (view, *self.piece_views)), view.sky_fragment),
        }

    def programs(self) -> Facts:
        """The sources of its programs."""
        view = self.view
        return {
            "ground": [view.vertex, view.fragment],
            "shadow": [view.vertex, view.shadow_fragment],
            "sky": [view.sky_vertex, view.sky_fragment],
            "pieces": {
                fingerprint(each.vertex, each.fragment): [each.vertex, each.fragment, each.shadow_fragment]
                for each in self.piece_views
            },
        }


def _of_meshes(quilt: Quilt) -> list[str]:
    """The layers that only meshes have."""
    names = (layer.name for by_part in quilt.layers_by_part for own in by_part.values() for layer in own)
    return list(dict.fromkeys(name for name in names if name not in {layer.name for layer in quilt.layers}))


def _sun_keys(quilt: Quilt, sun: int) -> list[str]:
    """The key of the sun's bearing and height together, or the two of them; none where the file says neither."""
    if sun >= 0 and quilt.table.light and not quilt.table.sky.find_sun:
        return [f"light[{sun}].bearing", f"light[{sun}].height"]
    return ["view.sun"] if sun >= 0 and quilt.table.view is not None and not quilt.table.light else []


def _normals(heights: Stored, size: tuple[float, float]) -> Stored:
    """The ground's normals from sample to sample, (R, C, 4) half floats."""
    south, east = np.gradient(heights.astype(np.float64), size[1] / (len(heights) - 1), size[0] / (heights.shape[1] - 1))
    out = np.stack([-east, np.ones_like(east), -south, np.zeros_like(east)], axis=-1)
    return (out / np.linalg.norm(out, axis=-1, keepdims=True)).astype("<f2")


def _stamp_of(weights: WeightMap) -> str:
    return fingerprint(weights.layers.tobytes(), weights.weights.tobytes())


def differing(before: WeightMap, after: WeightMap) -> Region | None:
    """Return where two weight maps differ, as the smallest rectangle around that; None where most of them does, or nothing."""
    if before.names != after.names or before.layers.shape != after.layers.shape:
        return None
    differs = (before.layers != after.layers).any(axis=2) | (before.weights != after.weights).any(axis=2)
    rows, columns = np.flatnonzero(differs.any(axis=1)), np.flatnonzero(differs.any(axis=0))
    if not len(rows):
        return None
    found = Region(int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1)
    return found if found.rows * found.columns < differs.size // 2 else None


def _sheet(weights: WeightMap, sheet: int, region: Region) -> bytes:
    """Four layers in RGBA, eight bits each, of some rows and columns."""
    where = slice(region.top, region.bottom), slice(region.left, region.right)
    part = replace(weights, layers=weights.layers[where], weights=weights.weights[where], lost=None)
    out = np.zeros((region.rows, region.columns, 4), np.uint8)
    for channel, which in enumerate(range(4 * sheet, min(4 * sheet + 4, len(weights.names)))):
        own = whole_weight(part, which)
        out[..., channel] = own if own.dtype == np.uint8 else own >> 8
    return out.tobytes()


def _bytes_of(shares: Stored) -> bytes:
    return np.rint(np.clip(shares, 0, 1) * 255).astype(np.uint8).tobytes()
