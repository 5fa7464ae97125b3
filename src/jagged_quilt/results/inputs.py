"""What each step of a quilt depends on, so that only what changed is done again."""

from __future__ import annotations

import contextlib
import json
import uuid
from collections.abc import Iterator
from typing import TYPE_CHECKING

from jagged_quilt.arrays.texture_arrays import INPUTS
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import FileDigests, digest_of_file, read_bytes, read_json
from jagged_quilt.foundation.loose import Facts
from jagged_quilt.maps.roles import SURFACE_ROLES
from jagged_quilt.masks.mask import stamps_of
from jagged_quilt.quiltfile.quilt import GROUND
from jagged_quilt.weights.daub_file import line_of
from jagged_quilt.weights.daub_windows import DaubFile

if TYPE_CHECKING:
    from jagged_quilt.results.results import Results


class Inputs:
    """Says of every step of some results what it depends on, as bytes and text to be hashed."""

    def __init__(self, results: Results) -> None:
        self._results, self.quilt = results, results.quilt

    def pack(self) -> Iterator[str]:
        """Yield what the arrays depend on."""
        yield self.quilt.table.arrays.model_dump_json()
        known: Facts = {}
        with contextlib.suppress(FileError):
            known = read_json(self._results.folder / "arrays" / INPUTS, "list of inputs")
        digests = FileDigests(known)
        roles = {role for layout in self.quilt.layouts for role in layout.roles} | set(SURFACE_ROLES)
        for source in self._results.sources:
            yield from (source.name, f"{source.tile} {source.aspect} {source.relief}", source.stamp(roles, digests))

    def own_masks(self) -> list[str]:
        """Return what the masks of a user's own kinds depend on; of one that cannot tell, something else each time."""
        quilt = self.quilt
        found = stamps_of([quilt.layers, quilt.films, quilt.channels, [layer for own in quilt.mesh_layers for _, layer in own]])
        return [str(uuid.uuid4()) if stamp is None else stamp for stamp in found]

    def adopt(self) -> Iterator[bytes | str]:
        """Yield what the adopted weights depend on."""
        table = self.quilt.table.adopt
        assert table is not None
        yield from (table.model_dump_json(), json.dumps([layer.name for layer in self.quilt.layers]))
        yield from (digest_of_file(self.quilt.folder / file, "inherited file") for file in table.files)

    def weigh(self) -> Iterator[bytes | str]:
        """Yield what the weights depend on."""
        table = self.quilt.table
        assert table.surface is not None
        masks = [(layer.label, layer.swatch, [step.model_dump(mode="json") for step in layer.mask]) for layer in table.layer]
        if table.channel:
            yield json.dumps([each.model_dump(mode="json") for each in table.channel])
        if self._results.reads_detail:
            yield from (
                self._results.runner.stamp("pack"),
                json.dumps([layer.model_dump(mode="json") for layer in table.layer]),
            )
        yield from (repr(table.surface), table.weights.model_dump_json(), json.dumps(masks), self._medleys)
        yield self._daubs()
        yield from (digest_of_file(self.quilt.folder / file, "heightmap") for file in table.surface.files)
        yield from self._mask_files()
        yield from self.own_masks()

    def bake(self) -> Iterator[bytes | str]:
        """Yield what the maps of the ground depend on, beside its weights and arrays."""
        table = self.quilt.table
        if table.bake.weights != "map":
            yield from self.weigh()
        yield from (json.dumps([layer.model_dump(mode="json") for layer in table.layer]), table.bake.model_dump_json())
        yield from (str(self._results.bake_texels), str(table.weights.time), "by shader" * self._results.on_gpu)
        yield from self._flow_files()
        yield from self._films(GROUND)
        if self.quilt.films_on(GROUND):
            yield from self._mask_files()
            yield from self.own_masks()

    def mesh(self, number: int) -> Iterator[bytes | str]:
        """Yield what the maps of a mesh depend on: the mesh as read and placed, so that all that its file names counts."""
        quilt, table, mesh = self.quilt, self.quilt.table, self.quilt.meshes[number]
        yield from (table.mesh[number].model_dump_json(), table.bake.model_dump_json(), self._medleys)
        yield str(quilt.heights) if table.medley and table.surface is not None else ""
        for array in (mesh.position, mesh.normal, mesh.tangent, mesh.triangles, mesh.uv, mesh.colour, mesh.layout):
            yield b"" if array is None else array.tobytes()
        yield from (str(mesh.origin), str(table.weights.time), "by shader" * self._results.on_gpu)
        yield from self._mask_files()
        yield from self.own_masks()
        yield from self._flow_files()
        yield from self._films(table.mesh[number].name)

    def picture(self) -> Iterator[bytes | str]:
        """Yield everything that the quilt file says or names."""
        yield self.quilt.table.model_dump_json()
        try:
            yield from self.pack()
        except QuiltError as error:  # the audit draws what is missing, too
            yield str(error)
        yield from self._mask_files()
        yield from self.own_masks()
        if self.quilt.table.sky.image:
            yield read_bytes(self.quilt.folder / self.quilt.table.sky.image, "sky image")
        for number in range(len(self.quilt.table.mesh)):
            yield from self.mesh(number)

    @property
    def _medleys(self) -> str:
        return json.dumps([each.model_dump(mode="json") for each in self.quilt.table.medley])

    def _films(self, thing: str) -> Iterator[str]:
        """What the films of the ground or of a mesh, and the channels that they may ask, depend on beside image files."""
        films = [film for film in self.quilt.table.film if not film.on or thing in film.on]
        yield json.dumps([each.model_dump(mode="json") for each in films])
        if films:  # whose masks may ask those of the ground's layers
            yield json.dumps([layer.model_dump(mode="json") for layer in self.quilt.table.layer])
        if self.quilt.table.channel:
            yield json.dumps([each.model_dump(mode="json") for each in self.quilt.table.channel])
            yield self._daubs()

    def _daubs(self) -> str:
        daubs = self.quilt.daubs
        return digest_of_file(daubs.path) if isinstance(daubs, DaubFile) else "\n".join(map(line_of, daubs))

    def _mask_files(self) -> Iterator[bytes]:
        return (read_bytes(self.quilt.folder / file, "image file") for file in self.quilt.table.mask_files())

    def _flow_files(self) -> Iterator[str]:
        return (digest_of_file(self.quilt.folder / file, "image file") for file in self.quilt.table.flow_files())
