"""Names for the rows of a kernel's buffers, so that no kernel counts them by hand."""

from __future__ import annotations

from enum import IntEnum


class RowTable(IntEnum):
    """The rows of a buffer, by name: each member is said by how many rows it takes, and is the number of its first one.

        class Plane(RowTable):
            U = 1
            V = 1
            GRADIENT = 3  # rows 2, 3 and 4
            END = 0  # 5, how many rows there are

    A member may lie over rows of an earlier one: `AXIS = 2, "STEPS", 1` takes two rows from the second of STEPS on.
    """

    width: int

    def __new__(cls, width: int, over: str = "", skip: int = 0) -> RowTable:
        first = cls[over] + skip if over else max((row + row.width for row in cls), default=0)
        row = int.__new__(cls, first)
        row._value_, row.width = int(first), width
        return row
