"""Blend six materials over the terraced saltworks and look at the result.

python examples/first_bake.py saltworks out      (after: jquilt demo saltworks)
"""

import sys
from pathlib import Path

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])

tiles = {"cracked clay": 3.0, "raked gravel": 2.5, "salt crust": 4.0, "layered gypsum": 6.0, "brine": 16.0}
reliefs = {"layered gypsum": 0.22, "brine": 0.03}
swatches = [
    jq.read_swatch(project / "swatches" / name.replace(" ", "_"), tile=tile, relief=reliefs.get(name, 0.07))
    for name, tile in tiles.items()
]
arrays = jq.pack(swatches, side=256)
terrain = jq.read_terrain(project / "ground" / "height.png", size=(256.0, 256.0), heights=(0.0, 38.0))

salty = jq.HeightBand(0, 16, fade=6) * jq.Noise(size=18, threshold=0.46, range=0.2) * ~jq.Slope(20, 180, fade=8)
layers = [
    jq.Layer("cracked clay"),
    jq.Layer("raked gravel", mask=jq.HeightBand(11, 40, fade=4) * jq.Noise(size=46, seed=3)),
    jq.Layer("salt crust", softness=0.15, mask=salty),
    jq.Layer("layered gypsum", jq.Triplanar(sharpness=4), mask=jq.Slope(34, 180, fade=8)),
    jq.Layer("brine", softness=0.1, mask=jq.HeightBand(-1, 1.35, fade=0.2) & jq.Slope(0, 9, fade=5)),
]
weights = jq.weigh(terrain.canvas(512), layers)
for name, share in weights.shares().items():
    print(f"{name:<16}{100 * share:5.1f} %")

maps = jq.bake(terrain.canvas(1024), layers, arrays, weights=weights)
for path in maps.save(out / "bake"):
    print("wrote", path)
