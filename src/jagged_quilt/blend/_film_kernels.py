"""Films: what lies upon the blended layers changes what they gave."""

from __future__ import annotations

from jagged_quilt.blend._lane_kernels import lane
from jagged_quilt.blend._rows import DIFFUSE, F0, F1, HEIGHT, INDEX, ROUGHNESS, SPECULAR, TILT, B
from jagged_quilt.foundation.compiler import inlined, lanes


@lanes
def cover(sharpness, amount, weight, sums):
    """Fill how much of each lane a film covers: the deepest first, as far as it looks for hollows."""
    for t in range(B):
        a = amount[lane(0, t)]
        there = a + sharpness * (a - sums[lane(HEIGHT, t)])
        weight[lane(0, t)] = min(max(there, F0), F1) if a > F0 else F0


@lanes
def move_towards(row, value, share, weight, sums):
    """Move a row of sums towards a value, by a share of what is covered."""
    for t in range(B):
        sums[lane(row, t)] += weight[lane(0, t)] * share * (value - sums[lane(row, t)])


@lanes
def tint_and_hide(row, tint, value, opacity, weight, sums):
    """Multiply a row of sums by a tint, and move it towards a colour, where it is covered."""
    for t in range(B):
        w = weight[lane(0, t)]
        below = sums[lane(row, t)] * (F1 + w * (tint - F1))
        sums[lane(row, t)] = below + w * opacity * (value - below)


@lanes
def even_out(flatten, fill, amount, weight, sums):
    """Flatten slopes where they are covered, and fill what lies lower than the film stands."""
    for t in range(B):
        rest = F1 - weight[lane(0, t)] * flatten
        for axis in range(3):
            sums[lane(TILT + axis, t)] *= rest
        lower = amount[lane(0, t)] - sums[lane(HEIGHT, t)]
        sums[lane(HEIGHT, t)] += weight[lane(0, t)] * fill * max(F0, lower)


@inlined
def add_films(points, films, who, mix):
    """Add every film of the block to the sums, in order."""
    amount, weight, sums = mix.scaled, mix.weight, mix.sums
    for which in range(films.shape[0]):
        film = films[which]
        for t in range(B):
            amount[lane(0, t)] = points.films[INDEX(who[INDEX(t)]), INDEX(which)]
        cover(film["sharpness"], amount, weight, sums)
        for axis in range(3):
            tint_and_hide(DIFFUSE + axis, film["tint"][axis], film["colour"][axis], film["opacity"], weight, sums)
            move_towards(SPECULAR + axis, film["specular"], film["specular_share"], weight, sums)
        move_towards(ROUGHNESS, film["roughness"], film["roughness_share"], weight, sums)
        even_out(film["flatten"], film["fill"], amount, weight, sums)
