"""The version, here once; the package's metadata reads it."""

__version__ = "0.3.0"
