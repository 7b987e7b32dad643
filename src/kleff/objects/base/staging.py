"""Setting a stage: what a step of a procedure would find, collected as the description of a lab."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from kleff.objects.base.here import Here
from kleff.objects.base.resolve import Expanded
from kleff.procedure.globs import is_glob, literal
from kleff.procedure.variables import BadTemplate
from kleff.procedure.versions import parse_range

USUAL = "sample\r\n"
ENDING = re.compile(r".\.\w{1,9}$")


@dataclass
class Stage:
    """What is put on a lab, as tables of its description.

    Attributes:
        here: the procedure on the plain lab.
        files: content by path, None for a folder with nothing in it.
    """

    here: Here
    files: dict[str, str | None] = field(default_factory=dict)
    tables: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    made_accounts: list[str] = field(default_factory=list)

    def add(self, table: str, **said: Any) -> None:
        """One more row of a table; the same one is added once."""
        rows = self.tables.setdefault(table, [])
        if said not in rows:
            rows.append(said)

    def key(self, path: str, values: dict[str, Any] | None = None) -> None:
        """A key; values are added to those that another step has given it."""
        root, _, below = path.partition("\\")
        short = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU", "HKEY_USERS": "HKU"}.get(root.upper(), root.upper())
        path = rf"HKLM\Software\Classes\{below}" if short in ("HKCR", "HKEY_CLASSES_ROOT") else f"{short}\\{below}"
        rows = self.tables.setdefault("key", [])
        known = next((row for row in rows if row["path"].upper() == path.upper()), None)
        if known is None:
            rows.append({"path": path, "values": dict(values or {})})
        else:
            known["values"] = {**(values or {}), **known["values"]}

    def paths(self, text: str, accounts: list[str] | None = None, empty: bool = False) -> list[str]:
        """What a path of a procedure means, for each account, with a name for every wildcard; made as a file if its name has an ending.

        Args:
            empty: a folder with nothing in it.
        """
        made = [str_of(expanded) for expanded in self._expanded(text, accounts)]
        for path in made:
            if ENDING.search(path.rpartition("\\")[2]) and not empty:
                self.file(path)
            elif empty:
                self.files.setdefault(path, None)
            else:
                self.file(f"{path}\\sample.txt")
        return made

    def named(self, text: str, accounts: list[str] | None = None) -> list[str]:
        """The same, with nothing made; what may be anything is a program."""
        return [f"{path.removesuffix('.txt')}.exe" if text.endswith("**") else path for path in map(str_of, self._expanded(text, accounts))]

    def file(self, path: str, content: str = USUAL) -> None:
        """A file; content of its own wins over the usual one, and is added to another's."""
        before = self.files.get(path)
        if before in (None, USUAL):
            self.files[path] = content
        elif content != USUAL and content not in str(before):
            self.files[path] = f"{before}{content}"

    def program(self, text: str) -> str:
        """A program by its path, or by a name, which gets a place."""
        name = shown_as(text)
        whole = self.paths(text) if "\\" in text or text.startswith(("{", "%")) else [rf"C:\Program Files\Sample\{name}"]
        for path in whole[:1]:
            self.file(path, "MZ stand-in\r\n")
            return path
        return rf"C:\Program Files\Sample\{name}"

    @property
    def version(self) -> str:
        """A version that the procedure touches."""
        found = parse_range(self.here.procedure.product.versions)
        low = next((c for c in found.conditions if c[0] in (">=", "=", "==")), None)
        return f"{low[1]}.1" if low is not None else "1.0"

    @property
    def home(self) -> str:
        """The product's folder: the first of its places, else a usual one."""
        for texts in self.here.procedure.places.values():
            for text in texts:
                for path in self.named(text):
                    return path
        product = self.here.procedure.product
        return rf"C:\Program Files\{product.vendor or 'Sample'}\{product.name}"

    def _expanded(self, text: str, accounts: list[str] | None) -> list[Expanded]:
        try:
            return [e for e in self.here.resolver.expand(text, accounts) if not e.absent and e.pattern]
        except BadTemplate:
            return []


def str_of(expanded: Expanded) -> str:
    """The path of a meaning, with a name for every wildcard."""
    return "\\".join([expanded.volume, *(shown_as(part) if is_glob(part) else literal(part) for part in expanded.pattern)])


def shown_as(pattern: str) -> str:
    """A name that a pattern matches."""
    if pattern == "**":
        return "sample.txt"
    text = re.sub(r"\[!?(.)[^\]]*\]", r"\1", pattern).replace("?", "1")
    gap = "" if text[:1] == "*" or "." in text or " " not in text else " "
    return re.sub(r" +", " ", text.replace("*", f"{gap}sample")).strip()
