"""Swatches packed into texture arrays: channel layouts, mip chains, KTX2 files."""
