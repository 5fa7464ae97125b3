"""Distances over a grid to where an answer passes one half, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

F0 = np.float32(0.0)
FAR = np.float32(1e6)  # metres, where there is no edge at all


@inlined
def _edge_between(own, other):
    """How far, 0..1, the edge (one half) lies from a texel towards its neighbour, or FAR where there is none between."""
    half = np.float32(0.5)
    if (own >= half) == (other >= half):
        return FAR
    return (half - own) / (other - own)


@inlined
def _edge_beside(answers, r, c, dr, dc):
    """As `_edge_between`, towards a neighbour that may lie outside."""
    rows, columns = answers.shape
    if not (0 <= r + dr < rows and 0 <= c + dc < columns):
        return FAR
    return _edge_between(answers[r, c], answers[r + dr, c + dc])


@kernel
def edge_points(answers, across, down, nearest):
    """Fill the way (right, down) in metres to an edge that passes between a texel and its four neighbours; else FAR.

    Where it passes both beside and above, say, it is the line through both crossings, and its foot the nearest point.
    """
    for r in range(answers.shape[0]):
        for c in range(answers.shape[1]):
            best, right, below = FAR, FAR, FAR
            for dc in (-1, 1):
                x = _edge_beside(answers, r, c, 0, dc)
                x = x * np.float32(dc) * across if x < FAR else FAR
                if abs(x) < best:
                    best, right, below = abs(x), x, F0
                for dr in (-1, 1):
                    z = _edge_beside(answers, r, c, dr, 0)
                    z = z * np.float32(dr) * down if z < FAR else FAR
                    if abs(z) < best:
                        best, right, below = abs(z), F0, z
                    apart = x * x + z * z
                    if x < FAR and z < FAR and apart > 0:
                        foot_x, foot_z = x * z * z / apart, x * x * z / apart
                        length = math.sqrt(foot_x * foot_x + foot_z * foot_z)
                        if length < best:
                            best, right, below = length, foot_x, foot_z
            nearest[r, c, 0], nearest[r, c, 1] = right, below


@inlined
def _learn(nearest, r, c, dr, dc, across, down):
    """Take the edge point of a neighbour if that is nearer than one's own."""
    rows, columns = nearest.shape[0], nearest.shape[1]
    if not (0 <= r + dr < rows and 0 <= c + dc < columns) or nearest[r + dr, c + dc, 0] >= FAR:
        return
    right = nearest[r + dr, c + dc, 0] + np.float32(dc) * across
    below = nearest[r + dr, c + dc, 1] + np.float32(dr) * down
    own = nearest[r, c, 0] * nearest[r, c, 0] + nearest[r, c, 1] * nearest[r, c, 1]
    if right * right + below * below < own:
        nearest[r, c, 0], nearest[r, c, 1] = right, below


@kernel
def spread_nearest(nearest, across, down):
    """Let every texel learn of the nearest edge point: down and up the rows, forth and back in each."""
    rows, columns = nearest.shape[0], nearest.shape[1]
    for twice in range(2):
        for line in range(rows):
            r = line if twice == 0 else rows - 1 - line
            before = -1 if twice == 0 else 1
            for c in range(columns):
                _learn(nearest, r, c, before, 0, across, down)
                _learn(nearest, r, c, before, -1, across, down)
                _learn(nearest, r, c, before, 1, across, down)
                _learn(nearest, r, c, 0, -1, across, down)
            for back in range(columns):
                _learn(nearest, r, columns - 1 - back, 0, 1, across, down)


@kernel
def signed_lengths(answers, nearest, distance):
    """Fill how far the edge points are, below 0 where the answer is a half or more."""
    for r in range(answers.shape[0]):
        for c in range(answers.shape[1]):
            length = min(math.sqrt(nearest[r, c, 0] ** 2 + nearest[r, c, 1] ** 2), FAR)
            distance[r, c] = -length if answers[r, c] >= np.float32(0.5) else length
