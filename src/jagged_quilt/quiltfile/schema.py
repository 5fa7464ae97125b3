"""What a quilt file may say."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal, TypeAlias

from pydantic import AfterValidator, Field

from jagged_quilt.arrays.mips import MipFilter, checked_side
from jagged_quilt.blend import settings as blending
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.projection import Filter
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.canvas import TEXELS, checked_texels
from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Model, Unchecked
from jagged_quilt.foundation.padding import PADDING
from jagged_quilt.light.lamps import Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.tone import Tone
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.maps.names import Roles
from jagged_quilt.maps.roles import CUT_OUT, MapRole
from jagged_quilt.maps.swatch import SIDE
from jagged_quilt.maps.swatch_source import MapRule, SwatchSource
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.meshes import settings as reading
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.layer_tables import FlowTable, LayerTable, MeshLayerTable
from jagged_quilt.quiltfile.light_tables import LightTable, SkyTable
from jagged_quilt.quiltfile.mask_tables import AnyStep, ImageFileStep
from jagged_quilt.quiltfile.tables import SWATCHES, Table, keys_of, some, table_of
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain_source import TerrainSource
from jagged_quilt.weights import settings as weighing
from jagged_quilt.weights.medley import Heights, Medley

Position = tuple[float, float, float]
Texels = Annotated[int, AfterValidator(checked_texels)]


class LayoutTable(Table):
    """An array of one's own: what each channel holds ("diffuse.r", "1 - roughness", a number), and in which format."""

    name: str
    channels: list[str | float | int] = Field(min_length=1, max_length=4)
    format: str = PixelFormat.UNORM8.key


class ArraysTable(Table):
    """Texels along a slice's side, which arrays to pack, and how."""

    side: Annotated[int, AfterValidator(checked_side)] = SIDE
    layouts: list[str] | None = None
    layout: list[LayoutTable] = Field(default_factory=list)
    formats: dict[str, str] = Field(default_factory=dict)
    mips: MipFilter = MipFilter.BOX
    compress: Literal["zstd", "none"] = "zstd"
    images: bool = False


NOTHING = "none"
RoleName: TypeAlias = Literal[(*(role.key for role in MapRole), NOTHING)]  # type: ignore[valid-type]
_MapKeys: Model = table_of(MapRule, leave_out=("role", "made_from", "value", "whole_file"))


class MapTable(_MapKeys):  # type: ignore[misc]
    """What is said outright of one map: its file (relative to the folder), role, channel, and how it is to be understood."""

    role: RoleName | None = None
    roles: list[RoleName] = Field(default_factory=list, max_length=4)
    packed: Literal["gltf", "gltf coat"] | None = None
    made_from: Literal["normal"] | None = None
    value: float | list[float] | None = None


_SwatchKeys: Model = table_of(SwatchSource, leave_out=("folder", "rules", "words", "limits", "aspect"))


class SwatchTable(_SwatchKeys):  # type: ignore[misc]
    """A folder of maps, or plain values by their roles, or both; metres that one repeat covers, metres from black to white of
    the height map."""

    folder: str = ""
    tile: float | tuple[float, float]
    plain: dict[RoleName, float | list[float] | str] = Field(default_factory=dict)
    map: list[MapTable] = Field(default_factory=list)


_NoiseOfMedley: Model = table_of(Noise, leave_out=("threshold", "range", "period"), octaves=(int, 3))
_HEIGHTS = keys_of(Heights)


class MedleyTable(Table):
    """Swatches that take turns: by noise, by height (metres, one for each or two to spread them between; those of the surface
    where none are said), or by a mask."""

    name: str
    swatches: list[str] = some(least=2)
    by: Literal["noise", "height", "mask"]
    softness: float = keys_of(Medley)["softness"][1]
    noise: _NoiseOfMedley | None = None
    heights: list[float] = Field(default_factory=list)
    wobble: float = _HEIGHTS["wobble"][1]
    size: float = _HEIGHTS["size"][1]
    mask: list[AnyStep] = some()


class ChannelTable(Table):
    """Something that lies over the surface beside the layers: what daubs call it, and what is there before them."""

    name: str
    mask: list[AnyStep] = some()


_FilmKeys: Model = table_of(Film, leave_out=("mask",))


class FilmTable(_FilmKeys):  # type: ignore[misc]
    """What lies upon the blended layers where its mask says so, and upon what: all, or "ground" and meshes by their names."""

    mask: list[AnyStep] = some(least=1)
    on: list[str] = Field(default_factory=list)


class AdoptTable(Table):
    """Weights inherited from elsewhere: in which form, in which files, the names of their layers, and where each goes."""

    form: Literal[tuple(weighing.FORMS)]  # type: ignore[valid-type]
    files: list[str] = Field(min_length=1)
    layers: list[str] = Field(min_length=1)
    implied_last: bool = weighing.IMPLIED_LAST
    colours: list[str] = Field(default_factory=list)
    numbers: list[int] = Field(default_factory=list)
    tolerance: float = weighing.TOLERANCE
    sums: str = weighing.NORMALISE
    to: dict[str, str] = Field(default_factory=dict)

    def check_keys(self) -> None:
        """Raise `RangeError` if a key is written that has no effect in this form."""
        idle = self.model_fields_set - {"form", "files", "layers", "to"} - weighing.FORMS[self.form]
        if idle:
            raise RangeError(f'{min(idle)} has no effect in form = "{self.form}"; remove it')


class MeshTable(Table):
    """A mesh file and its place: metres, degrees clockwise from above, whether it stands on the ground (upright, or leaning
    with it); which axis of the file points up and what its unit is; degrees up to which made normals are smooth; whether it is
    laid out anew, or what of it has no uv; what it is baked into; texels and padding of its maps; its layers."""

    name: str
    file: str
    at: Position = (0.0, 0.0, 0.0)
    turn: float = 0.0
    scale: Annotated[float, AfterValidator(lambda scale: positive("scale", scale))] = 1.0
    stand: bool | Literal["lean"] = False
    up: Literal["y", "z"] = reading.UP
    metres: float = reading.METRES
    smooth: float = reading.SMOOTH
    unwrap: bool | Literal["bare"] = False
    into: Literal["uv", "second uv", "vertices"] = "uv"
    texels: Texels = TEXELS
    padding: int = PADDING
    layer: list[MeshLayerTable] = some(least=1)


class WeightsTable(Table):
    """Texels along the longer side of the weight map, how many layers a texel keeps, bits, how masks stack, a file of daubs,
    and the time that formulas read."""

    texels: Texels = TEXELS
    keep: Annotated[int, AfterValidator(weighing.checked_keep)] = weighing.KEEP
    bits: Literal[8, 16] = weighing.BITS
    stacking: weighing.Stacking = weighing.STACKING
    daubs: str = ""
    time: float = 0.0


class BakeTable(Table):
    """Texels along the longer side; the space of normals; how mips are read; whence the weights come; from
    where layers are seen that lie otherwise far away."""

    texels: Texels = 2 * TEXELS
    normals: blending.NormalSpace = blending.NORMALS
    filter: Filter = blending.FILTER
    weights: Literal["map", "masks"] = "map"
    eye: Position | None = None


class ViewTable(Table):
    """The lit view: where the camera stands, what it looks at, degrees; the sun's bearing and height in degrees, where no
    [[light]] is said; metres after which two thirds of what is seen is air; stops of exposure; what becomes of bright light;
    the opacity below which nothing is there."""

    camera: Position | None = None
    target: Position | None = None
    view_angle: float = keys_of(Camera)["view_angle"][1]
    sun: tuple[float, float] = (keys_of(Sun)["bearing"][1], keys_of(Sun)["height"][1])
    haze: Annotated[float, AfterValidator(lambda haze: positive("haze", haze, "m"))] | None = None
    exposure: float = keys_of(Lighting)["exposure"][1]
    cut_out: Annotated[float, AfterValidator(lambda share: number_in("cut_out", share, 0, 1))] = CUT_OUT
    tone: Tone = keys_of(Lighting)["tone"][1]


class QuiltTable(Table):
    """A whole quilt file. Everything but swatches may be missing; `allow` names folders outside of the file's own that it may
    read."""

    title: str = ""
    allow: list[str] = some()
    names: dict[str, RoleName | list[RoleName]] = Field(default_factory=dict)
    surface: TerrainSource | None = None
    images: ImageLimits = ImageLimits()
    arrays: ArraysTable = Field(default_factory=ArraysTable)
    weights: WeightsTable = Field(default_factory=WeightsTable)
    bake: BakeTable = Field(default_factory=BakeTable)
    view: ViewTable | None = None
    light: list[LightTable] = some()
    sky: SkyTable = Field(default_factory=SkyTable)
    swatch: list[SwatchTable] = some(SWATCHES)
    layer: list[LayerTable] = some()
    medley: list[MedleyTable] = some()
    channel: list[ChannelTable] = some()
    film: list[FilmTable] = some()
    mesh: list[MeshTable] = some()
    adopt: AdoptTable | None = None

    def words(self) -> dict[str, Roles]:
        """Return what the words of [names] tell: a role, one for each channel, or nothing that is of use."""
        several = {word: [roles] if isinstance(roles, str) else roles for word, roles in self.names.items()}
        return {word: _roles_named(roles) for word, roles in several.items()}

    def flow_files(self) -> list[str]:
        """Return the image files by which textures are bent, relative to the quilt file."""
        return [name for key, name in self.named_files() if "warp" in key]

    def mask_files(self) -> list[str]:
        """Return the image files that masks read, relative to the quilt file."""
        return [name for key, name in self.named_files() if "mask" in key]

    @property
    def seen(self) -> ViewTable:
        """The [view], or what holds where there is none."""
        return self.view or ViewTable()

    def named_files(self) -> Iterator[tuple[KeyPath, str]]:
        """Yield every file and folder that is read, relative to the quilt file, and the path of the key that names it."""
        for index, swatch in enumerate(self.swatch):
            if swatch.folder:
                yield ("swatch", index, "folder"), swatch.folder
            for which, rule in enumerate(swatch.map):
                if rule.file:
                    yield ("swatch", index, "map", which, "file"), f"{swatch.folder}/{rule.file}"
        for file in self.surface.files if self.surface is not None else ():
            yield ("surface", "terrain"), file
        for which, file in enumerate(self.adopt.files if self.adopt is not None else ()):
            yield ("adopt", "files", which), file
        if self.sky.image:
            yield ("sky", "image"), self.sky.image
        if self.weights.daubs:
            yield ("weights", "daubs"), self.weights.daubs
        for index, mesh in enumerate(self.mesh):
            yield ("mesh", index, "file"), mesh.file
            yield from _files_of(("mesh", index, "layer"), mesh.layer)
        for name in ("layer", "medley", "channel", "film"):
            yield from _files_of((name,), getattr(self, name))


def _roles_named(names: list[str]) -> Roles:
    roles = tuple(None if name == NOTHING else MapRole[name.upper()] for name in names)
    return roles if any(roles) else ()


def _files_of(key: KeyPath, tables: list[Unchecked]) -> Iterator[tuple[KeyPath, str]]:
    """Yield what masks read, and by what textures are bent, of tables in a list."""
    for index, table in enumerate(tables):
        yield from _files_of_steps((*key, index, "mask"), table.mask)
        if isinstance(getattr(table, "warp", None), FlowTable):
            yield (*key, index, "warp", "image"), table.warp.image


def _files_of_steps(key: KeyPath, steps: list[Unchecked]) -> Iterator[tuple[KeyPath, str]]:
    for index, step in enumerate(steps):
        if isinstance(step, ImageFileStep):
            yield (*key, index, "file"), step.file
        yield from _files_of_steps((*key, index, "of"), getattr(step, "of", []))
