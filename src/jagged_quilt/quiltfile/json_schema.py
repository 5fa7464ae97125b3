"""A JSON Schema of quilt files (draft 2020-12), made of the tables that read them: editors complete and check by it."""

from __future__ import annotations

import re

from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import PROJECTIONS
from jagged_quilt.blend.tuning import Tuning
from jagged_quilt.foundation.json_types import Facts, Unchecked
from jagged_quilt.foundation.version import __version__
from jagged_quilt.light.lamps import LIGHTS
from jagged_quilt.light.sky import Sky
from jagged_quilt.masks.mask import MASK_KINDS
from jagged_quilt.quiltfile.mask_tables import mask_kinds, step_of
from jagged_quilt.quiltfile.schema import QuiltTable
from jagged_quilt.surfaces.terrain_source import TerrainSource

DRAFT = "https://json-schema.org/draft/2020-12/schema"
_FORMULA: Facts = {"type": "string", "pattern": r"^\s*="}
_WITH_FORMULAS = re.compile(r"(Layer|Medley|Channel|Film)Table$|Step$")
_ATTRIBUTE = re.compile(r"^(\w+(?:, \w+)*) : .*\n((?:    .*\n|\n)*)", re.MULTILINE)


def quilt_schema() -> Facts:
    """Return the schema: every table and key with its type, its default, its choices, and what it means.

    Masks of one's own module are in it once that is loaded.
    """
    schema = QuiltTable.model_json_schema()
    tables: Facts = schema["$defs"]
    steps: list[Facts] = []
    for kind in sorted(mask_kinds()):  # whatever was loaded first
        own = step_of(kind).model_json_schema()
        for name, table in own.pop("$defs", {}).items():
            tables.setdefault(name, table)
        name = f"{kind.title().replace(' ', '')}Step"
        own["title"] = f"a mask of the kind {kind}"
        tables[name] = own
        steps.append({"$ref": f"#/$defs/{name}"})
    tables["MaskStep"] = {"oneOf": steps}
    for table in tables.values():
        if "mask" in table.get("properties", {}):
            table["properties"]["mask"]["items"] = {"$ref": "#/$defs/MaskStep"}
    for name in ("LayerTable", "MeshLayerTable"):
        label = tables[name]["properties"]["label"]
        tables[name]["properties"]["name"] = {**label, "description": "What to call it; its swatch where nothing is said."}
    _describe(tables)
    for name, table in tables.items():
        if _WITH_FORMULAS.search(name):
            table["properties"] = {key: _or_formula(each) for key, each in table.get("properties", {}).items()}
    return {"$schema": DRAFT, "$id": f"urn:jagged-quilt:quilt-file:{__version__}", **schema, "title": "A quilt file"}


def _or_formula(said: Unchecked) -> Unchecked:
    """Let numbers be formulas of time too."""
    if isinstance(said, list):
        return [_or_formula(each) for each in said]
    if not isinstance(said, dict):
        return said
    if said.get("type") in ("number", "integer"):
        number = {key: value for key, value in said.items() if key not in ("default", "title", "description")}
        return {key: value for key, value in said.items() if key not in number} | {"anyOf": [number, _FORMULA]}
    return {key: each if key in ("default", "enum", "const") else _or_formula(each) for key, each in said.items()}


def _describe(tables: Facts) -> None:
    """Write at every key what the docstring of the value that it makes says of it."""
    kinds = {"FilmTable": Film, "LayerTable": Layer, "MeshLayerTable": Layer, "Tuning": Tuning, "SkyTable": Sky}
    kinds |= {"TerrainSource": TerrainSource}
    kinds |= {f"{key.title()}Table": kind for key, kind in LIGHTS.items()}
    kinds |= {f"{key.title().replace(' ', '')}Step": kind for key, kind in MASK_KINDS.items()}
    for name, table in tables.items():
        said = _attributes(kinds[name]) if name in kinds else {}
        if name in ("LayerTable", "MeshLayerTable"):
            for projection in PROJECTIONS.values():
                said |= {key: text for key, text in _attributes(projection).items() if key not in said}
        for key, each in table.get("properties", {}).items():
            if key in said and "description" not in each and "$ref" not in each:
                each["description"] = said[key]


def _attributes(kind: type) -> dict[str, str]:
    """What the docstrings of a dataclass and of those below it say of its fields."""
    out: dict[str, str] = {}
    for base in reversed(kind.__mro__[:-1]):
        text = re.sub(r"^    ", "", base.__doc__ or "", flags=re.MULTILINE)
        for names, body in _ATTRIBUTE.findall(text + "\n"):
            out |= {name: " ".join(body.split()) for name in names.split(", ") if body.strip()}
    return out
