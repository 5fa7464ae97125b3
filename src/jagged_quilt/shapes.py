"""Made meshes, in metres, with uv that are metres too: to try things on."""

from jagged_quilt.meshes.shapes import box as box
from jagged_quilt.meshes.shapes import jar as jar
from jagged_quilt.meshes.shapes import plane as plane
from jagged_quilt.meshes.shapes import sphere as sphere
from jagged_quilt.meshes.shapes import tube as tube
from jagged_quilt.meshes.unwrap import unwrap as unwrap
