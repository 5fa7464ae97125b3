"""Take over a splat sheet that another program left, mask it further, and hand the result on as sheets again.

python examples/adopt_splat.py saltworks out      (after: jquilt demo saltworks)
"""

import sys
from pathlib import Path

import numpy as np

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])
terrain = jq.read_terrain(project / "ground" / "height.png", size=(256.0, 256.0), heights=(0.0, 38.0))

# What was painted, under its old names. Where weights do not sum to 1 they are normalised, and that is told.
old = jq.adopt.splat([project / "inherited" / "splat_0.png"], ["bare earth", "pebbles", "trodden path", "rubble"])
print(f"{old.sums.changed} of {old.sums.texels} texels did not sum to 1; the worst summed to {old.sums.worst:.3f}")

# New homes: two old layers become one. Then the masks of the new layers go on top of the old paint.
layers = [
    jq.Layer("cracked clay"),
    jq.Layer("raked gravel", mask=jq.Slope(0, 22, fade=8)),
    jq.Layer("fallen rock"),
    jq.Layer("brine", mask=jq.HeightBand(-1, 1.35, fade=0.2)),
]
homes = {"bare earth": "cracked clay", "pebbles": "raked gravel", "trodden path": "raked gravel", "rubble": "fallen rock"}
adopted = old.rehomed(homes, [layer.name for layer in layers])
weights = jq.weigh(terrain.canvas(1024), layers, adopted=adopted)

print(weights.coverage(terrain.area).round(1))
for path in jq.export.write_splat(weights, out, bits=16):
    print("wrote", path)
again = jq.adopt.splat([out / "splat_0.png"], weights.names, bits=16)
worst = max(np.abs(again.weights.layer(name) - weights.layer(name)).max() for name in weights.names)
print(f"read back, no weight is off by more than {worst:.5f}")
