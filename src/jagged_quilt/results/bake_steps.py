"""The steps that bake the ground and the meshes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path

from jagged_quilt.arrays.mips import LARGEST_SIDE
from jagged_quilt.arrays.pack import pack
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.layer import Layer, every_swatch
from jagged_quilt.blend.samples import samples_saved
from jagged_quilt.export.driver import Driver
from jagged_quilt.export.shader_blend import baked_on
from jagged_quilt.export.vertices import write_vertices
from jagged_quilt.foundation.errors import warning_of
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.quiltfile.packing import layouts_of, material_sources
from jagged_quilt.results import inputs
from jagged_quilt.results.audits import OWN_IMAGES
from jagged_quilt.results.mesh_weights import daubs_on_mesh, mesh_weights
from jagged_quilt.results.project import Project
from jagged_quilt.results.step import Files, Step, kernels
from jagged_quilt.results.weigh_steps import before_weighing, weigh_inputs
from jagged_quilt.surfaces.uv_canvas import UvCanvas
from jagged_quilt.weights.daub_file import line_of

_SAVED_TEXELS = 512


def bake_steps(project: Project) -> list[Step]:
    """Return the steps that bake: the ground, then each mesh in the order of the file."""
    table, steps = project.quilt.table, list[Step]()
    if table.surface is not None and table.layer:
        by = ("weigh",) if table.bake.weights == "map" else before_weighing(project)
        steps.append(
            Step(
                name="bake",
                folder="bake",
                inputs=partial(_ground_inputs, project),
                make=partial(_bake_ground, project),
                needs=tuple(dict.fromkeys(("pack", *by))),
                kernels=kernels("blend weigh"),
            )
        )
    for number, mesh in enumerate(table.mesh):
        steps.append(
            Step(
                name=mesh_step(mesh.name),
                folder=f"meshes/{mesh.name.replace(' ', '_')}",
                needs=("pack",),
                inputs=partial(mesh_inputs, project, number),
                make=partial(_bake_mesh, project, number),
                kernels=kernels("blend meshes weigh"),
            )
        )
    return steps


def mesh_step(name: str) -> str:
    """Return the name of the step that bakes a mesh."""
    return f"bake {name}"


def mesh_inputs(project: Project, number: int) -> Iterator[bytes | str]:
    """Yield what the maps of a mesh depend on: the mesh as read and placed, so that all that its file names counts."""
    quilt, table, mesh = project.quilt, project.quilt.table, project.quilt.meshes[number]
    yield from (table.mesh[number].model_dump_json(), table.bake.model_dump_json(), inputs.medleys(quilt))
    yield str(quilt.loaded.heights) if table.medley and table.surface is not None else ""
    for array in (mesh.position, mesh.normal, mesh.tangent, mesh.triangles, mesh.uv, mesh.colour, mesh.layout):
        yield b"" if array is None else array.tobytes()
    yield from (str(mesh.origin), str(table.weights.time), "by shader" * project.on_gpu)
    yield from inputs.mask_files(quilt)
    yield from inputs.own_kinds(quilt)
    yield from inputs.flow_files(quilt)
    yield from inputs.films(quilt, table.mesh[number].name)
    yield from map(line_of, daubs_on_mesh(quilt, number))


def baked_ground(project: Project, texels: int | None = None, bits: int = 8) -> BakedMaps:
    """Bake the ground, of so many texels along its longer side, or as the quilt file has it."""
    table, quilt = project.quilt.table.bake, project.quilt
    baker = Baker(
        quilt.terrain.canvas(texels or project.bake_texels),
        quilt.layers,
        project.arrays,
        weights=project.weights if table.weights == "map" else project.weigher,
        normals=table.normals,
        filter=table.filter,
        eye=table.eye,
        films=quilt.films_on(GROUND),
    )
    return _over(project, baker, project.arrays, bits)


def baked_mesh(project: Project, number: int, texels: int | None = None, bits: int = 8) -> BakedMaps:
    """Bake a mesh into its layout, of so many texels along its longer side, or as the quilt file has it."""
    quilt, table, how = project.quilt, project.quilt.table.mesh[number], project.quilt.table.bake
    layers, films = quilt.layers_by_part[number], quilt.films_on(table.name)
    with quilt.of_mesh(number, "unwrap"):
        canvas = UvCanvas(quilt.meshes[number], texels or table.texels, padding=table.padding)
    arrays = _arrays_of_mesh(project, number)
    with warning_of(f'mesh "{table.name}"'):
        weights = mesh_weights(project, number)
        baker = Baker(canvas, layers, arrays, weights=weights, normals=how.normals, filter=how.filter, eye=how.eye, films=films)
        return _over(project, baker, arrays, bits)


def mesh_options(project: Project, number: int) -> Facts:
    """Return what the quilt file says of baking a mesh, as options of `bake`."""
    how, films = project.quilt.table.bake, project.quilt.films_on(project.quilt.table.mesh[number].name)
    weights = mesh_weights(project, number)
    return {"filter": how.filter, "eye": how.eye, "films": films, "weights": weights, "work": project.work}


def _ground_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield what the maps of the ground depend on, beside its weights and arrays."""
    quilt, table = project.quilt, project.quilt.table
    if table.bake.weights != "map":
        yield from weigh_inputs(project)
    yield from (inputs.layers_said(quilt), table.bake.model_dump_json())
    yield from (str(project.bake_texels), str(table.weights.time), "by shader" * project.on_gpu)
    yield from inputs.flow_files(quilt)
    yield from inputs.films(quilt, GROUND)
    yield from inputs.own_kinds(quilt)
    if quilt.films_on(GROUND):
        yield from inputs.mask_files(quilt)


def _bake_ground(project: Project, folder: Path, _anew: bool) -> Files:
    return Files(tuple(baked_ground(project).save(folder, work=project.work)), _saved_words(project))


def _bake_mesh(project: Project, number: int, folder: Path, _anew: bool) -> Files:
    quilt, table = project.quilt, project.quilt.table.mesh[number]
    mesh, layers = quilt.meshes[number], quilt.layers_by_part[number]
    measured = uv_words(mesh, layers)
    if table.into == "vertices":
        files = write_vertices(mesh, layers, project.arrays, folder, **mesh_options(project, number))
        return Files(tuple(files), "; ".join(filter(None, (f"{len(mesh.position):,} vertices coloured", measured))))
    made = baked_mesh(project, number)
    assert made.cover is not None
    covered = f"{100 * made.cover.covered.mean():.1f} % of the layout covered"
    files = made.save(folder, work=project.work)
    if table.unwrap:  # maps for a layout are of no use without it
        files.append(write_mesh(mesh.by_layout(), folder / "mesh.glb"))
    return Files(tuple(files), "; ".join(filter(None, (covered, measured))))


def _over(project: Project, baker: Baker, arrays: TextureArrays, bits: int) -> BakedMaps:
    """Bake the whole canvas, by the kernel or by a shader."""
    if not project.on_gpu:
        return baker.over(baker.canvas, bits=bits, work=project.work)
    with Driver() as driver:
        project.device = driver.name
        return baked_on(driver, baker, arrays, bits=bits, work=project.work)


def _arrays_of_mesh(project: Project, number: int) -> TextureArrays:
    """Return the arrays to bake a mesh from: the quilt's own, or larger ones where the mesh's own maps are larger."""
    quilt, table = project.quilt, project.quilt.table.arrays
    layers = [layer for own in quilt.layers_by_part[number].values() for layer in own]
    shown = set(every_swatch(layers))
    own_sources = material_sources(quilt, project.folder / OWN_IMAGES)
    largest = max((each.largest_side for each in own_sources if each.name in shown), default=1)
    side = min(LARGEST_SIDE, 1 << (largest - 1).bit_length())
    if side <= table.side:
        return project.arrays
    sources = [each for each in project.sources if each.name in shown]
    layouts = layouts_of(quilt, sources)
    return pack(sources, side=side, layouts=layouts, mips=table.mips, work=project.work)


def _saved_words(project: Project) -> str:
    """How many samples the limits of triplanar layers save, where there are such limits."""
    layers, terrain = project.quilt.layers, project.quilt.terrain
    if not any(each.projection.is_limited for each in layers):
        return ""
    points = terrain.points(terrain.layout(_SAVED_TEXELS))
    saved = samples_saved(project.arrays, layers, points, project.weights.at(points))
    return f"limits of triplanar layers save {100 * saved:.1f} % of samples"


def uv_words(mesh: Mesh, layers: Mapping[str, Sequence[Layer]]) -> str:
    """Return what was measured where a layer goes by uv and does not say what their unit stands for; else nothing."""
    measured = {
        part.name: mesh.metres_of(part)
        for part in mesh.parts
        if any(layer.projection.unit_is_measured for layer in layers[part.name])
    }
    if not measured:
        return ""
    low, high = min(measured.values()), max(measured.values())
    return f"one unit of uv measures {low:.3g}" + (f" to {high:.3g} m" if high > 1.001 * low else " m")
