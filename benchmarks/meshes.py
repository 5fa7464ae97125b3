"""What it costs to read a mesh, and to carry its own materials over into another layout.

    python benchmarks/meshes.py            about a minute
    python benchmarks/meshes.py --quick    about 6 s, once all is compiled

A wavy ground of a million triangles (a twentieth of that with --quick), with uv and normals, is written as OBJ and as GLB.
Reading each is set against NumPy reading the same positions: `np.fromstring` of the text of the OBJ file's lines "v", and
`np.frombuffer` with a copy of the bytes in the GLB file. Everything else that a mesh needs (faces, corners made unique,
tangents, checks) is on our side of the ratio only. Then a jar with tiled uv is unwrapped and its own materials are baked into
the new layout, against the kernel alone on the same points and weights. The last line is JSON.
"""

from __future__ import annotations

import argparse
import json
import tempfile
import time
import warnings
from pathlib import Path

import numpy as np
from blend import in_turn

import jagged_quilt as jq
from jagged_quilt.blend.blend import Blend
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import MapRole, stored_type


def wavy_ground(side):
    """A square of side x side places, two triangles each, with uv and normals."""
    row, column = np.mgrid[0:side, 0:side].astype(float)
    height = 3 * np.sin(column / 20) * np.cos(row / 30)
    places = np.stack([column, height, row], axis=-1).reshape(-1, 3)
    corner = np.arange(side * side).reshape(side, side)
    a, b, c, d = (each.ravel() for each in (corner[:-1, :-1], corner[1:, :-1], corner[1:, 1:], corner[:-1, 1:]))
    faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return jq.Mesh.of(places, faces, uv=places[:, [0, 2]] / (side - 1), smooth=180)


def seconds(work):
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def reading(mesh, folder):
    """Seconds to read OBJ, the numbers of its positions alone, GLB, and the bytes of its positions alone."""
    obj, glb = folder / "ground.obj", folder / "ground.glb"
    jq.export.write_mesh(mesh, obj)
    jq.export.write_mesh(mesh, glb)

    def text_of_positions():
        lines = [line[2:] for line in obj.read_bytes().split(b"\n") if line.startswith(b"v ")]
        np.fromstring(b" ".join(lines), sep=" ")

    def bytes_of_positions():
        np.frombuffer(glb.read_bytes(), np.uint8)[: 12 * len(mesh.position)].copy()

    ways = [lambda: jq.read_mesh(obj), text_of_positions, lambda: jq.read_mesh(glb), bytes_of_positions]
    return [min(seconds(way) for _ in range(2)) for way in ways]


def tiled_jar(folder):
    """A jar whose uv go three times around, with a material of its own."""
    rng = np.random.default_rng(2)
    write_image(folder / "glaze.png", rng.integers(40, 220, (256, 256, 3), np.uint8))
    shape = jq.shapes.jar(0.6, around=64, rings=80)
    uv = (shape.uv - shape.uv.min(axis=0)) / np.ptp(shape.uv, axis=0) * [3, 2]
    mesh = jq.Mesh.of(shape.position, shape.triangles, uv=uv, normal=shape.normal)
    return jq.shapes.unwrap(mesh, texels=1024)


def transfer(folder, texels, repeats):
    """Seconds to bake the jar's own material into its new layout on one thread, and for the kernel alone."""
    mesh = tiled_jar(folder)
    texture = jq.images.read_image(folder / "glaze.png")
    swatch = jq.Swatch(
        name="own", tile=1.0, relief=0.05, maps={MapRole.DIFFUSE: jq.TextureMap(role=MapRole.DIFFUSE, texels=texture)}
    )
    arrays = jq.pack([swatch], side=256).open(["own"])
    layers = [jq.Layer("own", jq.Uv(metres=1.0, detail="cheap"))]
    canvas = jq.UvCanvas(mesh, texels)
    blend, weigher = Blend(arrays, layers), jq.Weigher(layers)
    points = [piece.points for piece in canvas.block(Region.whole(canvas.texels)).pieces]
    weights = [weigher.at(each) for each in points]
    count = sum(map(len, points))
    targets = {each.role: np.zeros((count, each.role.value.channels), stored_type(each.role)) for each in blend.plan.outputs}

    def kernel_alone():
        for each, own in zip(points, weights, strict=True):
            for first in range(0, len(each), 1 << 16):
                some = slice(first, first + (1 << 16))
                blend.into(targets, each[some], own[some])

    return [
        min(each) for each in in_turn([lambda: jq.bake(canvas, layers, arrays, work=jq.Work(threads=1)), kernel_alone], repeats)
    ]


def main():
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--quick", action="store_true", help="smaller, and less often")
    quick = parser.parse_args().quick
    warnings.simplefilter("ignore", jq.QuiltWarning)
    mesh = wavy_ground(160 if quick else 708)
    with tempfile.TemporaryDirectory() as folder:
        obj, obj_text, glb, glb_bytes = reading(mesh, Path(folder))
        baked, kernel = transfer(Path(folder), 384 if quick else 1024, 2 if quick else 5)
    print(f"{len(mesh.triangles):,} triangles: OBJ {obj:.2f} s ({obj_text:.2f} s for the text of its positions), ", end="")
    print(f"GLB {glb:.2f} s ({1e3 * glb_bytes:.1f} ms for the bytes of its positions)")
    print(f"transfer {1e3 * baked:.0f} ms, the kernel alone {1e3 * kernel:.0f} ms")
    result = {
        "obj_over_numpy": round(obj / obj_text, 2),
        "gltf_over_numpy": round(glb / glb_bytes, 1),
        "transfer_over_kernel": round(baked / kernel, 3),
        "triangles": len(mesh.triangles),
        "obj_s": round(obj, 2),
        "gltf_s": round(glb, 2),
    }
    print(json.dumps(result))


if __name__ == "__main__":
    main()
