"""Texture maps and their roles, swatches and where they come from, conversions, image files, the audit."""
