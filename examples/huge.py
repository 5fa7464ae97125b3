"""A ground in pages: baked into a store, stopped and gone on with, read by others, seen page by page.

    python examples/huge.py saltworks out

`saltworks` is the folder that `jquilt demo saltworks` wrote. Takes some seconds.
"""

import sys
from pathlib import Path

import dask.array
import matplotlib.pyplot as plt
import numpy as np
import zarr

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])
quilt = jq.read_quilt(project / "saltworks.quilt.toml")
ground, arrays = quilt.terrain, jq.pack(quilt.swatches, side=256)
weights = jq.weigh(ground.canvas(512), quilt.layers)

# 1,024 x 1,024 texels in 85 pages of 128 x 128, of all mips. Run again, it makes only what changed.
baker = jq.Baker(ground.canvas(1024), quilt.layers, arrays, weights=weights)
print(jq.bake_pages(baker, out / "bake.zarr", page=128))
softer = [*quilt.layers[:-1], jq.Layer("brine", softness=0.4, mask=quilt.layers[-1].mask)]
print(jq.bake_pages(jq.Baker(ground.canvas(1024), softer, arrays, weights=weights), out / "bake.zarr", page=128))

# Any page alone, of any mip, without the rest.
print(jq.page(baker, (1, 2, 3), page=128))

# Anything that reads Zarr reads it: page rows, page columns, rows, columns and channels, each page with its border.
pages = zarr.open_array(out / "bake.zarr", path="ground/diffuse/0", mode="r")
print(pages.shape, dict(pages.attrs))
border = pages.attrs["border"]
cores = dask.array.from_zarr(pages)[:, :, border:-border, border:-border]
whole = cores.transpose(0, 2, 1, 3, 4).reshape(1024, 1024, 3)
print("mean colour:", whole.mean(axis=(0, 1)).compute().round(1))

# The ground seen from the store: only the pages that the view needs are read.
seen = jq.PagedGround(out / "bake.zarr")
scene = jq.Scene(arrays, lights=quilt.lighting.lights, sky=quilt.lighting.sky).add_pages(ground, seen)
jq.images.write_image(out / "huge.png", scene.draw(quilt.camera, width=640, height=400))
jq.show.draw_pages(scene, quilt.camera, seen).save(out / "huge_pages.png")

# A glide from far above down to the salt, over a ground of 65,536 x 65,536 texels: how many pages a view needs.
grid, steps = jq.PageGrid((65536, 65536)), 60
counts = []
for share in np.linspace(0, 1, steps):
    near = share**0.5
    place = (60 + 60 * share, 240 - 217 * near, 250 - 80 * share)
    camera = jq.Camera(position=place, target=(124, 4, 120 + 30 * share))
    counts.append(len(jq.show.pages_needed(scene, camera, grid, ground.size)))
figure, axes = plt.subplots(figsize=(12.8, 8), dpi=100, layout="constrained")
axes.plot(range(steps), counts, color="tab:blue", label="pages that the view needs")
axes.axhline(3 * np.median(counts), color="tab:red", linestyle="--", label="3 x the median")
axes.set(
    xlabel="step of the glide, from 240 m above down to the salt",
    ylabel="pages of 256 x 256 texels",
    ylim=(0, None),
    title=f"{grid.page_count:,} pages in all; needed: {min(counts)} to {max(counts)}, median {np.median(counts):.0f}",
)
axes.legend()
figure.savefig(out / "pages_held.png")
