"""Image files of any format and depth, in and out, as arrays."""

from jagged_quilt.maps.image_files import read_image as read_image
from jagged_quilt.maps.image_limits import ImageLimits as ImageLimits
from jagged_quilt.maps.image_writing import write_image as write_image
