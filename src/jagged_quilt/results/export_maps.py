"""Finished maps, by the conventions of an engine or as materials."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from jagged_quilt.baking.baked_maps import BakedMaps, open_baked
from jagged_quilt.export.engine_maps import Conventions, engine_maps
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.materialx import write_materialx
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.bake_steps import baked_ground, baked_mesh
from jagged_quilt.results.export_weights import BITS
from jagged_quilt.results.exporter import Exporter, Written, option
from jagged_quilt.results.results import Results

CONVENTIONS = ("green-down", "gloss", "metallic", "occlusion-roughness-metallic")


def baked_maps(results: Results, texels: int | None, bits: int, *, ground: bool = True) -> Iterator[tuple[str, BakedMaps]]:
    """Yield the maps of the ground and of each mesh that has maps: as its step left them, or baked now where they are to have
    another size, or more bits."""
    there = 0 if ground else 1
    if ground and "bake" in results.runner.steps:
        there += 1
        as_it_is = bits == 8 and texels in (None, results.bake_texels)
        yield GROUND, open_baked(results.run("bake").folder) if as_it_is else baked_ground(results, texels, bits)
    for number, table in enumerate(results.quilt.table.mesh):
        there += 1
        if table.into != "vertices":
            as_it_is = bits == 8 and texels in (None, table.texels)
            step = results.mesh_steps[number]
            yield table.name, open_baked(results.run(step).folder) if as_it_is else baked_mesh(results, number, texels, bits)
    if not there:
        raise RangeError(f"{results.quilt.path}: there is nothing to bake; say a [surface] with its [[layer]]s, or a [[mesh]]")


@dataclass(frozen=True, kw_only=True)
class MapFiles(Exporter):
    """The baked maps of the ground and the meshes."""

    key: ClassVar[str] = "maps"
    folder: ClassVar[str] = "export/maps"
    conventions: tuple[str, ...] = option((), "How maps are written; may be said again.", flag="as", words=CONVENTIONS)
    texels: int | None = option(None, "Along the longer side; as they are where not given.")
    bits: int = option(8, "Of each channel.", words=BITS)

    def write(self, results: Results, folder: Path) -> Written:
        said, files, lost = set(self.conventions), list[Path](), list[str]()
        how = Conventions(
            green_down="green-down" in said,
            gloss="gloss" in said,
            metallic=bool(said & {"metallic", "occlusion-roughness-metallic"}),
            packed="occlusion-roughness-metallic" in said,
            bits=self.bits,
        )
        named = self.named(results)
        for name, stem in stems_of([*named]).items():
            given = named[name]
            maps = engine_maps(given, how, texels=self.texels if isinstance(given, Swatch) else None)
            files += maps.save(folder / stem)
            lost += [f'"{name}": {maps.lost}'] if maps.lost else []
        return Written(tuple(files), lost=tuple(lost))

    def named(self, results: Results) -> dict[str, BakedMaps | Swatch]:
        """What maps are written of, by name."""
        return dict(baked_maps(results, self.texels, self.bits))


@dataclass(frozen=True, kw_only=True)
class SwatchFiles(MapFiles):
    """The maps of the swatches."""

    key: ClassVar[str] = "swatches"
    folder: ClassVar[str] = "export/swatches"

    def steps(self, results: Results) -> list[str]:
        return []

    def named(self, results: Results) -> dict[str, BakedMaps | Swatch]:
        return {each.name: each for each in results.quilt.swatches}


@dataclass(frozen=True, kw_only=True)
class MaterialFiles(Exporter):
    """The swatches, and what is baked, as MaterialX documents."""

    key: ClassVar[str] = "materialx"
    folder: ClassVar[str] = "export/materialx"
    bits: int = option(8, "Of each channel.", words=BITS)

    def write(self, results: Results, folder: Path) -> Written:
        materials = dict[str, BakedMaps | Swatch]()
        if any(name in results.runner.steps for name in ("bake", *results.mesh_steps)):
            materials |= dict(baked_maps(results, None, self.bits))
        for each in results.quilt.swatches:
            materials[f"{each.name} swatch" if each.name in materials else each.name] = each
        files, lost = write_materialx(materials, folder, bits=self.bits)
        return Written(tuple(files), lost=tuple(lost))
