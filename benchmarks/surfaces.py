"""What it costs to go from triangles to points, beside the blend kernel alone, and how textures lie.

    python benchmarks/surfaces.py            two or three minutes
    python benchmarks/surfaces.py --quick    under 40 s, once all is compiled

A bumpy ball of 340,000 triangles without uv is blended at its vertices, and one of 100,000 baked into its uv: 4 layers,
triplanar, by height bands and by a weight map. Both against the kernel on the same points and weights in the same run.
Then: texels that a triangle touches and the rasteriser misses (none), the stretch of textures on the demo's risers, and how
far the cheap way of laying slopes lies from the exact one. The last line is JSON.
"""

from __future__ import annotations

import argparse
import json
import tempfile
from pathlib import Path

import numpy as np
from blend import in_turn, swatches

import jagged_quilt as jq
from jagged_quilt.blend.blend import Blend
from jagged_quilt.demo.project import write_project
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.maps.roles import MapRole, stored_type
from jagged_quilt.show.riser import stretch_of

CHUNK = 1 << 16


def bumpy_ball(around, down, *, with_uv):
    """A ball of 2 m, dented by noise; its uv, if any, over one image."""
    ball = jq.shapes.sphere(2.0, around=around, down=down)
    dent = noise_at(ball.position, size=0.9, octaves=4, seed=3)
    where = ball.position + ball.normal * (0.5 * (dent[:, None] - 0.5))
    uv = 0.01 + 0.98 * (ball.uv - ball.uv.min(axis=0)) / np.ptp(ball.uv, axis=0) if with_uv else None
    return jq.Mesh.of(where, ball.triangles, uv=uv, smooth=180)


def four_layers():
    """Bands of height that fade into each other."""
    bands = [None, *(jq.HeightBand(-0.8 + 0.9 * n, 9.0, fade=0.5) for n in range(3))]
    return [jq.Layer(f"swatch {n}", jq.Triplanar(4), softness=0.4, mask=mask) for n, mask in enumerate(bands)]


def chunks(count):
    return [slice(first, min(first + CHUNK, count)) for first in range(0, count, CHUNK)]


def at_vertices(mesh, arrays, repeats):
    """Seconds for points, weights and blend at every vertex, and for the blend alone."""
    layers = four_layers()
    blend, weigher = Blend(arrays, layers), jq.Weigher(layers)

    def whole():
        points = mesh.points()
        for part in chunks(len(points)):
            blend.at(points[part], weigher.at(points[part]))

    points = mesh.points()
    weights = [weigher.at(points[part]) for part in chunks(len(points))]

    def alone():
        for part, own in zip(chunks(len(points)), weights, strict=True):
            blend.at(points[part], own)

    return (min(each) for each in in_turn([whole, alone], repeats))


def into_uv(mesh, arrays, side, repeats):
    """Seconds for a bake into uv by a weight map, and for the kernel alone on the same texels."""
    patches = [None, *(jq.Noise(size=0.7, octaves=2, seed=n, threshold=0.6, range=1.2) for n in range(3))]
    layers = [jq.Layer(f"swatch {n}", jq.Triplanar(4), softness=0.4, mask=mask) for n, mask in enumerate(patches)]
    blend, weight_map = Blend(arrays, layers), jq.weigh(jq.UvCanvas(mesh, side // 2), layers)
    canvas = jq.UvCanvas(mesh, side).asking(gradients=False, steps=False)
    pieces = [piece.points for region in canvas.blocks(32 * side) for piece in canvas.block(region).pieces]
    weights = [weight_map.at(points) for points in pieces]
    print(f"{np.mean([(own.weights > 0).sum(axis=1).mean() for own in weights]):.2f} layers at a texel of the uv bake")
    room = lambda count: {role: np.zeros((count, role.value.channels), stored_type(role)) for role in jq.SURFACE_ROLES}
    targets = [room(len(points)) for points in pieces]

    def alone():
        for points, own, target in zip(pieces, weights, targets, strict=True):
            blend.into(target, points, own)

    whole = lambda: jq.bake(jq.UvCanvas(mesh, side, padding=16), layers, arrays, weights=weight_map, work=jq.Work(threads=1))
    return (*(min(each) for each in in_turn([whole, alone], repeats)), sum(map(len, pieces)))


def missed_texels(triangles, side=64, seed=0):
    """Texels that random triangles touch, by cutting each with each, and that are not covered."""
    rng = np.random.default_rng(seed)
    missed = touched = 0
    for _ in range(triangles):
        corners = rng.uniform(0, 1, 2) + rng.normal(0, 10 ** rng.uniform(-3, -0.5), (3, 2))
        corners = np.clip(corners, 0, 1)
        try:
            mesh = jq.Mesh.of(np.column_stack([corners, np.zeros(3)]), [[0, 1, 2]], uv=corners)
            canvas = jq.UvCanvas(mesh, side)
            pieces = canvas.block(Region.whole(canvas.texels)).pieces
        except jq.QuiltError:  # no area
            continue
        covered = np.zeros(side * side, bool)
        for piece in pieces:
            piece.where.put(covered, np.ones(len(piece.points), bool))
        truth = cut_area(corners * side, side) > 1e-9
        touched += int(truth.sum())
        missed += int((truth.ravel() & ~covered).sum())
    return missed, touched


def cut_area(corners, side):
    """The area that a triangle shares with each texel, by clipping it to the texel's square, (side, side)."""
    out = np.zeros((side, side))
    low, high = np.floor(corners.min(axis=0)).astype(int), np.ceil(corners.max(axis=0)).astype(int)
    for row in range(max(0, low[1]), min(side, high[1] + 1)):
        for column in range(max(0, low[0]), min(side, high[0] + 1)):
            shape = corners
            for axis, bound, keep in ((0, column, 1), (0, column + 1, -1), (1, row, 1), (1, row + 1, -1)):
                inside = keep * (shape[:, axis] - bound)
                kept = []
                for i in range(len(shape)):
                    a, b, da, db = shape[i - 1], shape[i], inside[i - 1], inside[i]
                    if (da < 0) != (db < 0):
                        kept.append(a + (b - a) * (da / (da - db)))
                    if db >= 0:
                        kept.append(b)
                shape = np.array(kept).reshape(-1, 2)
                if len(shape) < 3:
                    break
            if len(shape) >= 3:
                x, y = shape.T
                out[row, column] = abs(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1))) / 2
    return out


def slopes_apart(arrays):
    """Degrees between normals with exact and with cheap detail, where textures are stretched: mean and 99th percentile."""
    steep = np.radians(np.linspace(0, 75, 4000))
    normal = np.column_stack([np.sin(steep), np.cos(steep), np.zeros_like(steep)])
    places = np.random.default_rng(0).uniform(0, 50, (4000, 3))
    points = jq.Points.of(places, normal, footprint=0.01)
    one = jq.PointWeights.all_of("swatch 0", 4000)
    layers = [[jq.Layer("swatch 0", jq.Planar(detail=detail))] for detail in ("exact", "cheap")]
    seen = [Blend(arrays, own).at(points, one, normals="world")[MapRole.NORMAL] for own in layers]
    apart = np.degrees(np.arccos(np.clip(np.einsum("nd,nd->n", *seen), -1, 1)))
    return apart.mean(), np.percentile(apart, 99)


def riser_stretch():
    """The 99th percentile of stretch on the demo's ground above 45 degrees, planar and triplanar."""
    with tempfile.TemporaryDirectory() as folder:
        terrain = jq.read_quilt(write_project(Path(folder) / "demo", texels=16)).terrain
        points = terrain.points(terrain.layout(1024))
    steep = points[points.normal[:, 1] < np.cos(np.pi / 4)]
    return [float(np.percentile(stretch_of(steep, each), 99)) for each in (jq.Planar(), jq.Triplanar(4))]


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="smaller meshes and images, fewer repeats")
    quick = parser.parse_args().quick
    repeats = 3 if quick else 7
    arrays = jq.pack(swatches(4), side=512, layouts=("diffuse_height", "normal_roughness_occlusion"))
    mesh = bumpy_ball(584 if not quick else 292, 292 if not quick else 146, with_uv=False)
    whole, alone = at_vertices(mesh, arrays, repeats)
    count = len(mesh.position)
    print(
        f"{len(mesh.triangles):,} triangles, {count:,} vertices: points, weights and blend {1e9 * whole / count:.0f} ns "
        f"a vertex, the blend alone {1e9 * alone / count:.0f} ns: {whole / alone:.2f} x"
    )
    side = 1024 if quick else 2048
    mesh = bumpy_ball(224, 225, with_uv=True)
    baked, kernel, texels = into_uv(mesh, arrays, side, repeats)
    print(
        f"{len(mesh.triangles):,} triangles into {side} x {side}, {texels:,} texels covered, 1 thread: bake {baked:.2f} s, "
        f"the kernel alone {kernel:.2f} s: {baked / kernel:.2f} x"
    )
    missed, touched = missed_texels(60 if quick else 400)
    print(f"of {touched:,} texels that random triangles touch, {missed} were missed")
    mean, high = slopes_apart(arrays)
    print(
        f"planar up to 75 degrees of slope: cheap detail lies {mean:.1f} degrees from exact on average, {high:.1f} at the "
        "99th percentile"
    )
    planar, triplanar = riser_stretch()
    print(f"stretch on the demo's risers, 99th percentile: planar {planar:.2f}, triplanar {triplanar:.2f}")
    print(
        json.dumps(
            {
                "vertex_points_over_kernel": round(whole / alone, 3),
                "uv_bake_over_kernel": round(baked / kernel, 3),
                "missed_texels": missed,
                "cheap_detail_degrees": round(float(mean), 2),
                "stretch_planar_p99": round(planar, 3),
                "stretch_triplanar_p99": round(triplanar, 3),
            }
        )
    )


if __name__ == "__main__":
    main()
