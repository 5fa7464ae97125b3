"""What a layer can be told beside where it lies: one knob a picture, left without it and right with it.

    python examples/knobs.py saltworks out

`saltworks` is the folder that `jquilt demo saltworks` wrote. Takes some seconds.
"""

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np

import jagged_quilt as jq

project, out = Path(sys.argv[1]), Path(sys.argv[2])
quilt = jq.read_quilt(project / "saltworks.quilt.toml")
names = ("cracked clay", "salt crust", "layered gypsum", "broken gypsum", "raked gravel", "weathered planks")
swatches = [each for each in quilt.swatches if each.name in names]
gravel = next(each for each in swatches if each.name == "raked gravel")
grown = replace(jq.grown(gravel, jq.Grow(times=4)), name="grown gravel")  # what repeats no more, and looks the same
white = jq.plain_swatch("whitewash", diffuse="#d8cfc0", roughness=0.7)
red = jq.plain_swatch("red paint", diffuse="#9a3324", roughness=0.3)
weave = np.kron(np.array([[1, 1, 1, 1], [1, 0, 1, 0]], np.uint8) * 255, np.ones((32, 16), np.uint8))[..., None]
reed = jq.plain_swatch("reed screen", diffuse="#8a6b3c", roughness=0.8)
reed = replace(reed, maps={**reed.maps, jq.MapRole.OPACITY: jq.TextureMap(role=jq.MapRole.OPACITY, texels=weave)})
arrays = jq.pack([*swatches, grown, white, red, reed], side=512)

# A bank of 24 x 24 m with a step across it; salt lies beside clay.
z, x = np.mgrid[:193, :193] / 8
ground = jq.Terrain(2.2 / (1 + np.exp(6 * (z - 9))) + 0.06 * np.sin(0.9 * x) * np.cos(0.7 * z), size=(24, 24))
near = jq.Camera(position=(12, 5.2, 19.5), target=(12, 0.4, 12.2), view_angle=38)
over = jq.Camera(position=(12, 7.5, 25), target=(12, 0, 10), view_angle=44)
above = jq.Camera(position=(12, 26, 17), target=(12, 0, 16), view_angle=28)
sun = jq.Sun(bearing=250, height=26)
standing = np.array([[1, 0, 0, 12], [0, 0, -1, 1.6], [0, 1, 0, 12.5], [0, 0, 0, 1.0]])
beside = jq.ImageMask(values=np.float32([[0, 0, 1, 1]]), size=(24, 24), wrap="clamp").warped(by=0.7, size=2)


def seen(layers, camera, films=(), screen=None, cut_out=0.5):
    scene = jq.Scene(arrays, lights=[sun], haze=4000, cut_out=cut_out).add(ground, layers, films=films)
    if screen:
        scene.add(jq.shapes.plane((9, 3)).placed(standing), [jq.Layer(screen, jq.Uv(metres=1))])
    return scene.draw(camera, width=300, height=160)


clay, salt = jq.Layer("cracked clay"), jq.Layer("salt crust", mask=beside, softness=0.3)
gypsum = jq.Layer("layered gypsum", jq.Triplanar())
water = jq.Film(
    mask=jq.HeightBand(-1, 0.02, fade=0.06) * jq.Constant(0.7),
    tint=(0.4, 0.38, 0.36),
    roughness=0.08,
    specular=0.02,
    hollows=1,
    softness=0.3,
    level=0.9,
)
cracks = jq.DetailBand("height", 0, 0.03, fade=0.01, below=(jq.Layer("cracked clay"),))
paint = jq.Noise(size=3, threshold=0.6, range=0.05)
stones, whole = jq.Layer("broken gypsum"), jq.Layer("salt crust")
shuffled = lambda border: jq.Planar(shuffle=jq.Shuffle(size=2.4, border=border))
laid = lambda **lie: replace(clay, projection=jq.Planar(**lie))
knobs = {
    "tuning: normal = 2.5": ([clay, salt], [replace(each, tuning=jq.Tuning(normal=2.5)) for each in (clay, salt)], near),
    "tuning: hue = 60, saturation = 1.6": ([clay, salt], [replace(clay, tuning=jq.Tuning(hue=60, saturation=1.6)), salt], near),
    "detail: salt in the cracks below": ([clay], [clay, replace(salt, mask=cracks)], near),
    "tuning: lift = -0.06 (salt lies low)": ([clay, salt], [clay, replace(salt, tuning=jq.Tuning(lift=-0.06))], near),
    "meets: cracked clay = 0.0": (
        [clay, replace(salt, softness=0.9)],
        [clay, replace(salt, softness=0.9, meets={"cracked clay": 0})],
        near,
    ),
    "apart: normal at scale 0.35": ([clay], [replace(clay, per_map={"normal": jq.PerMap(scale=0.35)})], near),
    "shuffle: patches of 2.4 m": ([stones], [replace(stones, projection=shuffled(0.25))], above),
    "shuffle: border = 1, noise by example": ([whole], [replace(whole, projection=shuffled(1.0))], above),
    "far: scale 3 from 12 m on": ([clay], [replace(clay, far=jq.Far(start=12, over=6, scale=3))], over),
    "warp: a swirl": ([clay], [laid(warp=jq.Swirl(centre=(12, 13), radius=6, turn=160))], over),
    "warp: a drip down the step": (
        [gypsum],
        [replace(gypsum, projection=jq.Triplanar(warp=jq.Drip(drip=1.6, size=0.7)))],
        near,
    ),
    "swatches of plain values": ([clay], [jq.Layer("whitewash"), jq.Layer("red paint", mask=paint)], near),
    "polar: around a point": ([stones], [replace(stones, projection=jq.Polar(centre=(12, 0, 13.5), radius=4))], over),
    "grow: by example, four tiles wide": ([jq.Layer("raked gravel")], [jq.Layer("grown gravel")], above),
    "film: water from the hollows up": ([clay], [clay], near, {"films": [water]}),
    "opacity: what is cut out": ([clay], [clay], near, {"screen": "reed screen"}, {"cut_out": 0.0, "screen": "reed screen"}),
}
board = jq.show.Board("What a layer can be told", "left of each picture without, right with it")
for place, (name, (before, after, camera, *more)) in enumerate(knobs.items()):
    with_it, without = seen(after, camera, **dict(*more[:1])), seen(before, camera, **dict(*more[1:]))
    half = without.shape[1] // 2
    x, y = 20 + place % 4 * 312, 52 + place // 4 * 186
    board.pin(np.concatenate([without[:, :half], with_it[:, half:]], axis=1), x, y)
    board.frame(x + half - 1, y, 2, 160, (236, 238, 240), 1)
    board.write(x, y + 174, name, size=13, bold=True)
out.mkdir(parents=True, exist_ok=True)
print(board.save(out / "knobs.png"))
