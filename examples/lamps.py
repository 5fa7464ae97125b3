"""An evening in the saltworks: a low wide sun, a lamp beside the jar, and a spot that looks across the cliff.

    python examples/lamps.py saltworks out

`saltworks` is the folder that `jquilt demo saltworks` wrote.
"""

import sys
from pathlib import Path

import numpy as np

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])
quilt = jq.read_quilt(project / "saltworks.quilt.toml")
arrays = jq.pack(quilt.swatches, side=256)

# Any number of lights; all of them cast shadows. The sun is 2 degrees wide, so the edges of its shadows are soft.
lights = [
    jq.Sun(bearing=262, height=9, colour=(1.0, 0.62, 0.36), strength=2.2, size=2.0),
    jq.PointLight(position=(100.5, 8.2, 207.0), colour=(1.0, 0.72, 0.42), strength=16, reach=40),
    jq.SpotLight(
        position=(112, 12, 190), target=(98, 6, 168), inner=12, outer=20, colour=(0.62, 0.82, 1.0), strength=2200, radius=0.2
    ),
]
dusk = jq.Sky(zenith=(0.02, 0.05, 0.13), horizon=(0.17, 0.14, 0.15), ground=(0.03, 0.025, 0.02))

scene = jq.Scene(arrays, lights=lights, sky=dusk, exposure=0.7)
scene.add(quilt.terrain, quilt.layers)
for mesh, layers in zip(quilt.meshes, quilt.layers_by_part, strict=True):
    scene.add(mesh, layers)
jq.images.write_image(out / "evening.png", scene.draw(quilt.camera))

# Each kind of light alone, and each lamp.
jq.show.draw_debug(scene, quilt.camera, "light").save(out / "evening_light.png")

# The jar from close by, glazed and without its coat: the lamp and the dusk show in the glaze alone.
close = jq.Camera(position=(95.2, 8.6, 209.6), target=(97.4, 7.45, 205.2), view_angle=34)
glazed, bare = (scene.draw(close, width=320, height=400, without=roles) for roles in ([], ["coat"]))
jq.images.write_image(out / "glaze.png", np.concatenate([glazed, bare], axis=1))

# A dark sky from a file of 8 bits, and from half floats: brought up by five stops, only the former shows its steps.
dark = jq.clear_sky(jq.Sun(bearing=262, height=2), rows=96).texels / 64
jq.images.write_image(out / "sky.exr", dark)
encoded = np.where(dark < 0.0031308, 12.92 * dark, 1.055 * dark ** (1 / 2.4) - 0.055)  # sRGB
jq.images.write_image(out / "sky.png", np.rint(255 * encoded).astype(np.uint8))
skies = [jq.read_sky(out / f"sky.{kind}", exposure=5) for kind in ("png", "exr")]
up = jq.Camera(position=(84, 19.5, 224), target=(119, 40, 165), view_angle=60)
halves = [
    jq.Scene(arrays, lights=[], sky=sky).add(quilt.terrain, quilt.layers).draw(up, width=320, height=400) for sky in skies
]
jq.images.write_image(out / "bands.png", np.concatenate(halves, axis=1))
