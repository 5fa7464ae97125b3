"""What several steps of a quilt depend on, as bytes and text to be hashed."""

from __future__ import annotations

import json
from collections.abc import Iterator

from jagged_quilt.foundation.files import digest_of_file, read_bytes
from jagged_quilt.masks.mask import stamps_of
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.weights.daub_file import line_of
from jagged_quilt.weights.daub_windows import DaubFile


def own_kinds(quilt: Quilt) -> list[str]:
    """Return what the masks and projections of a user's own kinds depend on."""
    return stamps_of([quilt.layers, quilt.films, quilt.channels, [layer for own in quilt.mesh_layers for _, layer in own]])


def medleys(quilt: Quilt) -> str:
    """Return what its medleys say."""
    return json.dumps([each.model_dump(mode="json") for each in quilt.table.medley])


def layers_said(quilt: Quilt) -> str:
    """Return what its layers say."""
    return json.dumps([layer.model_dump(mode="json") for layer in quilt.table.layer])


def films(quilt: Quilt, thing: str) -> Iterator[str]:
    """Yield what the films of the ground or of a mesh, and the channels that they may ask, depend on beside image files."""
    own = [film for film in quilt.table.film if not film.on or thing in film.on]
    yield json.dumps([each.model_dump(mode="json") for each in own])
    if own:  # whose masks may ask those of the ground's layers
        yield layers_said(quilt)
    if quilt.table.channel:
        yield json.dumps([each.model_dump(mode="json") for each in quilt.table.channel])
        yield channel_daubs(quilt)


def channel_daubs(quilt: Quilt) -> str:
    """Return what its daubs on channels say; of a large file all daubs."""
    painted = quilt.daubs
    return daubs(quilt) if isinstance(painted, DaubFile) else "\n".join(line_of(each) for each in painted if each.channel)


def daubs(quilt: Quilt) -> str:
    """Return what its daubs say."""
    painted = quilt.daubs
    return digest_of_file(painted.path) if isinstance(painted, DaubFile) else "\n".join(map(line_of, painted))


def mask_files(quilt: Quilt) -> Iterator[bytes]:
    """Yield the image files of its masks."""
    return (read_bytes(quilt.folder / file, "image file") for file in quilt.table.mask_files())


def flow_files(quilt: Quilt) -> Iterator[str]:
    """Yield the image files by which its layers are bent."""
    return (digest_of_file(quilt.folder / file, "image file") for file in quilt.table.flow_files())
