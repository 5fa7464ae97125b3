"""What goes into each channel of a texture array."""

from __future__ import annotations

from dataclasses import dataclass

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.maps.roles import MapRole


@dataclass(frozen=True, slots=True)
class Layout:
    """Four channels of 8 bits.

    Attributes
    ----------
    channels : four of (role, channel of the role) or None
        None is filled with white.
    colour : bool
        Whether red, green and blue are stored sRGB-encoded; alpha never is.
    """

    name: str
    channels: tuple[tuple[MapRole, int] | None, ...]
    colour: bool

    @property
    def roles(self) -> tuple[MapRole, ...]:
        """The roles that this layout carries, each once."""
        return tuple(dict.fromkeys(role for role, _ in filter(None, self.channels)))


LAYOUTS = {
    layout.name: layout
    for layout in (
        Layout(
            "diffuse_height",
            ((MapRole.DIFFUSE, 0), (MapRole.DIFFUSE, 1), (MapRole.DIFFUSE, 2), (MapRole.HEIGHT, 0)),
            colour=True,
        ),
        Layout(
            "normal_roughness_occlusion",
            ((MapRole.NORMAL, 0), (MapRole.NORMAL, 1), (MapRole.ROUGHNESS, 0), (MapRole.OCCLUSION, 0)),
            colour=False,
        ),
        Layout("specular", ((MapRole.SPECULAR, 0), (MapRole.SPECULAR, 1), (MapRole.SPECULAR, 2), None), colour=True),
    )
}


def layout_named(name: str) -> Layout:
    """Return a preset; raise `NameNotFoundError` with the nearest name if there is none."""
    return LAYOUTS[known_name("array layout", name, LAYOUTS)]
