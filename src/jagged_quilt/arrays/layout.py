"""What goes into each channel of a texture array, and how it is stored."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from jagged_quilt.codecs.pixel_formats import PixelFormat, format_named
from jagged_quilt.foundation.checks import known_name, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.maps.roles import BLENDED_ROLES, FINE_ROLES, SURFACE_ROLES, MapRole, Transfer


@dataclass(frozen=True, slots=True)
class ArrayChannel:
    """What one channel holds: a channel of a role, perhaps inverted, or the same number everywhere.

    Attributes
    ----------
    role : MapRole or None
        None for a constant.
    component : int
        Which channel of the role.
    inverted : bool
        Whether 1 - value is stored.
    constant : float
        What is stored where there is no role.
    fine : bool
        Whether it holds what 8 bits leave away of the channel, in steps of 1 / 65535 and 128 where that is nothing: another
        array holds the rounded value.
    """

    role: MapRole | None
    component: int = 0
    inverted: bool = False
    constant: float = 1.0
    fine: bool = False

    @property
    def is_direction(self) -> bool:
        """Whether it is a component of a unit vector, from -1 to 1."""
        return self.role is not None and self.role.value.direction

    def __str__(self) -> str:
        if self.role is None:
            return f"{self.constant:g}"
        letters = self.role.value.letters
        before = "fine " if self.fine else "1 - " if self.inverted else ""
        return before + self.role.key + (f".{letters[self.component]}" if letters else "")


@dataclass(frozen=True, slots=True)
class Layout:
    """One texture array.

    Attributes
    ----------
    name : str
    channels : one to four Channel
    pixels : PixelFormat
    """

    name: str
    channels: tuple[ArrayChannel, ...]
    pixels: PixelFormat = PixelFormat.UNORM8

    def __repr__(self) -> str:
        return f"<Layout {self.name}: {', '.join(map(str, self.channels))}; {self.pixels.value.key}>"

    def __post_init__(self) -> None:
        opaque = len(self.channels) == 4 and self.channels[3] == ArrayChannel(None)
        count = 3 if opaque and self.pixels is PixelFormat.BC1 else len(self.channels)
        held = {
            *self.pixels.value.channels,
            *({3} if 4 in self.pixels.value.channels else set()),
        }  # three are filled up to four
        if count not in held:
            counts = " or ".join(str(n) for n in sorted(held))
            raise RangeError(f'array "{self.name}": {self.pixels.key} holds {counts} channels; got {len(self.channels)}')
        if not self.made_of:
            raise RangeError(f'array "{self.name}": no channel holds a map')

    @property
    def roles(self) -> tuple[MapRole, ...]:
        """The roles that this layout carries, each once; not those of which it holds only what is fine."""
        return tuple(dict.fromkeys(each.role for each in self.channels if each.role is not None and not each.fine))

    @property
    def is_fine(self) -> bool:
        """Whether it holds what 8 bits leave away of what others hold."""
        return any(each.fine for each in self.channels)

    @property
    def made_of(self) -> tuple[MapRole, ...]:
        """The roles that it is packed from, each once."""
        return tuple(dict.fromkeys(each.role for each in self.channels if each.role is not None))

    @property
    def srgb(self) -> bool:
        """Whether red, green and blue are stored sRGB-encoded: all of them colour, in a format that knows sRGB.

        Alpha never is; 16 bits and half floats hold linear light.
        """
        colours = self.channels[:3]
        return bool(self.pixels.value.srgb) and all(
            each.role is not None and each.role.value.transfer is Transfer.SRGB and not each.inverted for each in colours
        )

    @property
    def stored(self) -> int:
        """How many channels a texel takes: three are filled up to four."""
        return self.pixels.stored_channels(len(self.channels))

    def in_format(self, pixels: PixelFormat) -> Layout:
        """Return the same channels in another format."""
        return replace(self, pixels=pixels)


_CHANNEL = re.compile(r"(1\s*-\s*|fine\s+)?([a-z_]+)(?:\.([a-z]))?")


def channel_of(text: str | float) -> ArrayChannel:
    """Return the channel that a text names: `diffuse.r`, `normal.x`, `roughness`, `1 - roughness`, or a number.

    Raises
    ------
    RangeError, NameNotFoundError
        If it names none; the message says what there is.
    """
    if not isinstance(text, str):
        return ArrayChannel(None, constant=number_in("a constant channel", text, 0, 1))
    match = _CHANNEL.fullmatch(text.strip().lower())
    if match is None:
        raise RangeError(f'a channel is written like "diffuse.r", "normal.x", "1 - roughness", or a number; got "{text}"')
    roles = {role.key: role for role in MapRole}
    role = roles[known_name("role", match[2], roles)]
    letters = role.value.letters
    if role.value.channels == 1 and match[3]:
        raise RangeError(f'{role.key} has one channel; write "{role.key}"')
    if role.value.channels > 1 and (not match[3] or match[3] not in letters):
        raise RangeError(f'{role.key} has the channels {", ".join(f"{role.key}.{each}" for each in letters)}; got "{text}"')
    before, component = (match[1] or "").strip(), letters.index(match[3]) if match[3] else 0
    return ArrayChannel(role, component, inverted=before.startswith("1"), fine=before == "fine")


def layout_of(name: str, channels: Sequence[str | float], pixels: PixelFormat | str = PixelFormat.UNORM8) -> Layout:
    """Return a layout from what its channels are called, by `channel_of`, in a format or one by its name ("unorm16").

    Examples
    --------
    >>> jq.layout_of("packed", ["occlusion", "roughness", "metallic", 1.0])
    <Layout packed: occlusion, roughness, metallic, 1; unorm8>
    """
    return Layout(
        name,
        tuple(channel_of(each) for each in channels),
        pixels if isinstance(pixels, PixelFormat) else format_named(pixels),
    )


def _blended_layouts() -> tuple[Layout, ...]:
    """An array for each name that the table of roles tells; three channels are filled up with white."""
    channels: dict[str, list[ArrayChannel]] = {}
    for role in BLENDED_ROLES:
        channels.setdefault(role.value.array, []).extend(
            ArrayChannel(role, component) for component in range(role.value.packed)
        )
    filled = {name: [*each, ArrayChannel(None)] if len(each) == 3 else each for name, each in channels.items()}
    return tuple(Layout(name, tuple(each)) for name, each in filled.items())


BLENDED = _blended_layouts()
"""The layouts that a blend reads."""


def fine_layout(roles: Collection[MapRole]) -> Layout:
    """Return the layout of what 8 bits leave away of heights, normals or both: a blend reads it beside those that hold them."""
    held = [role for role in FINE_ROLES if role in roles]
    channels = [ArrayChannel(role, component, fine=True) for role in held for component in range(role.value.packed)]
    return Layout("fine", (*channels, *([ArrayChannel(None)] if len(channels) == 3 else [])))


FINE = fine_layout(FINE_ROLES)


def layouts_for(roles: Collection[MapRole], *, fine: Collection[MapRole] = ()) -> tuple[Layout, ...]:
    """Return the layouts that a blend reads of maps of some roles: those of every surface, and what else carries one.

    fine : of `FINE_ROLES` those that have more than 8 bits.
    """
    wanted = {*SURFACE_ROLES, *roles}
    return (*(layout for layout in BLENDED if wanted & set(layout.roles)), *([fine_layout(fine)] if fine else []))


def taking_fine(layouts: Collection[Layout]) -> frozenset[MapRole]:
    """Return the roles that some layouts hold in 8 bits, so that what these leave away can stand beside them."""
    if any(layout.is_fine for layout in layouts):
        return frozenset()
    held = {role: [each.pixels for each in layouts if role in each.roles] for role in FINE_ROLES}
    return frozenset(role for role, forms in held.items() if forms and set(forms) == {PixelFormat.UNORM8})


STANDARD = layouts_for(())
"""The layouts that carry what every surface has."""

LAYOUTS = {
    layout.name: layout
    for layout in (
        *BLENDED,
        FINE,
        layout_of("diffuse", ["diffuse.r", "diffuse.g", "diffuse.b"]),
        layout_of("diffuse_opacity", ["diffuse.r", "diffuse.g", "diffuse.b", "opacity"]),
        layout_of("normal", ["normal.x", "normal.y"]),
        layout_of("occlusion_roughness_metallic", ["occlusion", "roughness", "metallic"]),
        layout_of("specular_gloss", ["specular.r", "specular.g", "specular.b", "1 - roughness"]),
        layout_of("height", ["height"]),
    )
}
"""The presets. The first ones carry all that a blend reads; of those the last two what few swatches have."""


def layout_named(name: str) -> Layout:
    """Return a preset; raise `NameNotFoundError` with the nearest name if there is none."""
    return LAYOUTS[known_name("array layout", name, LAYOUTS)]
