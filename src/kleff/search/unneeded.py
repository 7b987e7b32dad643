"""Packages that nothing needs: brought in for others that are gone, and configuration that stayed of removed ones."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from kleff.errors import Refused, UsageError
from kleff.procedure.globs import is_glob, name_matches
from kleff.workstation.facets import Workstation
from kleff.workstation.package_facet import Packages
from kleff.workstation.things import Installed, Package

if TYPE_CHECKING:  # what only a removal needs is not loaded for a look
    from kleff.procedure.loaded import Procedure

# Sections of the archive (Debian policy 2.4) whose packages nobody starts.
LIBRARIES = ("libs", "oldlibs", "libdevel", "perl", "python", "ruby", "javascript", "java", "introspection", "fonts", "localization")
KERNEL = re.compile(r"linux-(image|headers|modules|kbuild)-")
STARTED = re.compile(r"(?:/usr)?(?:/local)?/(?:s?bin|games)/|/usr/share/applications/|(?:/usr)?/lib/systemd/system/|/etc/init\.d/")
LIBRARY, PROGRAM, KERNEL_IMAGE, CONFIGURATION = "library", "program", "kernel", "configuration"


class UnneededPackage(msgspec.Struct, kw_only=True):
    """One of them.

    Attributes:
        number: by which it is chosen; sort: `library` and the like, `program`, `kernel`, `configuration` (that stayed).
        since: when it was installed, where that is still known; brought_by: for which packages, by which command.
        usual: it is offered unless all are asked for.
    """

    number: int
    name: str
    version: str
    size: int
    title: str
    sort: str
    since: str = ""
    brought_by: list[str] = []
    command: str = ""
    usual: bool = True

    @property
    def why(self) -> str:
        if self.sort == CONFIGURATION:
            return "removed; its configuration stayed"
        for_ = f", for {', '.join(self.brought_by)}" if self.brought_by else ""
        return f"brought in for others{for_}; nothing that is installed needs it"


def unneeded(workstation: Workstation, everything: bool = False) -> list[UnneededPackage]:
    """All that nothing needs, numbered; by default what nobody starts.

    Args:
        everything: exactly what the package manager itself would remove, programs too; configuration aside.

    Raises:
        Refused: the workstation has no package manager that can tell.
    """
    packages = workstation.packages
    names = packages.unneeded() if packages else None
    if packages is None or names is None:
        raise Refused("no package manager here tells what nothing needs", where=workstation.spec, remedy="look on a workstation with apt")
    known, past = {p.name.partition(":")[0]: p for p in packages.all()}, packages.history()
    there = [known[name] for name in names if name in known]
    sorts = _sorts(there, packages)
    found = [_told(p, sorts[p.name], past.get(p.name.partition(":")[0])) for p in sorted(there, key=lambda p: p.name)]
    if not everything:
        found += [_told(p, CONFIGURATION, None) for p in packages.all() if p.state == "config-files"]
    shown = [p for p in found if everything or p.usual]
    return [msgspec.structs.replace(p, number=number) for number, p in enumerate(shown, 1)]


def _sorts(there: Sequence[Package], packages: Packages) -> dict[str, str]:
    """What each is, by its section or by what it brings: whether somebody could start it."""
    unclear = [p for p in there if p.section.rpartition("/")[2] not in LIBRARIES]
    files = packages.files_of([p.name for p in unclear])
    started = {p.name for p in unclear if any(STARTED.match(path) for path in files.get(p.name, ()))}
    return {p.name: KERNEL_IMAGE if KERNEL.match(p.name) else PROGRAM if p.name in started else LIBRARY for p in there}


def _told(package: Package, sort: str, past: Installed | None) -> UnneededPackage:
    return UnneededPackage(
        number=0, name=package.name, version=package.version, size=package.installed_size if package.state == "installed" else 0,
        title=package.title, sort=sort, since=past.when if past else "", brought_by=past.with_ if past else [],
        command=past.command if past else "", usual=sort in (LIBRARY, CONFIGURATION) and not package.held,
    )  # fmt: skip


def chosen(found: Sequence[UnneededPackage], selection: str) -> list[UnneededPackage]:
    """What a selection means: numbers, ranges, names and patterns, with commas; `all` for every one.

    Raises:
        UsageError: something in it means none.
    """
    meant: list[UnneededPackage] = []
    for word in (w.strip() for w in selection.split(",")):
        if not word:
            continue
        numbers = re.fullmatch(r"(\d{1,9})(?:-(\d{1,9}))?", word)
        if numbers:
            first, last = int(numbers[1]), int(numbers[2] or numbers[1])
            these = [p for p in found if first <= p.number <= last]
        elif is_glob(word):
            these = [p for p in found if name_matches(word, p.name.partition(":")[0], False)]
        else:
            these = [p for p in found if word in ("all", p.name, p.name.partition(":")[0])]
        if not these:
            raise UsageError(f"{word!r} is none of those that are listed", remedy="give numbers, ranges (3-7), names, or all")
        meant += [p for p in these if p not in meant]
    return meant


def procedure_for(packages: Sequence[UnneededPackage]) -> Procedure:
    """What removes them: a procedure made for it, which its case keeps."""
    from kleff.engine.library import parse

    names = ", ".join(f'"{p.name.partition(":")[0]}"' for p in packages)
    text = (
        'format = 1\n\n[product]\nid = "unneeded-packages"\nname = "The selection of unneeded packages"\nvendor = "several"\n\n'
        f'[[evidence]]\npackage = [{names}]\n\n[[purge]]\nlabel = "unneeded packages"\npackage = [{names}]\n'
        f'came_along = "none"\nat_most = {max(len(packages), 50)}\n'
    )
    return parse(text.encode(), "made by kleff unneeded")
