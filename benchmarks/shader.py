"""The exported shader beside our kernel and plain NumPy: how fast, and how far apart. All do the blend of the standard scene.

    python benchmarks/shader.py            1024 x 1024
    python benchmarks/shader.py --quick    256 x 256

The shader runs on whatever OpenGL driver there is; its name is told. On a software driver it says nothing of a graphics card.
The last line is JSON: kernel_over_shader (time over time; the kernel on one thread, the driver on all), kernel_over_exact (the
shader filtering by itself, as `jquilt bake --on gpu` has it, with what is handed to the driver and back), kernel_over_numpy
(which reads the full size alone), worst_of_255 and mean_of_255 (how far apart kernel and shader are where the driver filters),
and exactly_of_255 (where the shader filters itself).
"""

from __future__ import annotations

import argparse
import json
import sys
import time

import numpy as np
from blend import SIDE, Scene
from numpy_blend import NumpyBlend

import jagged_quilt as jq
from jagged_quilt.export.driver import Driver
from jagged_quilt.export.shader_blend import ShaderBlend
from jagged_quilt.foundation.points import Points


def off(found: dict[str, np.ndarray], kernel: object, roles: tuple[jq.MapRole, ...]) -> np.ndarray:
    """How far each point is off at most, in steps of 255, colours as they are stored."""
    out = []
    for role in roles:
        one, two = found[role.key].astype(float), np.asarray(kernel[role], float).reshape(found[role.key].shape)  # type: ignore[index]
        if role in (jq.MapRole.DIFFUSE, jq.MapRole.SPECULAR):
            one, two = (np.where(v <= 0.0031308, v * 12.92, 1.055 * np.abs(v) ** (1 / 2.4) - 0.055) for v in (one, two))
        out.append((127.5 if role.value.direction else 255) * np.abs(one - two).max(axis=1))
    worst: np.ndarray = np.max(out, axis=0)
    return worst


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n", maxsplit=1)[0])
    parser.add_argument("--quick", action="store_true")
    quick = parser.parse_args().quick
    try:
        driver = Driver()
    except jq.QuiltError as error:
        print(error)
        print(json.dumps({"skipped": str(error)}))
        return 0
    scene, side = Scene(), SIDE // 4 if quick else SIDE
    some = np.arange(SIDE * SIDE).reshape(SIDE, SIDE)[:side, :side].ravel()
    points: Points = scene.points[some]
    weights = jq.PointWeights(scene.weights.names, scene.weights.layers[some], scene.weights.weights[some])
    blend = jq.Blend(scene.arrays, scene.layers)
    roles = tuple(each.role for each in blend.plan.outputs)
    kernel = blend.at(points, weights, normals="world", columns=side)
    times = 3 if quick else 5
    spent = []
    for _ in range(times):
        began = time.perf_counter()
        blend.into(scene.out if side == SIDE else room(scene, side), points, weights, normals="world", columns=side)
        spent.append(time.perf_counter() - began)
    shader = ShaderBlend(driver, jq.export.blend_shader(scene.arrays, scene.layers), scene.arrays, exact=False)
    asked, took = shader.drawn(points, weights), []
    for _ in range(times):
        driver.context.finish()
        began = time.perf_counter()
        shader.draw(asked)
        driver.context.finish()
        asked.frame.read(viewport=(0, 0, 1, 1), components=4, dtype="f4")  # or a driver may still be at it
        took.append(time.perf_counter() - began)
    drawn, apart = min(took), off(shader.read(asked), kernel, roles)
    exact = ShaderBlend(driver, jq.export.blend_shader(scene.arrays, scene.layers, filtering="exact"), scene.arrays)
    by_itself = []
    for _ in range(2):
        began = time.perf_counter()
        found = exact.at(points, weights, normals="world")
        by_itself.append(time.perf_counter() - began)
    exactly = off({role.key: found[role].reshape(len(points), -1) for role in roles}, kernel, roles)
    plain = NumpyBlend(scene.arrays, scene.layers)
    began = time.perf_counter()
    for first in range(0, len(points), 16 * side):
        band = slice(first, first + 16 * side)
        plain.blend(points[band], weights.layers[band], weights.weights[band])
    by_numpy = time.perf_counter() - began
    print(f"driver: {driver.name}; {side} x {side} texels, best of {times}")
    print(f"kernel, on one thread  {min(spent):.3f} s")
    print(f"exported shader        {drawn:.3f} s")
    print(f"  filtering by itself  {min(by_itself):.3f} s, with what goes to the driver and back")
    print(f"plain NumPy            {by_numpy:.3f} s, bilinear, in bands of 16 rows")
    print(f"apart, of 255: {apart.mean():.3f} on average, {np.percentile(apart, 99):.2f} for 99 of 100, {apart.max():.2f} most")
    reported = {
        "kernel_over_shader": round(min(spent) / drawn, 3),
        "kernel_over_exact": round(min(spent) / min(by_itself), 3),
        "kernel_over_numpy": round(min(spent) / by_numpy, 4),
        "worst_of_255": round(float(apart.max()), 2),
        "mean_of_255": round(float(apart.mean()), 3),
        "exactly_of_255": round(float(exactly.max()), 3),
    }
    print(json.dumps(reported))
    return 0


def room(scene: Scene, side: int) -> dict[jq.MapRole, np.ndarray]:
    """Where finished texels of a smaller piece go."""
    return {role: np.empty((side * side, values.shape[1]), values.dtype) for role, values in scene.out.items()}


if __name__ == "__main__":
    sys.exit(main())
