"""A stage: what stands before a camera, a terrain and meshes, each with its layers, under lights."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass
from functools import partial
from typing import Protocol, Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.blend import Blend, Texels
from jagged_quilt.blend.detail_mask import layers_seeing
from jagged_quilt.blend.film import Film, films_on
from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.plan import Pages, opened
from jagged_quilt.blend.projection import Filter
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.blend.survey import Survey
from jagged_quilt.foundation.canvas import CanvasPart
from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.errors import QuiltWarning, ShapeError
from jagged_quilt.foundation.fields import Fields
from jagged_quilt.foundation.grid import Grid
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import Work
from jagged_quilt.light.lamps import Light, Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.light.tone import Tone
from jagged_quilt.maps.roles import CUT_OUT, MapRole
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.mesh_fields import MeshFields
from jagged_quilt.surfaces.parts import parts_of
from jagged_quilt.surfaces.peeling import IsThere, holes_in_shadow
from jagged_quilt.surfaces.picture_canvas import PictureCanvas
from jagged_quilt.surfaces.sight import LampMap, ShadowMap
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_SHADOW_TEXELS = 512  # of a mesh, along its longest side, as it is read for shadows

Layers = Sequence[Layer] | Mapping[str, Sequence[Layer]]
Weights = WeightMap | Weigher


class Shade(Protocol):
    """What gives a part its texels: a blend of its layers, or finished maps."""

    @property
    def roles(self) -> set[MapRole]:
        """The roles that it gives."""
        ...

    def at(self, points: Points, *, normals: NormalSpace | str = ..., eye: Sequence[float] | None = ...) -> Texels:
        """Return the texels at points."""
        ...

    def survey(self, points: Points, *, eye: Sequence[float] | None = None) -> Survey:
        """Return how textures lie at points; raise `RangeError` where there are none."""
        ...


class HeldShade(Shade, Protocol):
    """Finished maps of which only what a view needs is held."""

    def hold_for(self, stage: Stage, camera: Camera, *, width: int = ..., height: int = ..., work: Work = ...) -> None:
        """Hold what a view needs, and no more."""
        ...


@dataclass(frozen=True, slots=True, eq=False)
class LayerShade:
    """Layers, blended by weights that a map or masks answer."""

    blend: Blend
    weights: Weights

    @property
    def roles(self) -> set[MapRole]:
        """The roles that the blend gives."""
        return self.blend.roles

    def at(
        self,
        points: Points,
        *,
        normals: NormalSpace | str = NormalSpace.TANGENT,
        eye: Sequence[float] | None = None,
    ) -> Texels:
        """Return the blended texels at points."""
        return self.blend.at(points, self.weights.at(points), normals=normals, eye=eye)

    def survey(self, points: Points, *, eye: Sequence[float] | None = None) -> Survey:
        """Return what the blend goes by at points."""
        return self.blend.survey(points, self.weights.at(points), eye=eye)


@dataclass(frozen=True, slots=True, eq=False)
class SeenPart:
    """One part that rays may meet, as it is drawn.

    Attributes
    ----------
    surface : Terrain or Mesh
    shade : Shade
    sky : Grid or None
        How much of the sky the ground leaves open; None for what is no ground.
    """

    surface: Terrain | Mesh
    shade: Shade
    sky: Grid | None

    def open_sky(self, points: Points) -> NDArray[np.float32] | None:
        """Return how much of the sky is open at points, (N,)."""
        return None if self.sky is None else self.sky.at(points)


@dataclass(frozen=True, slots=True, eq=False)
class SeenThing:
    """A terrain or a mesh with its layers.

    Attributes
    ----------
    surface : Terrain or Mesh
    layers : sequence of Layer, or mapping of part to such
    weights : WeightMap, Weigher, mapping of part to such, or None
        The masks of the layers answer where there is none.
    pages : HeldShade or None
        Finished maps, in place of layers.
    films : tuple of Film
        What lies upon the layers.
    """

    surface: Terrain | Mesh
    layers: Layers
    weights: Weights | Mapping[str, Weigher] | None = None
    pages: HeldShade | None = None
    films: tuple[Film, ...] = ()

    @property
    def by_part(self) -> list[tuple[CanvasPart, Sequence[Layer]]]:
        """Each part and its layers."""
        layers = self.layers
        if self.pages is not None:
            return [(part, ()) for part in parts_of(self.surface)]
        if isinstance(self.surface, Terrain) and isinstance(layers, Mapping):
            raise ShapeError("a terrain has no parts; give it its layers alone")
        return [(part, layers[part.name] if isinstance(layers, Mapping) else layers) for part in parts_of(self.surface)]


class Stage:
    """Things before a camera, under lights.

    Parameters
    ----------
    arrays : TextureArrays, TexelPages or TexelCache
        Opened once, for all things.
    lights : sequence of Sun, PointLight or SpotLight
        Any number; shadows fall from all of them.
    sky : Sky or SkyImage
    exposure : float
        Stops: 1 shows everything twice as bright.
    tone : "soft" or "none"
        Whether what is bright is bent to stay below white, or cut off there.
    filter : "trilinear", "anisotropic", "bilinear" or "nearest"
        Of layers that do not say.
    haze : float, optional
        Metres after which two thirds of what is seen is air; where it is not given, ten times the ground's width, and no air
        where there is no ground.
    cut_out : float
        The opacity, 0 to 1, below which nothing is there; 0 cuts nothing out.
    """

    def __init__(
        self,
        arrays: TextureArrays | Pages,
        *,
        lights: Sequence[Light] = (Sun(),),
        sky: Sky | SkyImage = Sky(),  # noqa: B008 (a value)
        exposure: float = 0.0,
        tone: Tone | str = Tone.SOFT,
        filter: Filter | str = Filter.TRILINEAR,
        haze: float | None = None,
        cut_out: float = CUT_OUT,
    ) -> None:
        self.cut_out = number_in("cut out", cut_out, 0, 1)
        self.haze = None if haze is None else positive("haze", haze, "m")
        self.lighting = Lighting(tuple(lights), sky, exposure, Tone.of(tone, "tone"))
        self.arrays, self.filter = arrays, Filter.of(filter)
        self.things: tuple[SeenThing, ...] = ()
        self._parts: tuple[SeenPart, ...] | None = None

    def __repr__(self) -> str:
        things, lights = len(self.things), len(self.lighting.lights)
        said = f"{things} thing{'' if things == 1 else 's'} under {lights} light{'' if lights == 1 else 's'}"
        return f"<{type(self).__name__} of {said}>"

    def add(
        self,
        surface: Terrain | Mesh,
        layers: Layers,
        *,
        weights: Weights | Mapping[str, Weigher] | None = None,
        films: Sequence[Film] = (),
    ) -> Self:
        """Put a terrain or a mesh before the camera, and return the scene.

        Parameters
        ----------
        layers : sequence of Layer, or mapping of part to such
            From the bottom up.
        weights : WeightMap or Weigher, or mapping of part to Weigher, optional
            The masks of the layers answer where it is not given.
        films : sequence of Film
            What lies upon the layers, in order.
        """
        self.things = (*self.things, SeenThing(surface, layers, weights, films=tuple(films)))
        self._parts = None
        return self

    def add_pages(self, ground: Terrain, pages: HeldShade) -> Self:
        """Put a terrain before the camera whose finished maps lie in pages of a store, and return the scene."""
        self.things = (*self.things, SeenThing(ground, (), None, pages))
        self._parts = None
        return self

    @property
    def surfaces_of_parts(self) -> list[Terrain | Mesh]:
        """For each part that rays may meet, the surface that it belongs to."""
        return [thing.surface for thing in self.things for _ in thing.by_part]

    @property
    def size(self) -> float:
        """How wide the ground is, metres; 0 where there is none."""
        return max((max(each.size) for each in self.terrains), default=0.0)

    @property
    def meshes(self) -> list[Mesh]:
        """The meshes."""
        return [thing.surface for thing in self.things if isinstance(thing.surface, Mesh)]

    @property
    def terrains(self) -> list[Terrain]:
        """The terrains."""
        return [thing.surface for thing in self.things if isinstance(thing.surface, Terrain)]

    def canvas(
        self, camera: Camera, rows: int, columns: int, *, only: NDArray[np.bool_] | None = None, footprint: float = 1.0
    ) -> PictureCanvas:
        """Return what a camera sees as a canvas of so many pixels or rays; see `PictureCanvas`.

        A camera below the ground sees nothing of it: that is reported by a `QuiltWarning`.
        """
        for terrain in self.terrains:
            x, y, z = camera.position
            depth = float(terrain.points_at([[x, z]]).world[0, 1]) - y
            if 0 <= x <= terrain.size[0] and 0 <= z <= terrain.size[1] and depth > 0:
                warnings.warn(
                    f"the camera at {x:g}, {y:g}, {z:g} is {depth:.3g} m below the ground, and sees nothing of it",
                    QuiltWarning,
                    stacklevel=3,
                )
        holes = self._holes if self.has_holes else None
        surfaces = [thing.surface for thing in self.things]
        return PictureCanvas(camera, surfaces, rows, columns, only=only, footprint=footprint, is_there=holes)

    @property
    def has_holes(self) -> bool:
        """Whether something may be cut out."""
        return self.cut_out > 0 and MapRole.OPACITY in self.roles

    def _holes(self, part: int) -> Callable[[Points], NDArray[np.bool_]] | None:
        """What says whether points of a part are there; None where all of it is."""
        shade = self.parts[part].shade
        if MapRole.OPACITY not in shade.roles:
            return None
        return lambda points: shade.at(points)[MapRole.OPACITY] >= self.cut_out

    @property
    def parts(self) -> tuple[SeenPart, ...]:
        """What rays may meet, in order, ready to be drawn: texels opened and every blend laid out, once."""
        if self._parts is None:
            shown = [layer for thing in self.things for _, layers in thing.by_part for layer in one_each(layers)]
            pages = opened(self.arrays, shown) if shown else None
            self._parts = tuple(part for thing in self.things for part in self._parts_of(thing, pages))
        return self._parts

    def _parts_of(self, thing: SeenThing, pages: Pages | None) -> list[SeenPart]:
        """The parts of a thing; `pages` are None where nothing has layers."""
        ground = thing.surface if isinstance(thing.surface, Terrain) else None
        sky = ground.fields.open_to_sky() if ground else None
        if thing.pages is not None:
            return [SeenPart(thing.surface, thing.pages, sky) for _ in thing.by_part]
        assert pages is not None
        fields, out = _fields_of(thing), []
        films = films_on(thing.films, fields) if thing.films else ()
        for part, layers in thing.by_part:
            blend = Blend(pages, layers, filter=self.filter, frame=part.frame, metres=part.metres, films=films)
            given = thing.weights.get(part.name) if isinstance(thing.weights, Mapping) else thing.weights
            weights = given or Weigher(layers_seeing(layers, pages), fields)
            out.append(SeenPart(thing.surface, LayerShade(blend, weights), sky))
        return out

    @property
    def roles(self) -> set[MapRole]:
        """The roles that its parts give."""
        return {role for part in self.parts for role in part.shade.roles}

    def uncut(self) -> Self:
        """Return the scene with nothing cut out."""
        out = copy(self)
        out.cut_out = 0.0
        return out

    def shadows(self, light: Light) -> Callable[[Points], NDArray[np.float32]]:
        """Return what says how free the way to a light is from points, 0..1, (N,)."""
        if light.position is not None:
            for terrain in self.terrains:
                terrain.check_above(light.position)
            return partial(
                _lamplit,
                self.terrains,
                light.position,
                LampMap(self.meshes, light.position, self._shadow_holes()) if self.meshes else None,
            )
        ways = [self._sunlit(towards) for towards in light.directions()]
        return lambda points: np.asarray(np.mean([free(points) for free in ways], axis=0), np.float32)

    def _shadow_holes(self) -> dict[int, IsThere]:
        """By the number of a mesh, what says which places of it stop light, of those with holes."""
        if not self.has_holes:
            return {}
        out: dict[int, IsThere] = {}
        before = number = 0
        for thing in self.things:
            if isinstance(thing.surface, Mesh):
                low, high = thing.surface.bounds
                holes = holes_in_shadow(thing.surface, before, self._holes, float((high - low).max()) / _SHADOW_TEXELS)
                out |= {number: holes} if holes is not None else {}
                number += 1
            before += len(thing.by_part)
        return out

    def _sunlit(self, towards: NDArray[np.float64]) -> Callable[[Points], NDArray[np.float32]]:
        """Return what says how much of parallel light reaches points."""
        cast = ShadowMap(self.meshes, towards, self._shadow_holes()) if self.meshes else None
        known = [(terrain, np.zeros(terrain.heights.shape, np.uint8)) for terrain in self.terrains]

        def reaches(points: Points) -> NDArray[np.float32]:
            free = (points.normal @ towards.astype(np.float32) > 0).astype(np.float32)
            for terrain, samples in known:
                free *= terrain.sunlit(points, towards, samples)
            return free * cast.free(points) if cast else free

        return reaches


def _fields_of(thing: SeenThing) -> Fields:
    """What masks must know of its surface."""
    return thing.surface.fields if isinstance(thing.surface, Terrain) else MeshFields(thing.surface)


def _lamplit(
    terrains: Sequence[Terrain], lamp: tuple[float, float, float], cast: LampMap | None, points: Points
) -> NDArray[np.float32]:
    """How free the way to a lamp is from points."""
    free = (np.einsum("nd,nd->n", points.normal, np.array(lamp) - points.world) > 0).astype(np.float32)
    for terrain in terrains:
        free *= terrain.lamplit(points, lamp)
    return free * cast.free(points) if cast else free
