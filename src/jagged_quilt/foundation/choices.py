"""Closed choices: names that carry their facts, and may be given as plain text."""

from __future__ import annotations

from enum import StrEnum
from typing import Self

from jagged_quilt.foundation.checks import known_name


class Choice(StrEnum):
    """A choice with a name for files and people, and the number that kernels know it by.

    A member is its own name as text: `Filter.NEAREST == "nearest"`.
    """

    code: int

    def __new__(cls, name: str, code: int = 0) -> Self:
        member = str.__new__(cls, name)
        member._value_ = name
        member.code = code
        return member

    def __repr__(self) -> str:
        return repr(str(self))

    @classmethod
    def of(cls, given: str, what: str = "") -> Self:
        """Return the member of a name; raise `NameNotFoundError` with the nearest one if there is none."""
        return cls(known_name(what or cls.__name__.lower(), str(given), [str(each) for each in cls]))


class Wrap(Choice):
    """What lies beyond the first tile of a texture."""

    REPEAT = "repeat", 0
    CLAMP = "clamp", 1
    MIRROR = "mirror", 2
