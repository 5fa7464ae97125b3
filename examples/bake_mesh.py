"""Bake the layers of the demo's jar into its own uv, and look at it with and without.

    python examples/bake_mesh.py saltworks out

`saltworks` is the folder that `jquilt demo saltworks` wrote.
"""

import sys
from pathlib import Path

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])

# A mesh from a file: normals and tangents are made where it has none; what was mended is told.
jar = jq.read_mesh(project / "things" / "jar.obj")
print(jar)

# Swatches, as for a terrain.
arrays = jq.pack(
    [
        jq.read_swatch(project / "swatches" / "cracked_clay", tile=3.0, relief=0.08),
        jq.read_swatch(project / "swatches" / "glazed_ware", tile=1.2, relief=0.004),
    ],
    side=256,
)

# Clay all around, small and laid on from three sides; glaze around the axis where the vertex colours are red.
layers = [
    jq.Layer("cracked clay", jq.Triplanar(sharpness=4, space="object", scale=(0.3, 0.3))),
    jq.Layer("glazed ware", jq.Cylindrical(radius=0.7, space="object"), softness=0.1, mask=jq.VertexColour("r")),
]

# Every texel that a triangle touches, grown by 16 texels, so that four mips keep the background out.
baked = jq.bake(jq.UvCanvas(jar, 512, padding=16), layers, arrays)
baked.save(out / "jar")
print(f"{100 * baked.cover.covered.mean():.1f} % covered, {baked.cover.overlaps} texels in more than one triangle")

# Weights for the vertices, for an engine that blends there.
weights = jq.weigh(jq.VertexCanvas(jar), layers)
print(f"glaze on {100 * weights.layer('glazed ware').mean():.0f} % of the vertices")

# Side by side: the jar, a labelled grid in place of its textures, how they stretch, its triangles.
jq.show.draw_mesh_sheet("jar", jar, layers, arrays).save(out / "jar.png")
