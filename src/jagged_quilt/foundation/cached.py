"""Whether a value that is worked out at first use has been."""

from __future__ import annotations


def is_known(value: object, name: str) -> bool:
    """Return whether a cached property of a value has been asked; it is not asked here."""
    return name in vars(value)
