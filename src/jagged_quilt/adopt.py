"""Weights that other programs left: splat sheets, index maps, colour-keyed maps, masks, index and weight pairs.

Examples
--------
>>> import numpy as np
>>> import jagged_quilt as jq
>>> sheet = np.zeros((8, 8, 4), np.uint8)
>>> sheet[..., 0] = 255
>>> jq.adopt.splat([sheet], ["clay", "salt", "gypsum", "brine"]).weights
<WeightMap 8 x 8 texels, 4 of 4 layers at each: clay, salt, gypsum, brine>
"""

from jagged_quilt.weights.adopt import Adopted as Adopted
from jagged_quilt.weights.adopt import adopt_colours as colours
from jagged_quilt.weights.adopt import adopt_index as index
from jagged_quilt.weights.adopt import adopt_masks as masks
from jagged_quilt.weights.adopt import adopt_pairs as pairs
from jagged_quilt.weights.adopt import adopt_splat as splat
from jagged_quilt.weights.look import Keys as Keys
from jagged_quilt.weights.look import keys_in as keys_in

__all__ = ["Adopted", "Keys", "colours", "index", "keys_in", "masks", "pairs", "splat"]
