"""Image files of any format and depth, in and out, as arrays."""

from jagged_quilt.maps.image_files import ImageLimits as ImageLimits
from jagged_quilt.maps.image_files import read_image as read_image
from jagged_quilt.maps.image_files import write_image as write_image
