"""Writing weights as other programs read them: splat sheets, index and weight pairs, a mask for each layer."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.mask_shader import LiveWeights
from jagged_quilt.foundation.files import write_json, written_together
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.weights.weight_map import WeightMap


def write_splat(weights: WeightMap, folder: Path | str, *, bits: int = 8) -> list[Path]:
    """Write `splat_0.png`, `splat_1.png` ...: four layers each, in red, green, blue, alpha; `splat.json` names them.

    Every texel sums to exactly 255 (65535) over all sheets. `adopt_splat` reads them back.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers)
    >>> [path.name for path in jq.export.write_splat(weights, "splats")]
    ['splat_0.png', 'splat.json']
    """
    weights = weights.in_bits(bits)
    folder, names = Path(folder), []
    with written_together(folder) as stage:
        for first in range(0, len(weights.names), 4):
            sheet = np.zeros((*weights.layers.shape[:2], 4), weights.weights.dtype)
            for channel, which in enumerate(range(first, min(first + 4, len(weights.names)))):
                sheet[..., channel] = whole_weight(weights, which)
            names.append(f"splat_{first // 4}.png")
            write_image(stage / names[-1], sheet)
        write_json(stage / "splat.json", {"form": "splat", "bits": bits, "files": names, "layers": list(weights.names)})
    return [folder / name for name in (*names, "splat.json")]


def write_live(
    weights: LiveWeights, folder: Path | str, sampled: Sequence[Stored], adopted: Sequence[Stored] = ()
) -> list[Path]:
    """Write what live weights read: `sampled_0.png` …, `adopted_0.png` …, four masks in each, and `noise_quantiles.exr`.

    Parameters
    ----------
    sampled, adopted : sequence of (H, W) uint8 or uint16
        The answer of each mask that the shader cannot work out, and the adopted weight of each layer.

    Examples
    --------
    >>> files = jq.export.write_live(jq.export.live_weights(layers), "live", sampled=[])
    """
    folder, files = Path(folder), []
    with written_together(folder) as stage:
        for kind, grey in (("sampled", sampled), ("adopted", adopted)):
            for first in range(0, len(grey), 4):
                four = [*grey[first : first + 4], *[np.zeros_like(grey[0])] * 3][:4]
                files.append(f"{kind}_{first // 4}.png")
                write_image(stage / files[-1], np.stack(four, axis=2))
        if len(weights.noise_quantiles):
            files.append("noise_quantiles.exr")
            write_image(stage / files[-1], np.ascontiguousarray(weights.noise_quantiles))
    return [folder / name for name in files]


def write_pairs(weights: WeightMap, folder: Path | str, *, bits: int = 8) -> list[Path]:
    """Write `pairs_numbers.png` and `pairs_weights.png`: the four largest layers of each texel, and their weights.

    Numbers are 16 bit where there are more than 256 layers. `adopt_pairs` reads them back.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers)
    >>> [path.name for path in jq.export.write_pairs(weights, "pairs")]
    ['pairs_numbers.png', 'pairs_weights.png', 'pairs.json']
    """
    folder = Path(folder)
    four = weights.in_bits(bits).resized(*weights.layers.shape[:2], keep=4)
    shape = (*four.layers.shape[:2], 4)
    numbers, shares = np.zeros(shape, four.layers.dtype), np.zeros(shape, four.weights.dtype)
    numbers[..., : four.layers.shape[2]] = four.layers
    shares[..., : four.layers.shape[2]] = four.weights
    files = ["pairs_numbers.png", "pairs_weights.png"]
    with written_together(folder) as stage:
        write_image(stage / files[0], numbers)
        write_image(stage / files[1], shares)
        lost = {"mean": four.lost_mean, "worst": four.lost_worst}
        write_json(
            stage / "pairs.json", {"form": "pairs", "bits": bits, "files": files, "layers": list(weights.names), "lost": lost}
        )
    return [folder / name for name in (*files, "pairs.json")]


def write_masks(weights: WeightMap, folder: Path | str, *, bits: int = 8) -> list[Path]:
    """Write one grey image for each layer, named after it, and `masks.json`. `adopt_masks` reads them back.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers)
    >>> [path.name for path in jq.export.write_masks(weights, "masks")]
    ['mask_clay.png', 'mask_salt.png', 'masks.json']
    """
    weights, folder = weights.in_bits(bits), Path(folder)
    files = {name: f"mask_{stem}.png" for name, stem in stems_of(weights.names).items()}
    with written_together(folder) as stage:
        for which, name in enumerate(weights.names):
            write_image(stage / files[name], whole_weight(weights, which)[..., None])
        write_json(stage / "masks.json", {"form": "masks", "bits": bits, "files": files})
    return [folder / name for name in (*files.values(), "masks.json")]


def whole_weight(weights: WeightMap, which: int) -> Stored:
    """Return the weight of one layer at every texel, (H, W), as whole numbers of which all layers' sum to the unit."""
    return np.where(weights.layers == which, weights.weights, 0).sum(axis=2, dtype=np.uint32).astype(weights.weights.dtype)
