"""Every kind of mask over the terraced saltworks, seen from above.

python examples/mask_kinds.py saltworks out      (after: jquilt demo saltworks)
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
kinds, basin = jq.NoiseKind, jq.HeightBand(-1, 1.35)
splat = jq.ImageMask.read(project / "inherited" / "splat_0.png", channel="g", size=(256, 256))

masks = {
    "HeightBand(8, 20, fade=4)": jq.HeightBand(8, 20, fade=4),
    "Slope(34, 180, fade=8)": jq.Slope(34, 180, fade=8),
    "Facing(135, spread=45)": jq.Facing(135, spread=45),
    'Curvature("ridges", 8)': jq.Curvature("ridges", 8),
    'Curvature("hollows", 8)': jq.Curvature("hollows", 8),
    "AmbientOcclusion(20)": jq.AmbientOcclusion(20, full=0.4),
    "Distance(basin, 0, 20, fade=10)": jq.Distance(basin, 0, 20, fade=10),
    "ImageMask.read(…, channel='g')": splat,
    "smooth noise, range 1": jq.Noise(size=40, range=1),
    "billowed": jq.Noise(size=40, range=1, kind=kinds.BILLOWED),
    "ridged": jq.Noise(size=40, range=1, kind=kinds.RIDGED),
    "cellular, 1 octave": jq.Noise(size=40, range=1, kind=kinds.CELLULAR, octaves=1),
    "smooth noise, cut at 0.7": jq.Noise(size=40, threshold=0.7, range=0.05),
    "HeightBand(…).warped(by=12, …)": jq.HeightBand(8, 20).warped(by=12, size=20),
    "noise.levels(0.3, 0.6, gamma=2)": jq.Noise(size=40, range=1).levels(0.3, 0.6, gamma=2),
    "noise * ~Slope(10, 180)": jq.Noise(size=40) * ~jq.Slope(10, 180, fade=8),
    "Distance(…) | ridges": jq.Distance(basin, 0, 6, fade=4) | jq.Curvature("ridges", 8),
    "height ^ noise (difference)": jq.HeightBand(8, 20, fade=4) ^ jq.Noise(size=40),
}
points = terrain.points((384, 384))
shade = np.clip(points.normal @ [-0.5, 0.75, -0.43], 0, 1).reshape(384, 384)

figure, places = plt.subplots(3, 6, figsize=(12.8, 8.0), facecolor="#1e2024")
for place, (name, mask) in zip(places.flat, masks.items(), strict=True):
    answer = mask.on(terrain.fields).answer(points).reshape(384, 384)
    grey = 0.15 + 0.35 * shade
    place.imshow(np.stack([grey + answer * (c - grey) for c in (1.0, 0.85, 0.45)], axis=2), vmin=0, vmax=1)
    place.set_title(name, color="#eceef0", fontsize=8.5)
    place.set_axis_off()
    print(f"{name:<40}{100 * answer.mean():5.1f} % of the ground")
figure.tight_layout(pad=0.8, h_pad=1.2)
out.mkdir(parents=True, exist_ok=True)
figure.savefig(out / "mask_kinds.png", dpi=100)
