"""Texture maps and their roles, swatches (the maps of one material), image files in and out."""
