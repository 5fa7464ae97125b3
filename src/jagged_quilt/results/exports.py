"""What is written of a quilt for other programs, on request: weights, maps, meshes, scenes, shaders, materials."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from jagged_quilt.baking.baked_maps import BakedMaps, open_baked
from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.plan import BlendPlan
from jagged_quilt.export.bundle import Bundle, write_bundle
from jagged_quilt.export.engine_maps import Conventions, engine_maps
from jagged_quilt.export.engine_scene import EngineScene, SceneThing, ground_thing, mesh_thing
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.gltf_scene import write_gltf
from jagged_quilt.export.light_shader import light_shader, write_light
from jagged_quilt.export.mask_shader import LiveWeights, live_weights
from jagged_quilt.export.materialx import write_materialx
from jagged_quilt.export.shader import BlendShader, blend_shader, write_shader
from jagged_quilt.export.splat_sheets import whole_weight, write_live, write_masks, write_pairs, write_splat
from jagged_quilt.export.tiled import Tiled, tiled_parts, why_baked
from jagged_quilt.export.usd_scene import write_usd
from jagged_quilt.export.vertices import coloured_mesh
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.loose import Facts, Stored
from jagged_quilt.maps.image_files import write_image
from jagged_quilt.maps.roles import OPTIONAL_ROLES
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.quilt import GROUND
from jagged_quilt.results.results import Results
from jagged_quilt.results.step import Made
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh
from jagged_quilt.weights.channel import mask_map
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap

WEIGHT_FORMS = {"splat": write_splat, "pairs": write_pairs, "masks": write_masks}
_ALIKE = 1.5 / 255  # by which weights differ that are rounded
_LOOKED_AT = 512  # texels along the longer side, for an average over the ground
_MOST_OF_FILM = 4096  # texels along the longer side
_FINER = 4  # than a terrain's samples lie apart is its mesh, where nobody says how far it may lie from them


def export_weights(results: Results, forms: Sequence[str], bits: int = 8) -> Made:
    """Write the weight map as other programs read it: any of `WEIGHT_FORMS`."""
    folder = results.folder / "export"
    writers: list[Callable[..., list[Path]]] = [WEIGHT_FORMS[known_name("form", form, WEIGHT_FORMS)] for form in forms]
    return Made(folder, tuple(file for write in writers for file in write(results.weights, folder, bits=bits)), fresh=True)


def export_channels(results: Results, bits: int = 8) -> Made:
    """Write how much there is of each channel over the ground, a grey image each."""
    if not results.quilt.channels:
        raise RangeError(f"{results.quilt.path}: there is no channel; write a [[channel]]")
    folder = results.folder / "export"
    return Made(folder, tuple(results.write_channels(folder, bits)), fresh=True)


def export_shader(results: Results, dialect: str, form: str = "splat", bits: int = 8) -> tuple[Made, BlendShader]:
    """Write the blend of the ground as shader source, with the weights, as splat sheets or pairs, and films that it reads."""
    folder = results.folder / "export"
    files, shader = _write_shader(results, folder, dialect, form, _places_read(results))
    files += _write_weights(results, folder, form, bits)
    return Made(folder, tuple(files), fresh=True), shader


def _write_shader(results: Results, folder: Path, dialect: str, form: str, average: float) -> tuple[list[Path], BlendShader]:
    """Write the blend of the ground, and the light of the view, as shader source."""
    quilt, arrays = results.quilt, results.arrays
    how: Facts = {"dialect": dialect, "weights": form, "filter": quilt.table.bake.filter, "average": average}
    title = quilt.table.title or quilt.path.stem
    if form == "live":
        how["weights"] = _live(results)
    shader = blend_shader(arrays, quilt.layers, films=quilt.films_on(GROUND), title=title, **how)
    light = light_shader(quilt.lighting, coat=any(role in OPTIONAL_ROLES for layout in arrays.layouts for role in layout.roles))
    files = [*write_shader(folder, shader), *write_light(folder, light)]
    return files, replace(shader, left_out=(*shader.left_out, *light.left_out))


def _places_read(results: Results) -> float:
    """How many planes of layers a pixel reads on average over the ground."""
    quilt = results.quilt
    if not quilt.layers:
        raise RangeError(f"{quilt.path}: there is no layer to blend; write a [surface] and [[layer]]")
    terrain = quilt.terrain
    points = terrain.points(terrain.layout(_LOOKED_AT))
    blend = Blend(results.arrays, quilt.layers, filter=quilt.table.bake.filter)
    return float(blend.survey(points, results.weights.at(points)).reads.mean())


def _write_weights(results: Results, folder: Path, form: str, bits: int) -> list[Path]:
    """Write the weights in a form, and how much there is of each film."""
    files = _write_live(results, folder, bits) if form == "live" else [*WEIGHT_FORMS[form](results.weights, folder, bits=bits)]
    own = max(results.weights.layers.shape[:2])
    canvas = results.quilt.terrain.canvas(max(own, min(results.bake_texels, _MOST_OF_FILM)))  # as fine as a bake asks them
    for number, film in enumerate(results.quilt.films_on(GROUND)):
        files.append(folder / f"film_{number}.png")
        write_image(files[-1], mask_map(canvas, film.mask, threads=results.threads))
    return files


def _live(results: Results) -> LiveWeights:
    """The masks of the ground as shader source."""
    adopted = () if results.adopted is None else results.adopted.names
    stacking, painted = results.quilt.table.weights.stacking, len(results.quilt.daubs) > 0
    return live_weights(results.layers, stacking=stacking, adopted=adopted, painted=painted)


def _write_live(results: Results, folder: Path, bits: int) -> list[Path]:
    """Write what live weights read: masks that the shader cannot work out, adopted weights, and weights where daubs lie."""
    live, how = _live(results), {"bits": bits, "threads": results.threads, "progress": results.progress}
    size = results.weights.layers.shape[:2]
    canvas = results.quilt.terrain.canvas(size)
    told = [mask_map(canvas, mask, **how) for mask in live.told]  # type: ignore[arg-type]
    adopted = []
    if results.adopted is not None:
        own = results.adopted.in_bits(bits)
        adopted = [whole_weight(own, number) for number in range(len(own.names))]
    files = write_live(live, folder, told, adopted)
    if live.is_painted:
        without = weigh(canvas, results.layers, **(results.weigh_options | {"daubs": ()}))
        files += [*write_splat(results.weights, folder, bits=bits), folder / "painted_weights.png"]
        write_image(files[-1], _apart(results.weights, without))
    return files


def _apart(one: WeightMap, other: WeightMap) -> Stored:
    """Where two weight maps differ, or one beside it does, white; (H, W) uint8."""
    from scipy.ndimage import binary_dilation

    differ = np.zeros(one.layers.shape[:2], bool)
    for name in one.names:
        differ |= np.abs(one.layer(name) - other.layer(name)) > _ALIKE
    return binary_dilation(differ, iterations=2).astype(np.uint8) * 255


def export_bundle(results: Results, folder: Path, *, form: str = "splat", bits: int = 8, zstd: bool = True) -> Made:
    """Write a folder with all that the blend of the ground is made of: arrays, weights, heightmap, meshes with their maps,
    shaders, and a document that tells all of it; see `write_bundle`."""
    quilt = results.quilt
    if not quilt.layers:
        raise RangeError(f"{quilt.path}: there is no layer to blend; write a [surface] and [[layer]]")
    films = quilt.films_on(GROUND)
    plan = BlendPlan.of(quilt.layers, results.arrays.open(), filter=quilt.table.bake.filter, films=films)
    title = quilt.table.title or quilt.path.stem
    bundle = Bundle(
        title=title,
        plan=plan,
        arrays=results.arrays,
        terrain=quilt.terrain,
        films=films,
        lighting=quilt.lighting,
        camera=quilt.camera,
    )

    def fill(stage: Path) -> Facts:
        weights = _write_weights(results, stage / "weights", form, bits)
        sheets = [f"weights/{path.name}" for path in weights if path.suffix == ".png" and not path.name.startswith("film_")]
        told: Facts = {"form": form, "bits": bits, "texels": list(results.weights.layers.shape[:2])}
        told |= {"layers": list(results.weights.names), "files": sheets}
        shaders, average = [], _places_read(results)
        for dialect in ("glsl", "essl"):
            files, shader = _write_shader(results, stage / "shaders" / dialect, dialect, form, average)
            named = [f"shaders/{dialect}/{path.name}" for path in files]
            shaders.append({"dialect": dialect, "files": named, "left_out": list(shader.left_out)})
        meshes = []
        things = engine_things(results)
        for thing, (name, stem) in zip(things, stems_of([each.name for each in things]).items(), strict=True):
            write_gltf(EngineScene(things=[thing], cut_out=quilt.cut_out), stage / "meshes" / f"{stem}.glb")
            parts = list(thing.mesh.part_names)
            meshes.append({"name": name, "file": f"meshes/{stem}.glb", "parts": parts, "triangles": len(thing.mesh.triangles)})
        return {"weights": told, "shaders": shaders, "meshes": meshes}

    files = write_bundle(folder, bundle, fill, zstd=zstd)
    return Made(folder, tuple(files), fresh=True)


def export_terrain(results: Results, error: float, near: float | None = None) -> Made:
    """Write the terrain as a mesh within `error` metres of its samples; with `near`, finer about the camera of the view."""
    quilt, folder = results.quilt, results.folder / "export"
    mesh = terrain_mesh(quilt.terrain, error, camera=None if near is None else quilt.camera.position, near=near or 50.0)
    rows, columns = quilt.terrain.heights.shape
    told = f"{len(mesh.triangles):,} triangles; all samples would take {2 * (rows - 1) * (columns - 1):,}"
    return Made(folder, (write_mesh(mesh, folder / "terrain.glb"),), fresh=True, remark=told)


def export_maps(
    results: Results, conventions: Conventions, *, texels: int | None = None, swatches: bool = False
) -> tuple[Made, list[str]]:
    """Write the maps of the ground and the meshes, or of the swatches, as an engine wants them; and say what is lost."""
    folder, files, lost = results.folder / "export" / ("swatches" if swatches else "maps"), list[Path](), list[str]()
    named = (
        {each.name: each for each in results.quilt.swatches} if swatches else dict(_baked(results, texels, conventions.bits))
    )
    for name, stem in stems_of([*named]).items():
        given = named[name]
        maps = engine_maps(given, conventions, texels=texels if isinstance(given, Swatch) else None)
        files += maps.save(folder / stem)
        lost += [f'"{name}": {maps.lost}'] if maps.lost else []
    return Made(folder, tuple(files), fresh=True), lost


def export_materialx(results: Results, bits: int = 8) -> tuple[Made, list[str]]:
    """Write MaterialX documents of all swatches, and of what is baked; and say what is lost."""
    folder, materials = results.folder / "export" / "materialx", dict[str, BakedMaps | Swatch]()
    if any(name in results.runner.steps for name in ("bake", *results.mesh_steps)):
        materials |= dict(_baked(results, None, bits))
    for each in results.quilt.swatches:
        materials[f"{each.name} swatch" if each.name in materials else each.name] = each
    files, lost = write_materialx(folder, materials, bits=bits)
    return Made(folder, tuple(files), fresh=True), list(lost)


def export_scene(
    results: Results,
    form: str,
    *,
    error: float | None = None,
    texels: int | None = None,
    metallic: bool = False,
    tiled: bool = False,
) -> tuple[Made, list[str]]:
    """Write the ground and the meshes with their maps, lamps and the camera of the view: "glb", "gltf", "usda" or "usdc".

    Parameters
    ----------
    error : float, optional
        Metres that the ground may lie from its samples; a quarter of how far apart these lie where it is not given.
    tiled : bool
        Whether parts of meshes that show one swatch by their uv have its maps in place of baked ones; for glTF.
    """
    quilt = results.quilt
    scene = EngineScene(
        things=engine_things(results, ground=True, error=error, texels=texels, tiled=tiled),
        lighting=quilt.lighting,
        camera=quilt.camera,
        cut_out=quilt.cut_out,
    )
    folder = results.folder / "export" / ("" if form == "glb" else f"scene_{form}")
    path = folder / f"scene.{known_name('form of a scene', form, ('glb', 'gltf', 'usda', 'usdc'))}"
    files, lost = write_usd(scene, path) if form.startswith("usd") else write_gltf(scene, path, metallic=metallic)
    triangles = sum(len(thing.mesh.triangles) for thing in scene.things)
    lamps = len(scene.lighting.lights) if scene.lighting else 0
    lost = (*lost, *(_baked_in_spite(results) if tiled else ()))
    told = f"things: {len(scene.things)}, of {triangles:,} triangles; lamps: {lamps}"
    return Made(folder, tuple(files), fresh=True, remark=told), list(lost)


def engine_things(
    results: Results,
    *,
    ground: bool = False,
    error: float | None = None,
    texels: int | None = None,
    tiled: bool = False,
) -> list[SceneThing]:
    """Return the meshes with their maps; with `ground`, that before them."""
    quilt, things = results.quilt, list[SceneThing]()
    baked = dict(_baked(results, texels, 8, ground=ground))
    if ground and GROUND in baked:
        far = min(quilt.terrain.spacing) / _FINER if error is None else error
        things.append(ground_thing(quilt.terrain, baked[GROUND], far, name=GROUND, threads=results.threads))
    for number, (table, mesh) in enumerate(zip(quilt.table.mesh, quilt.meshes, strict=True)):
        if table.name not in baked:
            mesh = coloured_mesh(mesh, quilt.layers_by_part[number], results.arrays, **results.mesh_options(number))
        alone = _tiled(results, number) if tiled and not quilt.films_on(table.name) else {}
        things.append(mesh_thing(mesh, baked.get(table.name), name=table.name, tiled=alone, threads=results.threads))
    return things


def _baked_in_spite(results: Results) -> list[str]:
    """What is baked though swatches were to keep their tiles, a line each, with the reason."""
    out = []
    for number, (table, mesh) in enumerate(zip(results.quilt.table.mesh, results.quilt.meshes, strict=True)):
        why = why_baked(mesh, results.quilt.layers_by_part[number])
        if results.quilt.films_on(table.name):
            why = {part.name: "a film lies on it" for part in mesh.parts}
        out += [f'the tile of "{table.name}", part "{part}": {reason}; baked instead' for part, reason in why.items()]
    return out


def _tiled(results: Results, number: int) -> dict[str, Tiled]:
    """The parts of a mesh that need no baked maps."""
    layers = results.quilt.layers_by_part[number]
    shown = {layer.swatch for own in layers.values() for layer in own}
    swatches = {source.name: source.read() for source in results.sources if source.name in shown}
    return tiled_parts(results.quilt.meshes[number], layers, swatches)


def _baked(results: Results, texels: int | None, bits: int, *, ground: bool = True) -> Iterator[tuple[str, BakedMaps]]:
    """Yield the maps of the ground and of each mesh that has maps: as its step left them, or baked now where they are to have
    another size, or more bits."""
    there = 0 if ground else 1
    if ground and "bake" in results.runner.steps:
        there += 1
        as_it_is = bits == 8 and texels in (None, results.bake_texels)
        yield GROUND, open_baked(results.run("bake").folder) if as_it_is else results.baked_ground(texels, bits)
    for number, table in enumerate(results.quilt.table.mesh):
        there += 1
        if table.into != "vertices":
            as_it_is = bits == 8 and texels in (None, table.texels)
            step = results.mesh_steps[number]
            yield table.name, open_baked(results.run(step).folder) if as_it_is else results.baked_mesh(number, texels, bits)
    if not there:
        raise RangeError(f"{results.quilt.path}: there is nothing to bake; say a [surface] with its [[layer]]s, or a [[mesh]]")
