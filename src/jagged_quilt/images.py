"""Image files of any format and depth, in and out, as arrays.

Examples
--------
>>> import tempfile
>>> import numpy as np
>>> import jagged_quilt as jq
>>> path = tempfile.mkdtemp() + "/height.png"
>>> jq.images.write_image(path, np.full((4, 4, 1), 40000, np.uint16))
>>> jq.images.read_image(path)[0, 0]
array([40000], dtype=uint16)
"""

from jagged_quilt.maps.image_files import read_image as read_image
from jagged_quilt.maps.image_limits import ImageLimits as ImageLimits
from jagged_quilt.maps.image_writing import write_image as write_image

__all__ = ["ImageLimits", "read_image", "write_image"]
