"""How often a command climbs back up: depth first over its calls, as the syntax tree has them, each function entered once.

A call leads into the function or class that its name was imported from; a method into that of the class that the parameter or the field
is annotated with, or else into the one method of that name that the caller's layer or one below defines. What is handed in from above
and called from below (a protocol) is not followed. Each return from a lower layer into a function of the command line that was not
entered before is a climb.

    python scripts/climbs.py [COMMAND_MODULE:FUNCTION]
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src" / "kleff"
LAYERS = ("errors", "texts", "progress", "procedure", "registry", "workstation", "case", "objects", "search", "engine", "report", "cli")
Place = tuple[str, str]  # module, and function or Class.method


@dataclass
class Code:
    """The functions of all modules, and where names lead."""

    functions: dict[Place, ast.AST] = field(default_factory=dict)
    imported: dict[str, dict[str, Place]] = field(default_factory=dict)
    methods: dict[str, list[Place]] = field(default_factory=dict)
    bases: dict[Place, list[str]] = field(default_factory=dict)
    fields: dict[Place, dict[str, str]] = field(default_factory=dict)

    @classmethod
    def read(cls) -> Code:
        code = cls()
        for file in sorted(SOURCE.rglob("*.py")):
            module = ".".join(file.relative_to(SOURCE).with_suffix("").parts)
            tree = ast.parse(file.read_text("utf-8"))
            code.imported[module] = dict(_imports(tree))
            for node in tree.body:
                if isinstance(node, ast.FunctionDef):
                    code.functions[module, node.name] = node
                elif isinstance(node, ast.ClassDef):
                    code._add_class(module, node)
        return code

    def _add_class(self, module: str, node: ast.ClassDef) -> None:
        self.bases[module, node.name] = [ast.unparse(base).split("[")[0] for base in node.bases]
        told = (one for one in node.body if isinstance(one, ast.AnnAssign) and isinstance(one.target, ast.Name))
        self.fields[module, node.name] = {one.target.id: ast.unparse(one.annotation) for one in told if isinstance(one.target, ast.Name)}
        protocol = any(ast.unparse(base).split("[")[0] == "Protocol" for base in node.bases)
        for one in node.body:
            if isinstance(one, ast.FunctionDef) and not protocol:
                place = (module, f"{node.name}.{one.name}")
                self.functions[place] = one
                self.methods.setdefault(one.name, []).append(place)

    def led_to(self, module: str, within: str, call: ast.Call) -> Place | None:
        """Where a call leads; None outside of Kleff, and where more than one method has the name."""
        if isinstance(call.func, ast.Name):
            place = self.imported[module].get(call.func.id, (module, call.func.id))
            return place if place in self.functions else None
        if not isinstance(call.func, ast.Attribute):
            return None
        name, of = call.func.attr, self._type_of(module, within, call.func.value)
        if of is not None:
            return self._method(of, name)
        found = [place for place in self.methods.get(name, []) if layer(place[0]) <= layer(module)]
        return found[0] if len(found) == 1 else None

    def _type_of(self, module: str, within: str, on: ast.expr) -> Place | None:
        """The class of what a method is called on, as far as it is written down."""
        owner = (module, within.partition(".")[0])
        if isinstance(on, ast.Attribute):
            of = self._type_of(module, within, on.value)
            told = self._field(of, on.attr) if of is not None else ""
            return self._class(of[0], told) if of is not None else None
        if not isinstance(on, ast.Name):
            return None
        if on.id in ("self", "cls"):
            return owner
        node = self.functions[module, within]
        arguments = node.args.args + node.args.kwonlyargs if isinstance(node, ast.FunctionDef) else []
        told = next((ast.unparse(a.annotation) for a in arguments if a.arg == on.id and a.annotation is not None), on.id)
        return self._class(module, told)

    def _class(self, module: str, told: str) -> Place | None:
        name = told.strip("'\"").partition(" |")[0]
        place = self.imported.get(module, {}).get(name, (module, name))
        return place if place in self.bases else None

    def _field(self, of: Place, name: str) -> str:
        above = (self._field(base, name) for text in self.bases[of] if (base := self._class(of[0], text)) is not None)
        return self.fields[of].get(name) or next((told for told in above if told), "")

    def _method(self, of: Place, name: str) -> Place | None:
        place = (of[0], f"{of[1]}.{name}")
        if place in self.functions:
            return place
        above = (self._method(base, name) for text in self.bases[of] if (base := self._class(of[0], text)) is not None)
        return next((found for found in above if found is not None), None)


def _imports(tree: ast.Module) -> Iterator[tuple[str, Place]]:
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("kleff."):
            for alias in node.names:
                yield alias.asname or alias.name, (str(node.module).removeprefix("kleff."), alias.name)


def layer(module: str) -> int:
    """0 is the lowest."""
    return LAYERS.index(top) if (top := module.partition(".")[0]) in LAYERS else len(LAYERS)


def way(code: Code, start: Place) -> list[str]:
    """The modules in the order in which the functions are entered."""
    entered: set[Place] = set()
    order: list[str] = []

    def enter(place: Place) -> None:
        if place in entered:
            return
        entered.add(place)
        order.append(place[0])
        for node in _calls(code.functions[place]):
            if (to := code.led_to(*place, node)) is not None:
                enter(to)

    enter(start)
    return order


def _calls(node: ast.AST) -> Iterator[ast.Call]:
    """In the order in which they are written, inner ones first."""
    for child in ast.iter_child_nodes(node):
        yield from _calls(child)
        if isinstance(child, ast.Call):
            yield child


def climbs(order: list[str]) -> int:
    """How often the way enters the command line again, coming from below."""
    top = LAYERS.index("cli")
    return sum(layer(a) < top <= layer(b) for a, b in pairwise(order))


if __name__ == "__main__":
    sys.setrecursionlimit(10_000)
    module, _, function = (sys.argv[1] if len(sys.argv) > 1 else "cli.work:run").partition(":")
    walked = way(Code.read(), (module, function))
    print(f"{module}.{function}: climbs {climbs(walked)} times back up, enters {len(set(walked))} modules")
