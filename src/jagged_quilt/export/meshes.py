"""Meshes for engines: the terrain at a chosen error, and files of any mesh."""

from jagged_quilt.meshfiles.write import write_mesh as write_mesh
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh as terrain_mesh
