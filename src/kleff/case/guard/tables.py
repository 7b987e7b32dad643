"""What is the system's own, read from one data file for each system; `docs/guard.md` is made from the same files."""

from __future__ import annotations

import functools
import tomllib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kleff.errors import NoSuchWorkstation
from kleff.procedure.globs import name_matches
from kleff.workstation.linux.accounts import USER_DIRS
from kleff.workstation.windows.profiles import OWN_FOLDERS

# None of these is touched itself. NEVER: nor what lies in it, unless a deeper place allows it. NAMED: what lies directly in it by its whole
# literal name, which is then free below. FILES: only single files directly in it. VALUES: of a key, only single values in it.
# MIXED: as NAMED, and single files directly in it with a wildcard as in FILES.
NEVER, NAMED, FILES, MIXED, VALUES, FREE = "never", "named", "files", "mixed", "values", "free"
LETTERS = 4  # letters or digits of a name that are no wildcards, where a wildcard is used beside others' things
FEWER = 3  # where the names of the system's own files are known

_OF_ACCOUNTS = {"linux": tuple(USER_DIRS), "windows": OWN_FOLDERS}
# Folders of the root that may be links to those of the same name in /usr.
_MERGED = {"linux": frozenset({"bin", "sbin", "lib", "lib32", "lib64"})}


@dataclass(frozen=True)
class Table:
    """What is a system's own.

    Attributes:
        places: rules by path, `{drive}` for each volume; home: by the path below an account's home; keys: by key, HKCU for each account's.
        single_values: names of values that are never removed whole, by key.
        lists: names of values out of which single items may be taken, by key, where the values themselves may not be removed.
        names: patterns of names by kind of object.
        lines: rules by path of the files whose lines are worked on: NEVER, or FREE.
        own_files: patterns of names of files, by place, where wildcards with three letters may be used beside them.
        own_folders: variables that name an account's own folders, which are never removed themselves.
    """

    places: dict[str, str]
    home: dict[str, str]
    keys: dict[str, str] = field(default_factory=dict)
    single_values: dict[str, list[str]] = field(default_factory=dict)
    lists: dict[str, list[str]] = field(default_factory=dict)
    names: dict[str, list[str]] = field(default_factory=dict)
    lines: dict[str, str] = field(default_factory=dict)
    own_files: dict[str, list[str]] = field(default_factory=dict)
    own_folders: tuple[str, ...] = ()
    merged: frozenset[str] = frozenset()

    def is_own(self, kind: str, name: str) -> bool:
        """Whether something of that name is the system's own."""
        return any(name_matches(pattern, name, kind != "package") for pattern in self.names.get(kind, ()))


@functools.cache
def of_system(system: str) -> Table:
    """The table of a system.

    Raises:
        NoSuchWorkstation: there is none, so nothing may be touched there.
    """
    file = Path(__file__).with_name(f"{system}.toml")
    if system not in _OF_ACCOUNTS:
        raise NoSuchWorkstation(f"what is a {system} system's own is not known to this Kleff", remedy="use a newer one")
    data = tomllib.loads(file.read_text("utf-8"))
    return Table(
        places=_by_name(data["places"]), home=_by_name(data["home"]), keys=_by_name(data.get("keys", {})),
        single_values=data.get("single_values", {}), lists=data.get("lists", {}), names=data["names"], lines=_by_name(data["lines"]),
        own_files=data.get("own_files", {}), own_folders=_OF_ACCOUNTS[system],
        merged=_MERGED.get(system, frozenset()),
    )  # fmt: skip


def _by_name(rules: dict[str, list[str]]) -> dict[str, str]:
    return {name: rule for rule, names in rules.items() for name in names}


def system_names() -> list[str]:
    """The systems that have a table."""
    return list(_OF_ACCOUNTS)


def as_data(system: str) -> dict[str, Any]:
    """A table as it stands in its file, for the docs."""
    return tomllib.loads(Path(__file__).with_name(f"{system}.toml").read_text("utf-8"))
