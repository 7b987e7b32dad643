"""Write the parts of docs/ that are made from the code and its data: docs/procedure.md, docs/json.md and docs/guard.md, and the
figures of docs/architecture.md.

Run it after a model has changed:  python scripts/make_docs.py
"""

from __future__ import annotations

import inspect
import json
import sys
from pathlib import Path
from typing import Any, get_type_hints

import msgspec
from figures import HEAD, table

from kleff.case.guard.tables import as_data, system_names
from kleff.objects.base.known import model_table
from kleff.procedure.loaded import PHASES
from kleff.procedure.model import AccountStep, Ask, Keep, Product, Section, Step
from kleff.report.documents import DOCUMENTS, schema

DOCS = Path(__file__).parent.parent / "docs"
WORDS = {"string": "text", "integer": "number", "boolean": "true or false", "array": "list"}


def _type(entry: dict[str, Any]) -> str:
    if "const" in entry or "enum" in entry:
        return ", ".join(f"`{v}`" for v in entry.get("enum", [entry.get("const")]) if v is not None)
    if "anyOf" in entry:
        return " or ".join(_type(e) for e in entry["anyOf"] if e.get("type") != "null")
    if entry.get("type") == "array":
        return "list of " + _type(entry.get("items", {})) + "s"
    if entry.get("format") == "date":
        return "date"
    return WORDS.get(str(entry.get("type")), str(entry.get("type", "table")))


def _table(model: type[Section], hide: set[str]) -> list[str]:
    definition = msgspec.json.schema(model)["$defs"][model.__name__]
    required = set(definition.get("required", []))
    lines = ["| key | what | default |", "|---|---|---|"]
    for key, entry in definition["properties"].items():
        if key in hide:
            continue
        default = (
            "required" if key in required else f"`{json.dumps(entry.get('default'))}`" if entry.get("default") not in (None, "", []) else ""
        )
        about = entry.get("description", "")
        lines.append(
            f"| `{key}` | {_type(entry)}{'; ' + about if about else ''} | {default} |".replace("`true`", "true").replace("`false`", "false")
        )
    return lines


def procedure_page() -> str:
    common = set(get_type_hints(Step))
    out = [
        (DOCS / "procedure.head.md").read_text("utf-8").rstrip(),
        "",
        "## Every key",
        "",
        "### `[product]`",
        "",
        *_table(Product, set()),
        "",
    ]
    for title, model in (("`[keep]`", Keep), ("`[[ask]]`", Ask), ("Common to every step", Step)):
        out += [f"### {title}", "", *_table(model, set()), ""]
    out += ["Steps about paths, keys and values have also:", "", *_table(AccountStep, common), ""]
    table = model_table()
    for phase in ("evidence", *PHASES):
        for key, model in table[phase].items():
            about = (model.__doc__ or "").strip()
            hide = common | ({"accounts"} if "accounts" in model.__struct_fields__ else set())
            out += [f"### `[[{phase}]]` with `{key}`", "", about, "", *_table(model, hide), ""]
    return "\n".join(out).rstrip() + "\n"


def json_page() -> str:
    out = [(DOCS / "json.head.md").read_text("utf-8").rstrip(), ""]
    for command in DOCUMENTS:
        found = schema(command)
        main = found["$defs"][DOCUMENTS[command].__name__]
        out += [f"## `{command}`", "", inspect.cleandoc(main.get("description", "")), "", "| field | type |", "|---|---|"]
        out += [f"| `{name}` | {_json_type(entry)} |" for name, entry in main["properties"].items()]
        out.append("")
    parts: dict[str, Any] = {}
    for command, model in DOCUMENTS.items():
        parts |= {n: d for n, d in schema(command)["$defs"].items() if n != model.__name__}
    out += ["## Parts", ""]
    for name, entry in sorted(parts.items()):
        out += [
            f"### {name}",
            "",
            " ".join(entry.get("description", "").split("Attributes:")[0].split()),
            "",
            "| field | type |",
            "|---|---|",
        ]
        out += [f"| `{field}` | {_json_type(e)} |" for field, e in entry.get("properties", {}).items()] + [""]
    return "\n".join(out).rstrip() + "\n"


def _json_type(entry: dict[str, Any]) -> str:
    if "$ref" in entry:
        return f"[{entry['$ref'].rpartition('/')[2]}](#{entry['$ref'].rpartition('/')[2].lower()})"
    if "enum" in entry or "const" in entry:
        return f"always {json.dumps((entry.get('enum') or [entry.get('const')])[0])}"
    if "anyOf" in entry:
        return " or ".join(_json_type(e) for e in sorted(entry["anyOf"], key=lambda e: e.get("type") == "null"))
    if entry.get("type") == "array":
        return f"list of {_json_type(entry['items'])}"
    return str(entry.get("type"))


RULES = {
    "never": "never, nor anything below but what is allowed in another table", "named": "what lies directly in it by its whole name alone",
    "mixed": "what lies directly in it by its whole name; single files also by a wildcard with at least four letters besides",
    "files": "single files directly in it, by at least four letters", "values": "single values in it",
}  # fmt: skip


def guard_page() -> str:
    out = [(DOCS / "guard.head.md").read_text("utf-8").rstrip(), ""]
    for system in system_names():
        for section, rules in as_data(system).items():
            out += [f"## {system.capitalize()}: {section.replace('_', ' ')}", ""]
            for rule, names in rules.items():
                out += [f"**{RULES.get(rule, rule)}**", "", ", ".join(f"`{name}`" for name in names), ""]
    return "\n".join(out).rstrip() + "\n"


def architecture_page() -> str:
    """The page as it is, with its figures counted anew."""
    text = (DOCS / "architecture.md").read_text("utf-8")
    start, end = text.index(HEAD), text.index("\n\n", text.index(HEAD))
    return text[:start] + table().rstrip("\n") + text[end:]


PAGES = {"guard.md": guard_page, "procedure.md": procedure_page, "json.md": json_page, "architecture.md": architecture_page}

if __name__ == "__main__":
    if sys.argv[1:2] == ["--print"]:
        sys.stdout.write(PAGES[sys.argv[2]]())
    else:
        for name, make in PAGES.items():
            (DOCS / name).write_text(make(), "utf-8")
            print(f"docs/{name}")
