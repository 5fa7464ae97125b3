"""Writing the demo project: image files, a heightmap and a quilt file, as a user would have them."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

import numpy as np

from jagged_quilt.demo.ground import ground
from jagged_quilt.demo.inherited import daubs, splat_sheet
from jagged_quilt.demo.swatches import MATERIALS, swatch_maps
from jagged_quilt.demo.things import glazed_jar, sluice_gate
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import make_folder, write_bytes
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.gathered import write_schema

QUILT_FILE = "saltworks.quilt.toml"
TEXELS = 512


def write_project(folder: Path | str, *, texels: int = TEXELS, work: Work = ANYHOW) -> Path:
    """Write the saltworks into a folder and return its quilt file; the same bytes every time.

    Parameters
    ----------
    texels : int
        Along the side of every map.

    Raises
    ------
    FileError
        If the folder holds other things than an earlier demo.
    """
    folder = make_folder(Path(folder))
    quilt_file = folder / QUILT_FILE
    if any(folder.iterdir()) and not quilt_file.is_file():
        raise FileError(f"{folder}: this folder holds other files; name a new one for the demo")

    def write_swatch(name: str) -> None:
        for role, image in swatch_maps(MATERIALS[name], texels).items():
            write_image(folder / "swatches" / name / f"{name}_{role.key}.png", image)

    work.through(list(MATERIALS), write_swatch, step="making swatches")
    heights = ground()
    write_image(folder / "ground" / "height.png", np.rint(heights * 65535).astype(np.uint16))
    write_mesh(glazed_jar(), folder / "things" / "jar.obj")
    write_mesh(sluice_gate(), folder / "things" / "sluice_gate.glb")
    write_image(folder / "inherited" / "splat_0.png", splat_sheet(heights))
    if not (folder / "daubs.jsonl").is_file():
        write_bytes(folder / "daubs.jsonl", daubs())
    write_schema(folder)
    if not quilt_file.is_file():
        write_bytes(quilt_file, resources.files("jagged_quilt.demo").joinpath(QUILT_FILE).read_bytes())
    return quilt_file
