"""Paint with daubs: a track, spilled salt, a softened edge; then take one back.

python examples/daub.py saltworks out      (after: jquilt demo saltworks)
"""

import sys
from pathlib import Path

import matplotlib
import numpy as np

import jagged_quilt as jq

matplotlib.use("Agg")
from matplotlib import pyplot as plt

project, out = Path(sys.argv[1]), Path(sys.argv[2])
terrain = jq.read_terrain(project / "ground" / "height.png", size=(256.0, 256.0), heights=(0.0, 38.0))
layers = [
    jq.Layer("clay"),
    jq.Layer("salt", mask=jq.Noise(size=18, threshold=0.6, seed=8) * jq.HeightBand(0, 16, fade=6)),
    jq.Layer("gravel", mask=jq.Constant(0)),  # shows only where it is painted
]
track = ((60.0, 172.0), (80.0, 181.0), (100.0, 190.0), (112.0, 206.0), (134.0, 222.0))
daubs = [
    jq.Daub(path=track, radius=4.0, falloff=0.4, ceiling=0.9, layers=("gravel",)),
    jq.Daub(path=((106.0, 212.0), (90.0, 216.0)), radius=9.0, layers=("salt",), breakup=jq.Noise(size=3.0)),
    jq.Daub(path=((76.0, 196.0),), radius=14.0, falloff=0.3, layers=("gravel", "salt"), between=jq.Noise(size=5.0)),
    jq.Daub(path=((128.0, 190.0),), radius=16.0, kind=jq.daubs.DaubKind.SMOOTH, reach=2.5),
    jq.Daub(path=((70.0, 214.0), (84.0, 226.0)), radius=7.0, layers=("salt",), kind=jq.daubs.DaubKind.ERASE),
]
out.mkdir(parents=True, exist_ok=True)
jq.daubs.write_daubs(out / "daubs.jsonl", daubs)

before = jq.weigh(terrain.canvas(1024), layers)
after = jq.weigh(terrain.canvas(1024), layers, daubs=jq.daubs.read_daubs(out / "daubs.jsonl"))
undone = jq.daubs.lay_daubs(before, terrain, [daub for daub in daubs if daub.between is None])  # as an editor would: on the map

colours = np.array([(0.45, 0.36, 0.30), (0.95, 0.94, 0.90), (0.30, 0.42, 0.55)])
figure, places = plt.subplots(1, 3, figsize=(12.8, 4.3), facecolor="#1e2024")
shown = {"masks alone": before, "with five daubs": after, "without the third": undone}
for place, (title, weights) in zip(places, shown.items(), strict=True):
    picture = sum(weights.layer(name)[..., None] * colour for name, colour in zip(weights.names, colours, strict=True))
    place.imshow(picture[600:960, 200:600], extent=(50, 150, 240, 150))
    place.set_title(title, color="#eceef0", fontsize=11)
    place.tick_params(colors="#a3a9b1", labelsize=8)
    place.set_xlabel("metres east", color="#a3a9b1", fontsize=8)
    print(f"{title:<20}" + "  ".join(f"{name} {100 * share:.1f} %" for name, share in weights.shares().items()))
figure.tight_layout()
figure.savefig(out / "daubs.png", dpi=100)
