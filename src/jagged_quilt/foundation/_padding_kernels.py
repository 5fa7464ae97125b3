"""The nearest covered texel of every texel, as loops."""

from __future__ import annotations

from jagged_quilt.foundation.compiler import inlined, kernel


@inlined
def _ask(row, column, other_row, other_column, near_row, near_column):
    their_row, their_column = near_row[other_row, other_column], near_column[other_row, other_column]
    if their_row < 0:
        return
    mine_row, mine_column = near_row[row, column], near_column[row, column]
    far = (their_row - row) * (their_row - row) + (their_column - column) * (their_column - column)
    if mine_row < 0 or far < (mine_row - row) * (mine_row - row) + (mine_column - column) * (mine_column - column):
        near_row[row, column], near_column[row, column] = their_row, their_column


@kernel
def nearest_texels(owned, rows, columns, near_row, near_column):
    """Fill the row and column of the nearest owned texel for each texel, -1 where there is none; all (rows, columns).

    Two sweeps in which every texel asks its neighbours whose nearest is nearer (Danielsson 1980, with eight neighbours).
    """
    for row in range(rows):
        for column in range(columns):
            near_row[row, column] = row if owned[row, column] else -1
            near_column[row, column] = column if owned[row, column] else -1
    for sweep in range(2):
        for step in range(rows):
            row = rows - 1 - step if sweep else step
            other = row + 1 if sweep else row - 1
            if 0 <= other < rows:
                for column in range(columns):
                    if not owned[row, column]:
                        for there in range(max(column - 1, 0), min(column + 2, columns)):
                            _ask(row, column, other, there, near_row, near_column)
            for column in range(1, columns):
                if not owned[row, column]:
                    _ask(row, column, row, column - 1, near_row, near_column)
            for column in range(columns - 2, -1, -1):
                if not owned[row, column]:
                    _ask(row, column, row, column + 1, near_row, near_column)
