"""`jquilt export`"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels, report, timed

if TYPE_CHECKING:
    from jagged_quilt.foundation.progress import Progress
    from jagged_quilt.results.results import Results
    from jagged_quilt.results.step import Made

_SHADER = {
    "blend": "the blend: functions, numbers, and what lies where in these",
    "ground": "a program that draws the ground with it",
    "light": "the light of the view: functions and lamps",
    "thrown_back": "how much of all light a rough surface throws back",
    "sky_light": "the sky's mirror images by roughness, and what it sheds",
}
_AS = ["green-down", "gloss", "metallic", "occlusion-roughness-metallic"]


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """What is to be written, and how."""

    forms: tuple[str, ...]
    masks: str | None
    bits: str
    channels: bool
    shader: str | None
    maps: bool
    swatches: bool
    conventions: tuple[str, ...]
    side: int | None
    scene: str | None
    tiled: bool
    materialx: bool
    bundle: Path | None
    no_zstd: bool
    error: float | None
    near: float | None

    def check(self) -> None:
        """Raise `RangeError` if options are said without what they are for."""
        from jagged_quilt.foundation.errors import RangeError

        if self.near is not None and (self.error is None or self.scene):
            raise RangeError("--near is said with --terrain, and not of a --scene")
        if self.conventions and not (self.maps or self.swatches or self.scene):
            raise RangeError("--as says how --maps, --swatches or a --scene are written; name one of them")
        if self.scene and set(self.conventions) - {"metallic"}:
            raise RangeError("a scene is written as its standard has it; of --as only metallic is a choice")
        if self.side is not None and not (self.maps or self.swatches or self.scene):
            raise RangeError("--texels says how large --maps, --swatches or those of a --scene are; name one of them")
        if self.masks == "live" and not self.shader:
            raise RangeError("--masks live is said of a --shader")
        if (self.shader or self.bundle) and (self.masks == "grey" or len(self.forms) + (self.masks is not None) > 1):
            raise RangeError("a shader reads weights as splat sheets, as pairs, or has masks live; name one of them")
        if self.tiled and self.scene not in ("glb", "gltf"):
            raise RangeError("--tiled is said of a --scene glb or gltf")
        if self.no_zstd and not self.bundle:
            raise RangeError("--no-zstd is said of a --bundle")

    @property
    def weights_alone(self) -> bool:
        """Whether weights are asked for: they are where nothing else is."""
        others = self.channels or self.maps or self.swatches or self.scene or self.materialx or self.error is not None
        return not (self.shader or self.bundle) and bool(self.forms or self.masks or not others)

    @property
    def weight_forms(self) -> tuple[str, ...]:
        """The forms of weights that are asked for; splat sheets where none is."""
        return (*self.forms, *(["masks"] if self.masks == "grey" else [])) or ("splat",)


@click.command("export")
@quilt_options
@click.option("--splat", "forms", flag_value="splat", multiple=True, help="Weights as RGBA sheets, a layer in each channel.")
@click.option("--pairs", "forms", flag_value="pairs", multiple=True, help="Weights as four layer numbers and four weights.")
@click.option(
    "--masks",
    is_flag=False,
    flag_value="grey",
    type=click.Choice(["grey", "live"]),
    help='Weights as a grey image for each layer; "live", with --shader: worked out in it where they can be.',
)
@click.option("--channels", is_flag=True, help="Each channel as a grey image.")
@click.option("--maps", is_flag=True, help="The baked maps of the ground and the meshes.")
@click.option("--swatches", is_flag=True, help="The maps of the swatches.")
@click.option("--as", "conventions", multiple=True, type=click.Choice(_AS), help="How maps are written; may be said again.")
@click.option(
    "--texels", "side", type=click.IntRange(1, 1 << 15), help="Along the longer side of maps; as they are where not given."
)
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", show_default=True, help="Of each channel.")
@click.option(
    "--terrain",
    "error",
    type=float,
    metavar="METRES",
    help="The terrain as terrain.glb, or of a --scene: at most so far from it.",
)
@click.option("--near", type=float, metavar="METRES", help="With --terrain: from the camera of the view, beyond this, coarser.")
@click.option("--scene", type=click.Choice(["glb", "gltf", "usda", "usdc"]), help="Ground, meshes, maps and lamps as a scene.")
@click.option("--tiled", is_flag=True, help="With --scene glb or gltf: what lies by uv alone keeps its tile, and is not baked.")
@click.option("--materialx", is_flag=True, help="The swatches, and what is baked, as MaterialX documents.")
@click.option("--shader", type=click.Choice(["glsl", "essl"]), help="The blend as shader source, and the sheets that it reads.")
@click.option("--bundle", type=click.Path(path_type=Path), metavar="FOLDER", help="All of it, with a document that tells it.")
@click.option("--no-zstd", is_flag=True, help="With --bundle: arrays without compression.")
def command(named: Named, **wanted: object) -> None:
    """Write for other programs: weights, as splat sheets where nothing is chosen; maps, meshes, scenes, materials; the blend as
    shader source; or a bundle of all of it."""
    asked = Wanted(**wanted)  # type: ignore[arg-type]
    with at_work() as progress, timed() as seconds:
        results = named.open(progress)
        asked.check()
        for made, lines, words in _written(results, asked, progress):
            report(made, seconds(), words)
            for line in lines:
                click.echo(f"  {line}")


def _written(results: Results, asked: Wanted, progress: Progress) -> list[tuple[Made, list[str], dict[str, str]]]:
    """Write what is asked for; return of each what was made, what is to be said, and what its files are."""
    from jagged_quilt.export.engine_maps import Conventions
    from jagged_quilt.results import exports

    bits, out = int(asked.bits), list[tuple["Made", list[str], dict[str, str]]]()
    if asked.error is not None and not asked.scene:
        out.append((exports.export_terrain(results, asked.error, asked.near), [], {}))
    if asked.channels:
        out.append((exports.export_channels(results, bits), [], {}))
    if asked.maps or asked.scene or asked.materialx or asked.bundle:
        ready_kernels(
            results, ["bake", *results.mesh_steps] if "bake" in results.runner.steps else results.mesh_steps, progress
        )
    said = set(asked.conventions)
    how = Conventions(
        green_down="green-down" in said,
        gloss="gloss" in said,
        metallic=bool(said & {"metallic", "occlusion-roughness-metallic"}),
        packed="occlusion-roughness-metallic" in said,
        bits=bits,
    )
    for of_swatches in [each for each, there in ((False, asked.maps), (True, asked.swatches)) if there]:
        made, lost = exports.export_maps(results, how, texels=asked.side, swatches=of_swatches)
        out.append((made, lost, {}))
    if asked.materialx:
        made, lost = exports.export_materialx(results, bits)
        out.append((made, lost, {}))
    if asked.scene:
        how_large = {"error": asked.error, "texels": asked.side, "metallic": how.metallic, "tiled": asked.tiled}
        made, lost = exports.export_scene(results, asked.scene, **how_large)  # type: ignore[arg-type]
        out.append((made, [f"left out: {line}" for line in lost], {}))
    form = "live" if asked.masks == "live" else asked.weight_forms[0]
    if asked.shader is not None:
        ready_kernels(results, ["pack", "weigh"], progress)
        made, source = exports.export_shader(results, asked.shader, form, bits)
        told = source.source.partition("// Cost of a pixel\n")[2].partition("\n\n")[0].splitlines()
        lines = [line.removeprefix("//").strip() for line in told]
        out.append((made, [*lines, *(f"left out: {line}" for line in source.left_out)], _SHADER))
    if asked.bundle is not None:
        made = exports.export_bundle(results, asked.bundle, form=form, bits=bits, zstd=not asked.no_zstd)
        out.append((made, [], {"bundle": "what each file is, and a schema of that"}))
    if asked.weights_alone:
        ready_kernels(results, ["weigh"], progress)
        made = exports.export_weights(results, asked.weight_forms, bits)
        out.append((made, _places(results, asked.weight_forms), {}))
    return out


def _places(results: Results, forms: tuple[str, ...]) -> list[str]:
    """Which layer is where."""
    lines, names = ["which layer is where:"], results.weights.names
    if "splat" in forms:
        for first in range(0, len(names), 4):
            four = [f"{channel} {name}" for channel, name in zip("RGBA", names[first : first + 4], strict=False)]
            lines.append(f"splat_{first // 4}.png: {', '.join(four)}")
    if "pairs" in forms:
        lines.append("pairs: " + ", ".join(f"{number} {name}" for number, name in enumerate(names)))
    return lines
