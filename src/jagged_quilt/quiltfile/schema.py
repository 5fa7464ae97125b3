"""What a quilt file may say."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from jagged_quilt.arrays.layout import BLENDED

Pair = Annotated[list[float], Field(min_length=2, max_length=2)]
Place = Annotated[list[float], Field(min_length=3, max_length=3)]
CombineName = Literal["multiply", "add", "subtract", "maximum", "minimum"]


class Table(BaseModel):
    """A table of a quilt file: every key is known, and of the type it should be."""

    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class SurfaceTable(Table):
    """The ground: a heightmap file, metres east and south, metres at black and at white."""

    terrain: str
    size: Pair
    heights: Pair


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


class MaskStep(Table):
    """What all kinds of mask share: how it goes upon the steps before, and how it is changed first."""

    combine: CombineName = "multiply"
    invert: bool = False
    strength: float = 1.0


class HeightStep(MaskStep):
    """Metres from which to which it is fully there, metres over which it fades beyond."""

    kind: Literal["height"]
    band: Pair
    fade: float = 0.0


class SlopeStep(MaskStep):
    """Degrees from which to which it is fully there, degrees over which it fades beyond."""

    kind: Literal["slope"]
    band: Pair
    fade: float = 0.0


class NoiseStep(MaskStep):
    """Patches: metres from one to the next, octaves, threshold and range of the cut, seed, period in sizes."""

    kind: Literal["noise"]
    size: float
    octaves: int = 4
    threshold: float = 0.5
    range: float = 0.2
    seed: int = 0
    period: int = 0


class ConstantStep(MaskStep):
    """The same everywhere."""

    kind: Literal["constant"]
    value: float


AnyStep = Annotated[HeightStep | SlopeStep | NoiseStep | ConstantStep, Field(discriminator="kind")]


class LayerTable(Table):
    """One layer, from the bottom up."""

    swatch: str
    label: str = ""
    projection: Literal["planar", "triplanar"] = "planar"
    sharpness: float = 4.0
    softness: float = 0.3
    mask: list[AnyStep] = Field(default_factory=list)


class WeightsTable(Table):
    """Texels along the longer side of the weight map, and how many layers a texel keeps."""

    texels: int = 1024
    keep: int = 4


class BakeTable(Table):
    """Texels along the longer side; the space of normals; how mips are read; whence the weights come."""

    texels: int = 2048
    normals: Literal["tangent", "world"] = "tangent"
    filter: Literal["bilinear", "trilinear"] = "trilinear"
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
