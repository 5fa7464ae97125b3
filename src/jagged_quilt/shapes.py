"""Made meshes, in metres, with uv that are metres too: to try things on.

Examples
--------
>>> import jagged_quilt as jq
>>> jq.shapes.sphere(radius=2.0)
<Mesh 3968 triangles, 2143 vertices, 1 part(s), 4 x 4 x 4 m, uv>
"""

from jagged_quilt.meshes.shapes import box as box
from jagged_quilt.meshes.shapes import jar as jar
from jagged_quilt.meshes.shapes import plane as plane
from jagged_quilt.meshes.shapes import sphere as sphere
from jagged_quilt.meshes.shapes import tube as tube
from jagged_quilt.meshes.unwrap import unwrap as unwrap

__all__ = ["box", "jar", "plane", "sphere", "tube", "unwrap"]
