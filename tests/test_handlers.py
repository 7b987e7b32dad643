"""No error is turned into "nothing" by the way: who catches one below the engine says "could not look", or stands in a reviewed list."""

from __future__ import annotations

import ast
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src/kleff"
BELOW = ("workstation", "registry", "objects", "engine")
APART = ("workstation/windows/contract/", "workstation/lab/making/")  # they judge a system, and make one
# What stands in a file or an argument: it says nothing about whether anything could be looked at.
OF_TEXT = {
    "BadTemplate", "ValueError", "re.error", "KeyError", "IndexError", "UnicodeDecodeError", "UnicodeEncodeError", "StopIteration",
    "ImportError",
}  # fmt: skip
DOUBT = {"UNREADABLE", "UNKNOWN", "NOT_READ", "REFUSED", "Unread", "unreadable"}


def caught(source: str) -> Iterator[str]:
    """The function of each handler that goes on without a doubt; its classes' names before it."""
    yield from _in(ast.parse(source), ())


def _in(node: ast.AST, names: tuple[str, ...]) -> Iterator[str]:
    for child in ast.iter_child_nodes(node):
        named = isinstance(child, ast.FunctionDef | ast.ClassDef)
        inside = (*names, child.name) if named else names  # type: ignore[attr-defined]
        if isinstance(child, ast.ExceptHandler) and _goes_on(child, _types(child)):
            yield ".".join(names)
        if isinstance(child, ast.With) and any(_suppresses(item.context_expr) for item in child.items):
            yield ".".join(names)
        yield from _in(child, inside)


def _types(handler: ast.ExceptHandler) -> list[ast.expr]:
    return handler.type.elts if isinstance(handler.type, ast.Tuple) else [handler.type] if handler.type else []


def _goes_on(handler: ast.ExceptHandler, types: list[ast.expr]) -> bool:
    inside = list(ast.walk(handler))
    words = {n.id for n in inside if isinstance(n, ast.Name)} | {n.arg for n in inside if isinstance(n, ast.keyword) and n.arg}
    raises = any(isinstance(n, ast.Raise) for n in inside)
    of_text = bool(types) and {ast.unparse(t) for t in types} <= OF_TEXT
    return not (raises or of_text or words & DOUBT)


def _suppresses(context: ast.expr) -> bool:
    if not isinstance(context, ast.Call) or not ast.unparse(context.func).endswith("suppress"):
        return False
    return not {ast.unparse(one) for one in context.args} <= OF_TEXT


def test_every_handler_is_reviewed() -> None:
    found = {
        f"{path.relative_to(SOURCE)} {name}"
        for folder in BELOW for path in (SOURCE / folder).rglob("*.py") for name in caught(path.read_text(encoding="utf-8"))
        if not str(path.relative_to(SOURCE)).startswith(APART)
    }  # fmt: skip
    reviewed = tomllib.loads((Path(__file__).parent / "handlers.toml").read_text(encoding="utf-8"))["reviewed"]
    listed = [name for group in reviewed for name in group["functions"]]
    assert sorted(found - set(listed)) == [], "turn these into a doubt, or say in tests/handlers.toml why not"
    assert sorted(set(listed) - found) == []
    assert len(listed) == len(set(listed))


@pytest.mark.parametrize(
    ("body", "goes_on"),
    [
        ("try: look()\nexcept OSError: return []", True),
        ("with suppress(OSError): look()", True),
        ("with contextlib.suppress(FileNotFoundError), files.folder(path) as one: look()", True),
        ("try: look()\nexcept OSError as error: raise Refused(error)", False),
        ("try: look()\nexcept OSError: action.state = UNREADABLE", False),
        ("try: look()\nexcept (OSError, ValueError): pass", True),
        ("try: look()\nexcept ValueError: return None", False),
        ("try: look()\nexcept: return None", True),
    ],
)
def test_what_goes_on(body: str, goes_on: bool) -> None:
    assert list(caught("def one():\n" + "\n".join(f"    {line}" for line in body.splitlines()))) == (["one"] if goes_on else [])
