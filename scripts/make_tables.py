"""Write the tables that say in which module each kind of object and each kind of effect stands, so that only what is used is loaded.

Run it after a kind or an effect was added, renamed or moved:  python scripts/make_tables.py
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "kleff"
HEAD = '"""{what} Made by scripts/make_tables.py."""\n'


def modules(folder: Path) -> Iterator[str]:
    """Below a folder of the source, by their names from there."""
    for file in sorted(folder.rglob("*.py")):
        if file.name != "__init__.py":
            yield ".".join(file.relative_to(folder).with_suffix("").parts)


def kinds_table() -> str:
    """The kinds keep the order in which they stand in the table; new ones come last."""
    from kleff.objects.base.kind import Adds, Keeps
    from kleff.objects.base.known import phases_of
    from kleff.objects.base.table import KINDS

    found = {}
    for module in modules(SOURCE / "objects"):
        if not module.startswith("base."):
            for kind in getattr(import_module(f"kleff.objects.{module}"), "KINDS", ()):
                found |= {name: (module, phases_of(kind, name), isinstance(kind, Keeps | Adds)) for name in kind.names}
    ordered = [*(name for name in KINDS if name in found), *(name for name in found if name not in KINDS)]
    rows = "".join(f'    "{name}": Entry("{found[name][0]}", {_tuple(found[name][1])}),\n' for name in ordered)
    whole = _tuple(tuple(name for name in ordered if found[name][2]))
    return HEAD.format(what="In which module of `kleff.objects` each kind stands, and in which phases it has a step.") + (
        "\nfrom typing import NamedTuple\n\n\nclass Entry(NamedTuple):\n"
        '    """A module, which offers its kinds as `KINDS`, and phases."""\n\n    module: str\n    phases: tuple[str, ...]\n\n\n'
        f"KINDS = {{\n{rows}}}\n# Those that have a say in every plan, also where no step names them.\nOF_WHOLE = {whole}\n"
    )


def effects_table() -> str:
    """By the names that journals keep."""
    from kleff.case.effects.base import Effect

    found = {}
    for module in modules(SOURCE / "case/effects"):
        for one in vars(import_module(f"kleff.case.effects.{module}")).values():
            if isinstance(one, type) and issubclass(one, Effect) and one.kind and one.__module__ == f"kleff.case.effects.{module}":
                found[one.kind] = module
    rows = "".join(f'    "{name}": "{found[name]}",\n' for name in sorted(found))
    return HEAD.format(what="In which module of `kleff.case.effects` each kind of effect stands.") + f"\nEFFECTS = {{\n{rows}}}\n"


def _tuple(words: tuple[str, ...]) -> str:
    return f"({', '.join(f'{word!r}' for word in words)}{',' if len(words) == 1 else ''})".replace("'", '"')


TABLES = {"objects/base/table.py": kinds_table, "case/record/effect_table.py": effects_table}


if __name__ == "__main__":
    for name, make in TABLES.items():
        text = make()
        if "--check" in sys.argv and (SOURCE / name).read_text("utf-8") != text:
            sys.exit(f"src/kleff/{name} is out of date; run  python scripts/make_tables.py")
        (SOURCE / name).write_text(text, "utf-8")
