"""A folder with all that the blend of the ground is made of, and a document that says all of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from jagged_quilt.blend.plan import BlendPlan
from jagged_quilt.export.bundle import Bundle, write_bundle
from jagged_quilt.export.engine_scene import EngineScene
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.gltf_scene import write_gltf
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.export_scene import scene_things
from jagged_quilt.results.export_shader import SHADER_WEIGHTS, check_layers, points_read, write_source, write_weights
from jagged_quilt.results.export_weights import BITS
from jagged_quilt.results.exporter import Exporter, Written, option
from jagged_quilt.results.results import Results


@dataclass(frozen=True, kw_only=True)
class BundleFolder(Exporter):
    """Arrays, weights, heightmap, meshes with their maps, shaders, and a document that says all of it."""

    key: ClassVar[str] = "bundle"
    what: ClassVar[dict[str, str]] = {"bundle": "what each file is, and a schema of that"}
    into: Path | None = option(  # noqa: RUF009  (a field)
        None, "The folder; `bundle` among the exports where not given.", metavar="FOLDER"
    )
    weights: str = option("splat", "RGBA sheets, pairs, or masks that the shader works out.", words=SHADER_WEIGHTS)
    bits: int = option(8, "Of each channel of weights.", words=BITS)
    zstd: bool = option(True, "Arrays without compression.")

    def write(self, results: Results, folder: Path) -> Written:
        check_layers(results)
        quilt, films = results.quilt, results.quilt.films_on(GROUND)
        bundle = Bundle(
            title=quilt.table.title or quilt.path.stem,
            plan=BlendPlan.of(quilt.layers, results.arrays.open(), filter=quilt.table.bake.filter, films=films),
            arrays=results.arrays,
            terrain=quilt.terrain,
            films=films,
            lighting=quilt.lighting,
            camera=quilt.camera,
        )
        lost: list[str] = []

        def fill(stage: Path) -> Facts:
            weights = write_weights(results, stage / "weights", self.weights, self.bits)
            sheets = [f"weights/{path.name}" for path in weights if path.suffix == ".png" and not path.name.startswith("film_")]
            said: Facts = {"form": self.weights, "bits": self.bits, "texels": list(results.weights.layers.shape[:2])}
            said |= {"layers": list(results.weights.names), "files": sheets}
            shaders, average = [], points_read(results)
            for dialect in ("glsl", "essl"):
                files, shader = write_source(results, stage / "shaders" / dialect, dialect, self.weights, average)
                named = [f"shaders/{dialect}/{path.name}" for path in files]
                shaders.append({"dialect": dialect, "files": named, "left_out": list(shader.left_out)})
                lost[:] = shader.left_out
            meshes = []
            things = scene_things(results)
            for thing, (name, stem) in zip(things, stems_of([each.name for each in things]).items(), strict=True):
                write_gltf(
                    EngineScene(things=[thing], cut_out=quilt.table.seen.cut_out),
                    stage / "meshes" / f"{stem}.glb",
                )
                facts = {"parts": list(thing.mesh.part_names), "triangles": len(thing.mesh.triangles)}
                meshes.append({"name": name, "file": f"meshes/{stem}.glb", **facts})
            return {"weights": said, "shaders": shaders, "meshes": meshes}

        files = write_bundle(self.into or folder / "bundle", bundle, fill, zstd=self.zstd)
        return Written(tuple(files), lost=tuple(lost))
