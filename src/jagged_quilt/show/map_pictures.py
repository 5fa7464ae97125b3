"""Single maps as pictures."""

from __future__ import annotations

import numpy as np

from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.show.board import Picture, picture_of, picture_of_data


def map_picture(given: TextureMap, rows: int, columns: int) -> Picture:
    """Draw a map at a given size: colour as it looks, all else with the stored numbers as greys or colours."""
    if given.role.value.direction:
        return picture_of_data(given.values * 0.5 + 0.5, rows, columns)
    if given.role.is_colour:
        return picture_of(given.values, rows, columns)
    return picture_of_data(given.values, rows, columns)


def neutral_picture(role: MapRole, rows: int, columns: int) -> Picture:
    """Draw what stands in for a missing map."""
    texel = np.full((1, 1, role.value.channels), role.value.neutral, np.float32)
    values = texel * 0.5 + 0.5 if role.value.direction else texel
    one = picture_of(values, 1, 1) if role.is_colour else picture_of_data(values, 1, 1)
    return np.broadcast_to(one, (rows, columns, 3)).copy()
