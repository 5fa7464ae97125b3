"""Swatches packed into texture arrays: channel layouts, mip chains, slices, files."""
