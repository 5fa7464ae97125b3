"""What a quilt file may say."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from jagged_quilt.arrays.layout import BLENDED
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.quiltfile.lie_tables import LieKeys, Place
from jagged_quilt.quiltfile.mask_tables import AnyStep, DistanceStep, ImageStep, KindName, Pair, Table


class SurfaceTable(Table):
    """The ground: a heightmap file (or rows of files that meet, from north to south and west to east), metres east and south,
    metres at black and at white (none where a float file holds metres), its form, of a raw file its samples east and south and
    the order of bytes, and what lies between samples."""

    terrain: str | Annotated[list[Annotated[list[str], Field(min_length=1)]], Field(min_length=1)]
    size: Pair
    heights: Pair | None = None
    form: Literal["grey", "rgb24", "raw16"] = "grey"
    samples: Annotated[list[int], Field(min_length=2, max_length=2)] | None = None
    byte_order: Literal["little", "big"] = "little"
    smooth: bool = False
    between: Literal["bilinear", "cubic"] = "bilinear"

    def files(self) -> list[str]:
        """Return the heightmap files, row by row."""
        return [self.terrain] if isinstance(self.terrain, str) else [file for row in self.terrain for file in row]


class ImagesTable(Table):
    """The largest image that is decoded: texels along its longer side, MiB of texels."""

    largest_side: int = 32768
    largest_mib: int = 4096


class LayoutTable(Table):
    """An array of one's own: what each channel holds ("diffuse.r", "1 - roughness", a number), and in which format."""

    name: str
    channels: list[str | float | int] = Field(min_length=1, max_length=4)
    format: str = "unorm8"


class ArraysTable(Table):
    """Texels along a slice's side, which arrays to pack, and how."""

    texels: int = 512
    layouts: list[str] = Field(default_factory=lambda: [layout.name for layout in BLENDED])
    layout: list[LayoutTable] = Field(default_factory=list)
    formats: dict[str, str] = Field(default_factory=dict)
    mips: Literal["box", "lanczos"] = "box"
    compress: Literal["zstd", "none"] = "zstd"
    images: bool = False


RoleName = Literal[
    "diffuse", "normal", "roughness", "specular", "height", "occlusion", "gloss", "shininess", "metallic", "opacity", "none"
]


class MapTable(Table):
    """What is said outright of one map: its file (relative to the folder), role, channel, and how it is to be understood."""

    role: RoleName | None = None
    roles: list[RoleName] = Field(default_factory=list, max_length=4)
    packed: Literal["gltf"] | None = None
    file: str = ""
    channel: str = ""
    green: Literal["up", "down"] | None = None
    transfer: Literal["srgb", "linear"] | None = None
    invert: bool = False
    upside_down: bool = False
    smooth: bool = False
    made_from: Literal["normal"] | None = None
    value: float | list[float] | None = None


class SwatchTable(Table):
    """A folder of maps, metres that one repeat covers, metres from black to white of the height map."""

    name: str
    folder: str
    tile: float
    relief: float = 0.05
    seams: Literal["keep", "mirror"] = "keep"
    fit: Literal["stretch", "repeat"] = "stretch"
    map: list[MapTable] = Field(default_factory=list)


class NoiseOfMedley(Table):
    """The noise by which swatches take turns, one of its own for each: metres between patches, form, octaves, seed, 2 or 3."""

    size: float
    form: KindName = "smooth"
    octaves: int = 3
    seed: int = 0
    dimensions: int = 3


class MedleyTable(Table):
    """Swatches that take turns: by noise, by height (metres, one for each or two to spread them between; those of the surface
    where none are said), or by a mask."""

    name: str
    swatches: list[str] = Field(min_length=2)
    by: Literal["noise", "height", "mask"]
    softness: float = 0.3
    noise: NoiseOfMedley | None = None
    heights: list[float] = Field(default_factory=list)
    wobble: float = 0.0
    size: float = 10.0
    mask: list[AnyStep] = Field(default_factory=list)


class AdoptTable(Table):
    """Weights inherited from elsewhere: in which form, in which files, the names of their layers, and where each goes."""

    form: Literal["splat", "index", "colours", "masks", "pairs"]
    files: list[str] = Field(min_length=1)
    layers: list[str] = Field(min_length=1)
    implied_last: bool = False
    colours: list[str] = Field(default_factory=list)
    numbers: list[int] = Field(default_factory=list)
    tolerance: float = 8.0
    sums: str = "normalise"
    to: dict[str, str] = Field(default_factory=dict)

    def check_keys(self) -> None:
        """Raise `RangeError` if a key is written that has no effect in this form."""
        own = {"splat": {"implied_last", "sums"}, "masks": {"implied_last", "sums"}, "pairs": {"sums"}, "index": {"numbers"},
               "colours": {"colours", "tolerance"}}  # fmt: skip
        idle = self.model_fields_set - {"form", "files", "layers", "to"} - own[self.form]
        if idle:
            raise RangeError(f'{min(idle)} has no effect in form = "{self.form}"; remove it')


class LayerTable(LieKeys):
    """One layer, from the bottom up."""

    swatch: str
    label: str = ""
    softness: float = 0.3
    mask: list[AnyStep] = Field(default_factory=list)


class MeshLayerTable(LayerTable):
    """One layer of a mesh; of one of its parts where it names one."""

    part: str = ""


class MeshTable(Table):
    """A mesh file and its place: metres, degrees clockwise from above, whether it stands on the ground; which axis of the file
    points up and what its unit is; degrees up to which made normals are smooth; texels and padding of its maps; its layers."""

    name: str
    file: str
    at: Place = Field(default_factory=lambda: [0.0, 0.0, 0.0])
    turn: float = 0.0
    scale: float = 1.0
    stand: bool = False
    up: Literal["y", "z"] = "y"
    metres: float = 1.0
    smooth: float = 60.0
    unwrap: bool = False
    texels: int = 1024
    padding: int = 16
    layer: list[MeshLayerTable] = Field(min_length=1)


class WeightsTable(Table):
    """Texels along the longer side of the weight map, how many layers a texel keeps, bits, how masks stack, a file of daubs,
    and the time that formulas read."""

    texels: int = 1024
    keep: int = 4
    bits: Literal[8, 16] = 8
    stacking: Literal["cover", "share"] = "cover"
    daubs: str = ""
    time: float = 0.0


class BakeTable(Table):
    """Texels along the longer side; the space of normals; how mips are read; whence the weights come."""

    texels: int = 2048
    normals: Literal["tangent", "world"] = "tangent"
    filter: Literal["nearest", "bilinear", "trilinear", "anisotropic"] = "trilinear"
    weights: Literal["map", "masks"] = "map"


class ViewTable(Table):
    """The lit view: where the camera stands, what it looks at, degrees; the sun's bearing and height in degrees."""

    camera: Place
    target: Place
    view_angle: float = 40.0
    sun: Pair = Field(default_factory=lambda: [300.0, 35.0])


class QuiltTable(Table):
    """A whole quilt file."""

    title: str = ""
    surface: SurfaceTable
    images: ImagesTable = Field(default_factory=ImagesTable)
    arrays: ArraysTable = Field(default_factory=ArraysTable)
    weights: WeightsTable = Field(default_factory=WeightsTable)
    bake: BakeTable = Field(default_factory=BakeTable)
    view: ViewTable | None = None
    swatch: list[SwatchTable] = Field(min_length=1)
    layer: list[LayerTable] = Field(min_length=1)
    medley: list[MedleyTable] = Field(default_factory=list)
    mesh: list[MeshTable] = Field(default_factory=list)
    adopt: AdoptTable | None = None

    def mask_files(self) -> list[str]:
        """Return the image files that masks read, relative to the quilt file."""
        layers = [*self.layer, *(layer for mesh in self.mesh for layer in mesh.layer)]
        steps = [step for layer in layers for step in layer.mask] + [step for each in self.medley for step in each.mask]
        return [step.file for step in _with_inner(steps) if isinstance(step, ImageStep)]


def _with_inner(steps: list[AnyStep]) -> list[AnyStep]:
    inner = [each for step in steps if isinstance(step, DistanceStep) for each in step.of]
    return [*steps, *_with_inner(inner)] if inner else steps
