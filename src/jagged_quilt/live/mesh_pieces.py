"""The meshes of a quilt as a page draws them: part by part, with weights at vertices that are close enough for them."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from jagged_quilt.blend.detail_mask import layers_seeing, reads_detail
from jagged_quilt.blend.film import Film, film_amounts, films_on
from jagged_quilt.blend.plan import BlendPlan, Pages
from jagged_quilt.export.shader import BlendShader, Dialect, blend_shader
from jagged_quilt.foundation.fields import Fields
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.refine import refined
from jagged_quilt.results import inputs
from jagged_quilt.results.mesh_weights import daubs_on_mesh, mesh_weights
from jagged_quilt.results.results import Results
from jagged_quilt.surfaces.mesh_fields import MeshFields
from jagged_quilt.surfaces.parts import parts_of
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_file import line_of
from jagged_quilt.weights.weigher import Weigher

_PATCHES = 15_000  # of a part's area, one of which an edge spans at most, where weights change over it
_FOUR = 4  # numbers in an attribute


@dataclass(frozen=True, eq=False)
class MeshPiece:
    """A part of a mesh.

    Attributes
    ----------
    mesh, part : str
    shape : Mesh
        That part, cut as finely as weights need it.
    carried : (V, 4 n) uint8
        Weights of its layers, then amounts of its films.
    blend : BlendShader
    """

    mesh: str
    part: str
    shape: Mesh
    carried: Stored
    blend: BlendShader
    stamps: tuple[str, str]

    @property
    def facts(self) -> Facts:
        """What a page is told of it."""
        samplers = zip(self.blend.samplers, self.blend.arrays, strict=True)
        return {
            "mesh": self.mesh,
            "part": self.part,
            "layers": list(self.blend.layers),
            "samplers": [{"name": name, "array": array} for name, array in samplers],
            "fours": self.carried.shape[1] // _FOUR,
            "corners": self.shape.triangles.size,
        }

    def vertices(self) -> bytes:
        """Position, normal and uv of every vertex, eight floats."""
        uv = np.zeros((len(self.shape.position), 2)) if self.shape.uv is None else self.shape.uv
        return np.column_stack([self.shape.world, self.shape.normal, uv]).astype("<f4").tobytes()

    def triangles(self) -> bytes:
        """The corners of every triangle, whole numbers of 32 bits."""
        return self.shape.triangles.astype("<u4").tobytes()


@dataclass
class _Kept:
    """What is kept of a mesh from change to change."""

    mesh: Mesh
    fields: Fields
    shapes: dict[str, Mesh] = field(default_factory=dict)  # by part
    carried: dict[str, tuple[str, Stored]] = field(default_factory=dict)  # by part: stamp, numbers
    number: int = 0


class KeptMeshes:
    """The pieces of the meshes of a quilt that is read again and again: what did not change is kept."""

    def __init__(self) -> None:
        self._kept: dict[str, _Kept] = {}
        self._count = 0

    def pieces(self, results: Results, pages: Pages, more: Sequence[Daub] = ()) -> list[MeshPiece]:
        """Return the pieces of all meshes, in the order of the file.

        more : daubs on top of those of the file.
        """
        quilt, out, kept = results.quilt, list[MeshPiece](), dict[str, _Kept]()
        for number, (table, mesh) in enumerate(zip(quilt.table.mesh, quilt.meshes, strict=True)):
            own = self._kept.get(table.name)
            if own is None or own.mesh is not mesh:
                self._count += 1
                own = _Kept(mesh, MeshFields(mesh), number=self._count)
            kept[table.name] = own
            out += self._of_mesh(results, number, own, pages, more)
        self._kept = kept
        return out

    def _of_mesh(self, results: Results, number: int, kept: _Kept, pages: Pages, more: Sequence[Daub]) -> Iterator[MeshPiece]:
        quilt, name = results.quilt, results.quilt.table.mesh[number].name
        films = quilt.films_on(name)
        painted = daubs_on_mesh(quilt, number, more)
        stamp = fingerprint(*_masks_said(results, number), *map(line_of, painted))
        weighers: dict[str, Weigher] | None = None
        for part in parts_of(kept.mesh):
            layers = quilt.layers_by_part[number][part.name]
            plan = BlendPlan.of(
                layers, pages, filter=quilt.table.bake.filter, films=films, frame=part.frame, metres=part.metres
            )
            blend = blend_shader(results.arrays, plan, dialect=Dialect.ESSL, title=f"{name}, {part.name}")
            varies = len(blend.layers) > 1 or bool(films)
            shape = kept.shapes.get(f"{part.name} {varies}")
            if shape is None:
                whole = kept.mesh.part(part.name)
                shape = refined(whole, float(np.sqrt(whole.area / _PATCHES))) if varies else whole
                kept.shapes[f"{part.name} {varies}"] = shape
            known = kept.carried.get(part.name)
            if known is None or known[0] != stamp:
                if weighers is None:
                    weighers = mesh_weights(results, number, fields=kept.fields, more=more) or {}
                weigher = weighers.get(part.name) or Weigher(layers_seeing(layers, pages), kept.fields)
                known = stamp, _carried(weigher, blend, films, shape, kept.fields)
                kept.carried[part.name] = known
            of_shape = fingerprint(str(kept.number), part.name, str(varies))
            yield MeshPiece(name, part.name, shape, known[1], blend, (of_shape, fingerprint(of_shape, stamp)))


def _carried(weigher: Weigher, blend: BlendShader, films: Sequence[Film], shape: Mesh, fields: Fields) -> Stored:
    """The weights of a part's layers, and the amounts of its films, at the vertices of its shape."""
    points, count = shape.points(), len(blend.layers)
    out = np.zeros((len(points), -(-(count + len(films)) // _FOUR) * _FOUR), np.float32)
    weights = weigher.at(points)
    rows = np.arange(len(points))
    for column in range(weights.layers.shape[1]):
        np.add.at(out, (rows, weights.layers[:, column].astype(int)), weights.weights[:, column])
    if films:
        out[:, count : count + len(films)] = film_amounts(films_on(films, fields), points)
    return np.rint(np.clip(out, 0, 1) * 255).astype(np.uint8)


def _masks_said(results: Results, number: int) -> Iterator[bytes | str]:
    """Yield what the weights and the films of a mesh depend on, beside the mesh."""
    quilt = results.quilt
    table = quilt.table.mesh[number]
    yield json.dumps([(each.part, each.swatch, [step.model_dump(mode="json") for step in each.mask]) for each in table.layer])
    yield from (inputs.medleys(quilt), str(quilt.table.weights.time))
    yield from inputs.mask_files(quilt)
    yield from inputs.own_kinds(quilt)
    yield from inputs.films(quilt, table.name)
    if any(reads_detail(layer.mask) for _, layer in quilt.mesh_layers[number]):
        yield from (results.runner.stamp("pack"), table.model_dump_json())
