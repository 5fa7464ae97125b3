"""Mesh files: OBJ with MTL, glTF and PLY, read and written."""
