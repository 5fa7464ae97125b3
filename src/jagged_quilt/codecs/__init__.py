"""Texels as bytes: pixel formats, block codes, and the KTX2 container."""
