"""Meshes: triangles with normals, tangents and texture coordinates, read, made, unwrapped, and seen."""
