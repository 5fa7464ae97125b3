"""Materials as MaterialX documents: the standard surface, its maps beside it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from xml.etree import ElementTree

from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.export.engine_maps import Conventions, Loss, engine_maps
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.surface_inputs import INPUTS, Read
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.maps.swatch import Swatch

_VERSION = "1.38"
_TYPES = {Read.COLOUR: "color3", Read.NUMBER: "float", Read.VECTOR: "vector3"}
_REFRACTION = 1.5  # which throws back 0.04 of what comes straight on


def write_materialx(
    materials: Mapping[str, BakedMaps | Swatch], folder: Path | str, *, bits: int = 8
) -> tuple[list[Path], tuple[str, ...]]:
    """Write a document for each material, `NAME.mtlx`, its maps in a folder beside it; return the files, and what is lost.

    A standard surface with base colour and metalness (what this conversion loses is reported), roughness, normal, coat,
    emission and opacity; heights are its displacement, in metres. Occlusion is an output of the graph, since the standard
    surface has no such input. Maps of swatches repeat, once for a unit of uv.

    Parameters
    ----------
    materials : mapping of name to BakedMaps or Swatch
    bits : int
        8 or 16; of heights 16 always.

    Raises
    ------
    ShapeError
        If normals that were baked are those of the world, which no material takes.

    Examples
    --------
    >>> files, notes = jq.export.write_materialx({"clay": clay}, "materials")
    """
    for name, given in materials.items():
        if isinstance(given, BakedMaps) and given.normals is not NormalSpace.TANGENT:
            raise ShapeError(f'the normals of "{name}" are those of the world; bake them with normals = "tangent"')
    folder, files, lost = Path(folder), list[Path](), list[str]()
    how = Conventions(metallic=True, bits=bits)
    for name, stem in stems_of([*materials]).items():
        given = materials[name]
        maps = engine_maps(given, how)
        files += maps.save(folder / stem)
        named = {key: f"{stem}/{key}.png" for key in maps.images}
        tile = (given.tile, given.tile * given.aspect) if isinstance(given, Swatch) else None
        files.append(folder / f"{stem}.mtlx")
        write_bytes(files[-1], _document(name, stem, named, maps.relief, tile))
        lost += [f'"{name}": {maps.lost}'] if isinstance(maps.lost, Loss) else []
    return files, tuple(lost)


def _document(name: str, stem: str, files: Mapping[str, str], relief: float, tile: tuple[float, float] | None) -> bytes:
    """The text of a document."""
    root = ElementTree.Element("materialx", version=_VERSION, colorspace="lin_rec709")
    graph = ElementTree.SubElement(root, "nodegraph", name=f"NG_{stem}")
    for key, file in files.items():
        _read(graph, key, file, tiled=tile is not None)
    surface = ElementTree.SubElement(root, "standard_surface", name=f"SR_{stem}", type="surfaceshader")
    plain = {"base": 1.0, "specular": 1.0, "specular_IOR": _REFRACTION, "coat_IOR": _REFRACTION}
    for key, value in (plain | ({"emission": 1.0} if "emission" in files else {})).items():
        _input(surface, key, "float", value=f"{value:g}")
    for key, fed in INPUTS.items():
        if key in files and fed.materialx:
            kind = "color3" if key == "opacity" else _TYPES[fed.read]
            _input(surface, fed.materialx, kind, nodegraph=f"NG_{stem}", output=f"{key}_out")
    doc = "" if tile is None else f"; a repeat covers {tile[0]:g} x {tile[1]:g} m"
    material = ElementTree.Element("surfacematerial", name=f"M_{stem}", type="material", doc=f"{name}{doc}")
    _input(material, "surfaceshader", "surfaceshader", nodename=f"SR_{stem}")
    if "height" in files:
        raised = ElementTree.SubElement(root, "displacement", name=f"D_{stem}", type="displacementshader")
        _input(raised, "displacement", "float", nodegraph=f"NG_{stem}", output="height_out")
        _input(raised, "scale", "float", value=f"{relief:g}")
        _input(material, "displacementshader", "displacementshader", nodename=f"D_{stem}")
    root.append(material)
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="utf-8", xml_declaration=True) + b"\n"


def _read(graph: ElementTree.Element, key: str, file: str, *, tiled: bool) -> None:
    """Add what reads a map, and the output that hands it on."""
    read = INPUTS[key].read if key in INPUTS else Read.NUMBER
    stored = _TYPES[read]
    node = ElementTree.SubElement(graph, "tiledimage" if tiled else "image", name=key, type=stored)
    _input(node, "file", "filename", value=file, **({"colorspace": "srgb_texture"} if read is Read.COLOUR else {}))
    if tiled:
        _input(node, "uvtiling", "vector2", value="1, 1")
    last, given = key, stored
    if read is Read.VECTOR:
        last = f"{key}_turned"
        _input(ElementTree.SubElement(graph, "normalmap", name=last, type="vector3"), "in", "vector3", nodename=key)
    elif key == "opacity":
        last, given = f"{key}_grey", "color3"
        _input(ElementTree.SubElement(graph, "convert", name=last, type="color3"), "in", "float", nodename=key)
    ElementTree.SubElement(graph, "output", name=f"{key}_out", type=given, nodename=last)


def _input(node: ElementTree.Element, name: str, kind: str, **rest: str) -> None:
    ElementTree.SubElement(node, "input", {"name": name, "type": kind, **rest})
