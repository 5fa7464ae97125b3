"""Films: what lies upon the blended layers changes what they gave."""

from __future__ import annotations

from jagged_quilt.blend._rows import (
    DIFFUSE,
    F0,
    F1,
    FILM_COLOUR,
    FILM_FILLS,
    FILM_HIDES,
    FILM_LEVEL,
    FILM_ROUGH,
    FILM_ROUGHNESS,
    FILM_ROWS,
    FILM_SHARP,
    FILM_SHINES,
    FILM_SPECULAR,
    FILM_TINT,
    HEIGHT,
    INDEX,
    ROUGHNESS,
    SPECULAR,
    TILT,
    B,
)
from jagged_quilt.foundation.compiler import inlined, lanes


@lanes
def cover(film, films, amount, weight, sums):
    """Fill how much of each lane a film covers: the deepest first, as far as it looks for hollows."""
    sharp, high = films[INDEX(film * FILM_ROWS + FILM_SHARP)], INDEX(HEIGHT * B)
    for t in range(B):
        i = INDEX(t)
        there = amount[i] + sharp * (amount[i] - sums[high + i])
        weight[i] = min(max(there, F0), F1) if amount[i] > F0 else F0


@lanes
def towards(row, value, share, weight, sums):
    """Move a row of sums towards a value, by a share of what is covered."""
    at = INDEX(row * B)
    for t in range(B):
        i = INDEX(t)
        sums[at + i] += weight[i] * share * (value - sums[at + i])


@lanes
def colour(row, tint, value, hides, weight, sums):
    """Multiply a row of sums by a tint, and move it towards a colour, where it is covered."""
    at = INDEX(row * B)
    for t in range(B):
        i = INDEX(t)
        below = sums[at + i] * (F1 + weight[i] * (tint - F1))
        sums[at + i] = below + weight[i] * hides * (value - below)


@lanes
def even_out(level, fills, amount, weight, sums):
    """Flatten slopes where they are covered, and fill what lies lower than the film stands."""
    a, below, high = INDEX(TILT * B), INDEX(B), INDEX(HEIGHT * B)
    for t in range(B):
        i = INDEX(t)
        rest = F1 - weight[i] * level
        sums[a + i], sums[a + below + i] = sums[a + i] * rest, sums[a + below + i] * rest
        sums[a + below + below + i] *= rest
        sums[high + i] += weight[i] * fills * max(F0, amount[i] - sums[high + i])


@inlined
def lay_films(points, films, who, mix):
    """Lay every film of the block upon the sums, in order."""
    for film in range(films.shape[0] // FILM_ROWS):
        at = film * FILM_ROWS
        for t in range(B):
            mix.scaled[INDEX(t)] = points.films[INDEX(who[INDEX(t)]), INDEX(film)]
        cover(film, films, mix.scaled, mix.weight, mix.sums)
        for axis in range(3):
            tint, own = films[INDEX(at + FILM_TINT + axis)], films[INDEX(at + FILM_COLOUR + axis)]
            colour(DIFFUSE + axis, tint, own, films[INDEX(at + FILM_HIDES)], mix.weight, mix.sums)
            towards(SPECULAR + axis, films[INDEX(at + FILM_SPECULAR)], films[INDEX(at + FILM_SHINES)], mix.weight, mix.sums)
        towards(ROUGHNESS, films[INDEX(at + FILM_ROUGHNESS)], films[INDEX(at + FILM_ROUGH)], mix.weight, mix.sums)
        even_out(films[INDEX(at + FILM_LEVEL)], films[INDEX(at + FILM_FILLS)], mix.scaled, mix.weight, mix.sums)
