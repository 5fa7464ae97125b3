"""Opening the arrays that a folder holds."""

from __future__ import annotations

from pathlib import Path

from jagged_quilt.arrays.layout import Layout, channel_of
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import MANIFEST, SliceFacts, TextureArrays
from jagged_quilt.codecs.ktx2 import Ktx2File
from jagged_quilt.codecs.pixel_formats import format_named
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import read_json
from jagged_quilt.foundation.reading import reads


@reads("folder of arrays")
def open_arrays(folder: Path | str) -> TextureArrays:
    """Open what `save` or `pack_files` wrote; raise `FileError` if something is missing or damaged.

    Examples
    --------
    >>> files = arrays.save("arrays")
    >>> jq.open_arrays("arrays")
    <TextureArrays 2 swatches of 16 x 16 in diffuse_height, normal_roughness_occlusion, specular: clay, salt>
    """
    folder = Path(folder)
    manifest = read_json(folder / MANIFEST, "list of arrays")
    try:
        layouts = tuple(
            Layout(each["name"], tuple(channel_of(text) for text in each["channels"]), format_named(each["format"]))
            for each in manifest["layouts"]
        )
        side = int(manifest["texels"])
        facts = tuple(
            SliceFacts(
                name=each["swatch"],
                tile=float(each["tile"]),
                relief=float(each["relief"]),
                slices=each["slice"],
                optional=tuple(each["rare"]),
                stamps=each["made_from"],
                quality=each["quality"],
                derived=each["derived"],
                aspect=float(each.get("aspect", 1)),
            )
            for each in manifest["slices"]
        )
        stores = tuple(Ktx2File(folder / f"{layout.name}.ktx2") for layout in layouts)
        arrays = TextureArrays(layouts=layouts, side=side, facts=facts, stores=stores)
        for layout, store in zip(layouts, stores, strict=True):
            recorded = (
                store.head.pixels,
                store.head.channels,
                store.head.srgb,
                store.head.width,
                store.head.height,
                store.head.slices,
                store.head.levels,
                store.ours,
            )
            wanted = (
                layout.pixels,
                layout.stored,
                layout.srgb,
                side,
                side,
                arrays.slice_count(layout.name),
                level_count(side),
                True,
            )
            if recorded != wanted:
                raise FileError(f"{store.path}: is not what {MANIFEST} tells; pack again")
        return arrays
    except FileError as error:
        raise FileError(f"{error}" if "pack again" in str(error) else f"{error}; pack again") from error
    except (KeyError, TypeError, ValueError, AttributeError, QuiltError) as error:
        raise FileError(f"{folder}: these arrays do not fit together ({error}); pack again") from error
