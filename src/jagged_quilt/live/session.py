"""What a page shows of one quilt file: its programs and what they read, kept from change to change. No web in here."""

from __future__ import annotations

import threading
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.blend.plan import BlendPlan, Pages, opened
from jagged_quilt.export.light_shader import LightShader, light_shader
from jagged_quilt.export.shader import BlendShader, Dialect, blend_shader
from jagged_quilt.export.splat_sheets import whole_weight
from jagged_quilt.export.view_shader import ViewPart, ViewShader, view_shader
from jagged_quilt.foundation.errors import FileError, NameNotFoundError, QuiltError, RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts, Stored, Unchecked
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.lamps import Sun
from jagged_quilt.live.knobs import knobs_of
from jagged_quilt.maps.roles import OPTIONAL_ROLES
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.quiltfile.key_paths import words_of
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.read import parts_of, put_at
from jagged_quilt.quiltfile.write_changes import write_changes
from jagged_quilt.results.kept_results import KeptResults
from jagged_quilt.results.place_of import explained_at
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.show.key_colours import key_colours
from jagged_quilt.show.lit_view import haze_of
from jagged_quilt.show.scene import Scene
from jagged_quilt.weights.weight_map import WeightMap

_MOST_SAMPLES = 1025  # of the ground, along a side
_SKETCH = 512  # texels of weights while a number is being moved

Data = Callable[[], bytes]


@dataclass(frozen=True, eq=False)
class Sent:
    """All that a page is sent of one state of a quilt: its description, and data by name, each with a stamp of its content."""

    results: Results
    pages: Pages
    texels: int
    weights: WeightMap
    films: list[Stored] = field(default_factory=list)

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
        return view_shader(self.blend, self.light, coat=self.has_coat, lamps=len(self.quilt.lighting.lights))

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
        weighed = f"{stamps.stamp('weigh')} {self.texels}"
        high, wide = self.weights.layers.shape[:2]
        for sheet in range(-(-len(self.weights.names) // 4)):
            put(f"splat_{sheet}", weighed, lambda sheet=sheet: _sheet(self.weights, sheet), size=[wide, high])  # type: ignore[misc]
        for number, film in enumerate(self.films):
            stamp = f"{stamps.stamp('films')} {self.texels}"
            put(f"film_{number}", stamp, lambda film=film: _bytes_of(film), size=list(film.shape[::-1]))  # type: ignore[misc]
        for name, table in self.light.tables.items():
            stamp = fingerprint(table.tobytes())
            put(name, stamp, lambda table=table: table.astype("<f4").tobytes(), size=list(table.shape[1::-1]))  # type: ignore[misc]
        put("blend", fingerprint(self.blend.block), lambda: self.blend.block)
        put("light", fingerprint(self.light.block), lambda: self.light.block)
        packed, arrays = stamps.stamp("pack"), self.results.arrays
        for row, layout in enumerate(arrays.layouts):
            facts = {"srgb": layout.srgb, "deep": arrays.stores[row].texels(level_count(arrays.side) - 1, 0).dtype != np.uint8}
            for level in range(level_count(arrays.side) if layout.name in self.blend.arrays else 0):
                side, read = arrays.side >> level, lambda row=row, level=level: self._level(row, level)
                size = [side, side, arrays.slice_count(layout.name)]
                put(f"array_{layout.name}_{level}", packed, read, size=size, **facts)
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

    @cached_property
    def described(self) -> Facts:
        """What the page is told of it, as JSON."""
        quilt, view = self.quilt, self.view
        terrain, camera, lighting = quilt.terrain, quilt.camera, quilt.lighting
        scene = Scene(self.pages, haze=quilt.table.seen.haze)
        scene.add(terrain, quilt.layers, weights=self.weights)
        suns = {number: light for number, light in enumerate(lighting.lights) if isinstance(light, Sun)}
        sun = min(suns, default=-1)
        names = self.blend.layers
        return {
            "title": quilt.table.title or quilt.path.stem,
            "file": quilt.path.name,
            "ground": {"size": list(terrain.size), "heights": [float(each) for each in terrain.height_range]},
            "camera": {"position": list(camera.position), "target": list(camera.target), "angle": camera.view_angle},
            "layers": [{"name": name, "key": colour.tolist()} for name, colour in zip(names, key_colours(names), strict=True)],
            "samplers": [
                {"name": name, "array": array} for name, array in zip(self.blend.samplers, self.blend.arrays, strict=True)
            ],
            "levels": level_count(self.results.arrays.side),
            "sheets": -(-len(self.weights.names) // 4),
            "films": len(self.films),
            "parts": [{"name": part.value, "code": part.code} for part in ViewPart],
            "roles": list(view.roles),
            "shadowing": sun,
            "sun_keys": _sun_keys(quilt, sun),
            "to_sun": [float(each) for each in suns[sun].towards] if suns else [0.0, 1.0, 0.0],
            "haze": float(haze_of(scene)),
            "air": [float(each) for each in lighting.sky.rows.horizon],
            "exposure": 2.0**lighting.exposure,
            "bent": lighting.tone.value == "soft",
            "texels": self.texels,
            "left_out": [*self.blend.left_out, *self.light.left_out],
            "knobs": knobs_of(quilt),
            "data": {name: {"stamp": fingerprint(stamp), **facts} for name, (stamp, facts, _) in self.data.items()},
            "programs": fingerprint(view.vertex, view.fragment, view.sky_fragment),
        }

    def programs(self) -> Facts:
        """The sources of its programs."""
        view = self.view
        return {
            "ground": [view.vertex, view.fragment],
            "shadow": [view.vertex, view.shadow_fragment],
            "sky": [view.sky_vertex, view.sky_fragment],
        }


class PageSession:
    """One quilt file on a page: changes that are not saved yet, what came of them, and the file as it stands.

    Parameters
    ----------
    path : Path
    out : Path, optional
        The folder of results; `out` beside the quilt file where it is not given.
    """

    def __init__(self, path: Path, *, out: Path | None = None, work: Work = ANYHOW) -> None:
        self.path, self.lock = Path(path), threading.RLock()
        self._kept = KeptResults(self.path, out, work)
        self._changes: dict[str, Unchecked] = {}
        self._before: list[dict[str, Unchecked]] = []
        self._after: list[dict[str, Unchecked]] = []
        self._moved_from: dict[str, Unchecked] | None = None  # what stood before what is being moved
        self._pages: tuple[object, Pages] | None = None
        self._sent: Sent | None = None
        self.revision, self.error = 0, ""
        self.read_again(None)

    def state(self) -> Facts:
        """All that a page is told, as JSON."""
        with self.lock:
            own = {"revision": self.revision, "error": self.error, "changed": self._changes}
            own |= {"can_undo": bool(self._before), "can_redo": bool(self._after)}
            return (self._sent.described if self._sent else {}) | own

    def programs(self) -> Facts:
        """The sources of the programs that draw."""
        with self.lock:
            return self._whole().programs()

    def data(self, name: str) -> bytes:
        """Some of what the programs read; raise `NameNotFoundError` if there is none of that name."""
        with self.lock:
            held = self._whole().data
            if name not in held:
                raise NameNotFoundError(f'there is no "{name}"')
            return held[name][2]()

    def turn(self, changes: Mapping[str, Unchecked], *, moving: bool = False) -> None:
        """Change numbers, by their key paths; raise `QuiltError`, and leave all as it was, if they cannot be so.

        moving : whether more will follow at once, so that weights are worked out coarsely and this is no step of its own.
        """
        with self.lock:
            after = {**self._changes, **dict(self._written(key, value) for key, value in changes.items())}
            self._make(after, _SKETCH if moving else None)
            if self._moved_from is None:
                self._moved_from = self._changes
            if not moving:
                self._before.append(self._moved_from)
                self._after.clear()
                self._moved_from = None
            self._changes = after

    def _written(self, key: str, value: Unchecked) -> tuple[str, Unchecked]:
        """A key and its value as the file takes them: one number of a list that the file does not say brings the list."""
        *way, last = parts_of(key)
        table: Unchecked = self._whole().quilt.table.model_dump(mode="json")
        said: Unchecked = tomllib.loads(self._whole().quilt.where.text)
        for each, own in self._changes.items():
            put_at(said, each, own)
        for step in way:
            there = step in said if isinstance(said, dict) else isinstance(step, int) and step < len(said)
            if not there:
                break
            said, table = said[step], table[step]
        else:
            return key, value
        for rest in way[way.index(step) :]:
            table = table[rest] if isinstance(table, dict) and rest in table else None
        if not isinstance(last, int) or not isinstance(table, list):
            return key, value
        return words_of(tuple(way)), [value if at == last else own for at, own in enumerate(table)]

    def undo(self) -> None:
        """Take the last change back."""
        with self.lock:
            self._step(self._before, self._after)

    def redo(self) -> None:
        """Make the change again that was taken back last."""
        with self.lock:
            self._step(self._after, self._before)

    def _step(self, source: list[dict[str, Unchecked]], other: list[dict[str, Unchecked]]) -> None:
        if source:
            changes = source.pop()
            self._make(changes, None)
            other.append(self._changes)
            self._changes, self._moved_from = changes, None

    def save(self) -> list[str]:
        """Write the changes into the quilt file, comments and order kept; return the lines that were written."""
        with self.lock:
            lines = write_changes(self.path, self._changes)
            self._changes, self._before, self._after = {}, [], []
            self.read_again({self.path})
            return lines

    def read_again(self, changed: set[Path] | None) -> None:
        """Follow what changed on disk: the last good picture stays where something is wrong, with the error beside it."""
        with self.lock:
            try:
                self._make(self._changes, None, changed)
                self.error = ""
            except QuiltError as error:
                self.error = str(error)
                self.revision += 1
                if self._sent is None:
                    raise

    def explained(self, x: float, z: float) -> Facts:
        """Why a place of the ground looks as it does: layers from the top down, with each mask step, and daubs."""
        with self.lock:
            found, texel = explained_at(self._whole().results, x, z)
            slope = float(np.degrees(np.arccos(np.clip(texel.normal[0, 1], -1, 1))))
        layers = []
        for layer in reversed(found.layers):
            steps = [
                {"how": step.combine, "what": step.reading.summary, "answer": step.reading.answer, "result": step.result}
                for step in layer.steps
            ]
            turns = [{"name": name, "weight": share} for name, share in layer.turns]
            layers.append({"name": layer.name, "weight": layer.weight, "before": layer.stacked, "steps": steps, "turns": turns})
        daubs = [{"number": number, "what": what, "covers": cover} for number, what, cover in found.daubs]
        return {"position": list(found.position), "slope": slope, "layers": layers, "daubs": daubs}

    def still(self) -> bytes:
        """The view as the library draws it, as a PNG, for who cannot draw it."""
        with self.lock:
            results = self._whole().results
            return scene_of(results).draw(results.quilt.camera, work=results.work).png()

    def follow(self, stop: threading.Event) -> None:
        """Read again whenever the quilt file, or what it goes by, is saved, until it is told to stop."""
        for changed in self._kept.changes(stop):
            self.read_again(changed)

    def _whole(self) -> Sent:
        if self._sent is None:
            raise FileError(f"{self.path}: nothing is known of it yet")
        return self._sent

    def _make(self, changes: dict[str, Unchecked], texels: int | None, changed: set[Path] | None = frozenset()) -> None:  # type: ignore[assignment]
        """Work out what comes of the file with some changes; nothing is different afterwards if it cannot be."""
        results = self._kept.read(None if changed is None else set(changed), changes)
        self._kept.turn_over()
        quilt = results.quilt
        if not quilt.layers:
            raise RangeError(f"{self.path}: there is no ground to show; write a [surface] and [[layer]]s")
        whole = quilt.table.weights.texels
        asked = whole if texels is None else min(texels, whole)
        weights = self._kept.weights(results, asked)
        films = [np.asarray(each.values) for each in self._kept.films(results, asked)]
        key = (results.runner.stamp("pack"), tuple(sorted(quilt.shown_swatches)))
        if self._pages is None or self._pages[0] != key:
            self._pages = key, opened(results.arrays, quilt.layers)
        sent = Sent(results, self._pages[1], asked, weights, films)
        sent.described  # noqa: B018 (raises what it would raise later)
        self._sent, self.revision = sent, self.revision + 1


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


def _sheet(weights: WeightMap, sheet: int) -> bytes:
    """Four layers in RGBA, eight bits each."""
    out = np.zeros((*weights.layers.shape[:2], 4), np.uint8)
    for channel, which in enumerate(range(4 * sheet, min(4 * sheet + 4, len(weights.names)))):
        own = whole_weight(weights, which)
        out[..., channel] = own if own.dtype == np.uint8 else own >> 8
    return out.tobytes()


def _bytes_of(shares: Stored) -> bytes:
    return np.rint(np.clip(shares, 0, 1) * 255).astype(np.uint8).tobytes()
