"""What goes wrong with maps, and how it looks: each map as it should be, and with one fault.

    python examples/what_goes_wrong.py saltworks out

The first folder is a demo project (`jquilt demo saltworks`); the picture goes to the second one.
"""

import sys
from dataclasses import replace
from pathlib import Path

import matplotlib as mpl
import numpy as np

import jagged_quilt as jq

mpl.use("Agg")
import matplotlib.pyplot as plt

project, out = Path(sys.argv[1]), Path(sys.argv[2])
R = jq.MapRole
SIDE = 250


def swatch(name, relief):
    return jq.SwatchSource(name=name, folder=project / "swatches" / name, tile=2.0, relief=relief).read()


def with_map(base, role, values):
    """The swatch with one map replaced by what it is to mean."""
    return replace(base, maps={**base.maps, role: jq.TextureMap.of_values(role, values)})


clay, gravel, brine = swatch("cracked_clay", 0.08), swatch("raked_gravel", 0.07), swatch("brine", 0.03)
pale = with_map(brine, R.DIFFUSE, np.full((4, 4, 3), 0.5))
coarse = np.rint(brine.maps[R.HEIGHT].values * 15) / np.float32(15)
fine = jq.convert.without_stairs(coarse, step=1 / 15)
bumps = [jq.convert.normal_from_height(each * np.float32(0.12), tile=(2.0, 2.0)) for each in (fine, coarse)]
as_data = np.asarray(clay.maps[R.DIFFUSE].texels, np.float32) / 255
most = clay.maps[R.DIFFUSE].shape[0] * 5 // 9
stored = np.asarray(clay.maps[R.DIFFUSE].texels)
whole, piece = (np.tile(each, (2, 2, 1)) for each in (stored, stored[:most, :most]))
inside_out = with_map(clay, R.NORMAL, jq.convert.flipped_green(clay.maps[R.NORMAL].values))
dull = with_map(brine, R.ROUGHNESS, 1 - brine.maps[R.ROUGHNESS].values)

# Far away: a swatch whose normals and roughness are those of a small mip, with and without widening.
level = 4
arrays = jq.pack([gravel], side=512 if max(gravel.maps[R.NORMAL].shape) >= 512 else 64, layouts=["normal_roughness_occlusion"])
far = {role: arrays.values(gravel.name, role, level) for role in (R.NORMAL, R.ROUGHNESS)}
even = with_map(with_map(gravel, R.DIFFUSE, np.full((4, 4, 3), 0.05)), R.SPECULAR, np.full((4, 4, 3), 0.3))
distant = with_map(even, R.NORMAL, far[R.NORMAL])
side = far[R.ROUGHNESS].shape[0]
block = gravel.maps[R.ROUGHNESS].shape[0] // side
plain = gravel.maps[R.ROUGHNESS].values.reshape(side, block, side, block, 1).mean(axis=(1, 3))

pairs = [  # a map, the swatch (or a picture) as it should be, and with a fault; words below each; how often it repeats
    ("diffuse", clay, "sRGB", with_map(clay, R.DIFFUSE, as_data), "read as linear: pale", (3, 2)),
    ("normal", clay, "green up", inside_out, "green down: light from below", (1.5, 1)),
    ("roughness", brine, "white is rough: wet", dull, "a gloss map: dull", (3, 2)),
    (
        "height",
        with_map(pale, R.NORMAL, bumps[0]),
        "16 levels, smoothed",
        with_map(pale, R.NORMAL, bumps[1]),
        "16 levels: stairs",
        (1.5, 1),
    ),
    ("seam", whole, "made to repeat, 2 x 2", piece, "a piece of it, 2 x 2", (1, 1)),
    (
        "mips",
        with_map(distant, R.ROUGHNESS, far[R.ROUGHNESS]),
        "far, roughness widened",
        with_map(distant, R.ROUGHNESS, plain),
        "far, as it was: too shiny",
        (3, 2),
    ),
]
figure, axes = plt.subplots(2, 6, figsize=(12.8, 5.4), facecolor="#1e2024")
for place, (role, right, words, wrong, fault, repeats) in enumerate(pairs):
    for column, (shown, text, ink) in enumerate(((right, words, "#9ddb9a"), (wrong, fault, "#ff8d7a"))):
        axis = axes[place // 3, place % 3 * 2 + column]
        axis.imshow(jq.show.lit_ball(shown, SIDE, repeats=repeats) if isinstance(shown, jq.Swatch) else shown)
        axis.set_title(role if column == 0 else "", color="white", loc="left", fontsize=11, fontweight="bold")
        axis.set_xlabel(text, color=ink, fontsize=9.5)
        axis.set_xticks([])
        axis.set_yticks([])
        for edge in axis.spines.values():
            edge.set_visible(False)
figure.tight_layout(pad=1.0)
out.mkdir(parents=True, exist_ok=True)
figure.savefig(out / "what_goes_wrong.png", dpi=100, facecolor=figure.get_facecolor())
print(out / "what_goes_wrong.png")
