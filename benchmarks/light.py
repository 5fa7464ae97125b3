"""What light costs beside the blend of the same points: one lamp, four, sixteen; suns, points and spots.

    python benchmarks/light.py            about a minute, once all is compiled
    python benchmarks/light.py --quick    some seconds

All on one thread, over points of the standard scene of `blend.py`. The last line is JSON.
"""

from __future__ import annotations

import argparse
import json

import numpy as np
from blend import SIDE, Scene, in_turn

import jagged_quilt as jq
from jagged_quilt.blend.blend import Blend
from jagged_quilt.light.light import Lighting, LitSurface

ROWS = 128  # of the scene's points


def lamps(kind, count):
    """So many lamps of a kind, over the scene."""
    turns = [360 * n / count for n in range(count)]
    if kind == "suns":
        return tuple(jq.Sun(turn, 40, strength=3 / count) for turn in turns)
    places = [(4 + 3 * np.sin(np.radians(t)), 6.0, 1 + 3 * np.cos(np.radians(t))) for t in turns]
    if kind == "points":
        return tuple(jq.PointLight(position=place) for place in places)
    return tuple(jq.SpotLight(position=place, target=(4, 0, 1), inner=30, outer=60) for place in places)


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="fewer repeats")
    repeats = 5 if parser.parse_args().quick else 25
    scene = Scene()
    part = slice(0, ROWS * SIDE)
    points, weights = scene.points[part], scene.weights[part]
    blend = Blend(scene.arrays, scene.layers, filter="bilinear")
    texels = blend.at(points, weights, normals="world", columns=SIDE)
    eye = np.broadcast_to(np.float32([0.6, 0.8, 0]), points.position.shape)
    surface = LitSurface(texels.values, eye)
    places, open_ = points.world, np.ones(len(points), np.float32)

    def lit_by(lights, on=surface):
        lighting = Lighting(lights)
        return lambda: lighting.leaving(on, places, [open_] * len(lights))

    coated = np.ones((len(points), 20), np.float32)
    coated[:, :12], coated[:, 16:19], coated[:, 19] = texels.values, texels.values[:, 3:6], 0.2
    image = Lighting(lamps("suns", 1), jq.clear_sky())

    def blended():
        blend.at(points, weights, normals="world", columns=SIDE)

    works = {"the blend": blended, "no lamp, the sky": lit_by(())}
    works["1 sun, a sky image"] = lambda: image.leaving(surface, places, [open_])
    glazed = LitSurface(coated, eye)
    works["1 sun, a coat"], works["4 suns, a coat"] = (lit_by(lamps("suns", count), glazed) for count in (1, 4))
    works["1 sun, a sky image, a coat"] = lambda: image.leaving(glazed, places, [open_])
    works |= {f"{count} {kind}": lit_by(lamps(kind, count)) for kind in ("suns", "points", "spots") for count in (1, 4, 16)}
    seconds = {name: min(times) for name, times in zip(works, in_turn(list(works.values()), repeats), strict=True)}
    for name, each in seconds.items():
        print(f"{name:<27}{1e9 * each / len(points):>8.1f} ns a point{each / seconds['the blend']:>8.2f} of the blend")
    print(
        json.dumps(
            {
                "one_light_over_blend": round(seconds["1 suns"] / seconds["the blend"], 3),
                "four_over_one": round(seconds["4 suns"] / seconds["1 suns"], 3),
                "sixteen_over_one": round(seconds["16 suns"] / seconds["1 suns"], 3),
                "sky_image_over_gradient": round(seconds["1 sun, a sky image"] / seconds["1 suns"], 3),
                "coat_over_none": round(seconds["1 sun, a coat"] / seconds["1 suns"], 3),
                "four_points_over_one": round(seconds["4 points"] / seconds["1 points"], 3),
            }
        )
    )


if __name__ == "__main__":
    main()
