"""Where a Linux workstation keeps its accounts and groups (passwd(5), shadow(5), group(5), gshadow(5), subuid(5), subgid(5))."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext

from msgspec.structs import replace

from kleff.workstation.files.lines import Edit, decode, edits, read_whole
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Number

ACCOUNT_FILES = ("passwd", "shadow", "subuid", "subgid")
GROUP_FILES = ("group", "gshadow")
SYSTEM_NUMBERS = range(100, 1000)  # Debian policy 9.2.2: dynamically allocated system accounts
FLEETING = ("proc", "sys", "dev", "run")  # what lies there goes with a restart


class AccountRecords:
    """Implements `Records`.

    Args:
        locked: keeps others from changing the same files meanwhile (lckpwdf(3)).
        elsewhere: device numbers of what is no disk of this workstation.
    """

    def __init__(
        self, files: FileTree, locked: Callable[[], AbstractContextManager[None]] = nullcontext,
        elsewhere: Callable[[], Collection[int]] = tuple,
    ) -> None:  # fmt: skip
        self._files = files
        self._elsewhere = elsewhere
        self.locked = locked

    def find(self, name: str, group: bool) -> Number | None:
        fields = self._line(name, group)
        return Number(name=name, number=fields[2], group=group) if fields else None

    def _line(self, name: str, group: bool) -> list[str] | None:
        found = (line.rstrip("\n").split(":") for line in self._lines("group" if group else "passwd"))
        return next((f for f in found if len(f) > 3 and f[0] == name and f[2].isdigit()), None)

    def _lines(self, name: str) -> list[str]:
        path = self._path(name)
        return decode(read_whole(self._files, path)[1])[1] if self._files.look(path) is not None else []

    def _path(self, name: str) -> WPath:
        return self._files.resolve(WPath(self._files.style, "", ("etc", name))).path

    def groups(self, name: str) -> tuple[str, list[str]]:
        fields = self._line(name, group=False)
        if fields is None:
            return "", []
        parted = [line.rstrip("\n").split(":") for line in self._lines("group")]
        primary = next((f[0] for f in parted if len(f) > 3 and f[2] == fields[3]), "")
        return primary, [f[0] for f in parted if len(f) > 3 and name in f[3].split(",")]

    def members(self, name: str) -> list[str]:
        fields = self._line(name, group=True)
        if fields is None:
            return []
        primary = [f[0] for line in self._lines("passwd") if len(f := line.split(":")) > 3 and f[3] == fields[2]]
        return [*primary, *(m for m in fields[3].split(",") if m)]

    def parts(self, name: str, group: bool, own_group: bool) -> list[tuple[WPath, Callable[[list[str]], list[Edit]]]]:
        own = name if group or own_group else ""
        accounts = [] if group else [(file, lambda lines: _without(lines, name, "")) for file in ACCOUNT_FILES]
        groups = [(file, lambda lines: _without(lines, own, "" if group else name)) for file in GROUP_FILES]
        found = [(self._path(file), change) for file, change in (*accounts, *groups)]
        return [(path, change) for path, change in found if self._files.look(path) is not None]

    def settled(self, path: WPath, made: Sequence[Edit], primary: str) -> tuple[list[Edit], str]:
        result, notes = [], []
        for edit in made:
            fields = edit.old.split(":")
            if edit.new is None and path.name in ("passwd", "group") and len(fields) > 3:
                taken = {f[2]: f[0] for line in self._lines(path.name) if len(f := line.split(":")) > 3 and f[0] != fields[0]}
                if fields[2] in taken:
                    number = next((str(n) for n in SYSTEM_NUMBERS if str(n) not in taken), fields[2])
                    notes.append(f"{fields[0]} has the number {number} now: {taken[fields[2]]} was given {fields[2]} since")
                    fields[2] = number
                group = self.find(primary, group=True) if path.name == "passwd" and primary else None
                fields[3] = group.number if group else fields[3]
            result.append(replace(edit, old=":".join(fields)))
        return result, "; ".join(notes)

    def belongings(self, number: Number) -> Iterator[WPath]:
        wanted, elsewhere = int(number.number), set(self._elsewhere())
        area = ".kleff"

        def enter(path: WPath, look: Look) -> bool:
            return path.name != area and look.identity[0] not in elsewhere and not (len(path.parts) == 1 and path.name in FLEETING)

        for path, look in self._files.walk(WPath(self._files.style, "", ()), enter):
            if (look.gid if number.group else look.uid) == wanted and path.name != area:
                yield path


def _without(lines: list[str], own: str, member: str) -> list[Edit]:
    """Without the line of that name, and without an account as a member in the others."""
    changed: list[tuple[int, str | None, str]] = []
    for at, line in enumerate(lines):
        fields = line.rstrip("\r\n").split(":")
        if own and fields[0] == own:
            changed.append((at, None, ""))
        elif member and len(fields) == 4 and any(member in field.split(",") for field in fields[2:]):
            rest = [",".join(m for m in field.split(",") if m != member) for field in fields[2:]]
            changed.append((at, ":".join([*fields[:2], *rest]) + line[len(line.rstrip("\r\n")) :], member))
    return edits(lines, changed, ",")
