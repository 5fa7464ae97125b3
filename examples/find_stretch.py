"""Find where textures stretch, on a terrain and on a mesh, and try what helps.

    python examples/find_stretch.py saltworks out

`saltworks` is the folder that `jquilt demo saltworks` wrote.
"""

import sys
from pathlib import Path

import numpy as np

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])
quilt = jq.read_quilt(project / "saltworks.quilt.toml")
arrays = jq.pack([jq.read_swatch(project / "swatches" / "layered_gypsum", tile=6.0, relief=0.22)], side=256)
one = lambda points: jq.PointWeights.all_of("layered gypsum", len(points))


def stretch(points, projection):
    """Median and 99th percentile of how much longer than wide a texel lies."""
    survey = jq.Blend(arrays, [jq.Layer("layered gypsum", projection)]).survey(points, one(points))
    return np.percentile(survey.stretch, [50, 99])


ground = quilt.terrain.points((512, 512))
risers = ground[ground.normal[:, 1] < np.cos(np.radians(45))]
jar = jq.read_mesh(project / "things" / "jar.obj").points()
ways = {"planar": jq.Planar(), "triplanar": jq.Triplanar(4), "box": jq.Box()}
print(f"{'':<14}{'risers above 45 degrees':>28}{'jar':>20}")
for name, way in ways.items():
    cells = [f"{median:.2f}, p99 {high:.2f}" for median, high in (stretch(points, way) for points in (risers, jar))]
    print(f"{name:<14}{cells[0]:>28}{cells[1]:>20}")

# Triplanar from 30 degrees on reads less, and stretches no more where it matters.
limited = [jq.Layer("layered gypsum", jq.Triplanar(4, above=30, above_fade=10))]
saved = jq.show.samples_saved(arrays, limited, ground, one(ground))
print(f"triplanar above 30 degrees only saves {100 * saved:.0f} % of samples")

# The same cliff under one light, and the whole view in false colours.
jq.show.draw_riser(quilt.terrain).save(out / "riser.png")
scene = jq.Scene(arrays, lights=quilt.lighting.lights).add(quilt.terrain, [jq.Layer("layered gypsum", jq.Planar())])
jq.show.draw_debug(scene, quilt.camera, "stretch").save(out / "stretch_planar.png")
