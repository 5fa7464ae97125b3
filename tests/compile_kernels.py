"""Compile the kernels, or load them, and bake a jar: `compile_kernels.py weights`, or `compile_kernels.py blend FOLDER`.

FOLDER then holds what was baked, and in `compiled` how many kernels were compiled and not loaded.
"""

import sys
from pathlib import Path

import jagged_quilt as jq
from jagged_quilt.foundation.compiler import KERNELS
from jagged_quilt.results.rehearsal import rehearse

JAR = """
[[mesh]]
name = "jar"
file = "jar.obj"
texels = 512
[[mesh.layer]]
swatch = "clay"
projection = "triplanar"
[[mesh.layer]]
swatch = "salt"
projection = "uv"
"""


def write_jar_project(folder):
    """Write a small project with a jar; return its quilt file."""
    from conftest import write_small_project

    write_small_project(folder)
    jar = jq.shapes.jar(1.0, around=32, rings=16)
    jq.export.write_mesh(jq.Mesh.of(jar.position, jar.triangles, uv=jar.uv / jar.uv.max(axis=0)), folder / "jar.obj")
    path = folder / "job.quilt.toml"
    path.write_text(path.read_text() + JAR)
    return path


if __name__ == "__main__":
    if sys.argv[1] == "weights":
        rehearse(["pack", "weigh", "ground", "meshes", "pages"])
        jq.weigh(jq.UvCanvas(jq.shapes.plane((0.9, 0.9)), 8), [jq.Layer("a")])
    else:
        rehearse(["blend"])
        folder = Path(sys.argv[2])
        jq.run(jq.read_quilt(write_jar_project(folder / "project")), "bake jar", out=folder / "out", force=True)
        missed = sum(sum(each.stats.cache_misses.values()) for each in KERNELS)
        (folder / "compiled").write_text(str(missed))
