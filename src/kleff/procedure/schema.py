"""The format as a JSON Schema (draft 2020-12), so that an editor can complete a procedure."""

from __future__ import annotations

from typing import Any

import msgspec

from kleff.procedure.load import KindTable
from kleff.procedure.model import Ask, Keep, Product, Section


def procedure_schema(kinds: KindTable) -> dict[str, Any]:
    """The JSON Schema of a procedure with the given object kinds."""
    models = sorted({m for table in kinds.values() for m in table.values()}, key=lambda m: m.__name__)
    sections: list[type[Section]] = [Product, Keep, Ask, *models]
    refs, parts = msgspec.json.schema_components(sections, ref_template="#/$defs/{name}")
    named = dict(zip((m.__name__ for m in sections), refs, strict=True))
    steps = {
        phase: {"type": "array", "items": {"anyOf": [named[m.__name__] for m in dict.fromkeys(table.values())]}}
        for phase, table in kinds.items()
    }
    folders = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A Kleff procedure, format 1",
        "type": "object",
        "additionalProperties": False,
        "required": ["format", "product", "evidence"],
        "properties": {
            "format": {"const": 1},
            "product": named["Product"],
            "places": {"type": "object", "additionalProperties": folders},
            "keep": named["Keep"],
            "ask": {"type": "array", "items": named["Ask"]},
            **steps,
        },
        "$defs": parts,
    }
