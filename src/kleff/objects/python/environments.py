"""Python environments on a workstation, and what is installed in them, by the files that installers write (PyPA specifications: Recording
installed projects, Core metadata, Names; PEP 370, PEP 405).
"""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from email.parser import HeaderParser

from kleff.errors import LinkOnTheWay
from kleff.objects.base.here import Here
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

INFO = ".dist-info"
SITES = re.compile(r"python3(?:\.\d+)?\Z")
# Folders of environments that hold one tool each, below an account's home.
TOOLS = ((".local", "share", "pipx", "venvs"), (".local", "pipx", "venvs"), (".local", "share", "uv", "tools"))
SHARED_TOOLS = (("opt", "pipx", "venvs"),)
MOST = 1 << 24  # bytes of a record


@dataclass(frozen=True)
class Environment:
    """A place in which packages are installed.

    Attributes:
        prefix: the folder that holds `lib` and `bin`; sites: where the packages themselves lie.
        tool: it was made for one package, whose name this is; "" if it is shared.
    """

    prefix: WPath
    sites: tuple[WPath, ...]
    account: Account | None = None
    tool: str = ""


@dataclass
class Distribution:
    """An installed package.

    Attributes:
        requested: somebody asked for it; else it was brought in for others.
        needs: the names of what it depends on, normalized.
        paths: of its recorded files those that are there, below the environment's prefix.
    """

    name: str
    version: str
    info: WPath
    environment: Environment
    requested: bool
    needs: list[str] = field(default_factory=list)
    paths: list[WPath] = field(default_factory=list)


def normalized(name: str) -> str:
    """A name as it is compared (PyPA specifications, Names and normalization)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def environments(here: Here, accounts: list[str], named: str) -> Iterator[Environment]:
    """Those that are there: the one that is named; else the machine's own, each account's, and the tools of both."""
    files, style = here.workstation.files, here.workstation.style
    if named:
        for expanded in here.resolver.expand(named, accounts):
            for prefix in [] if expanded.absent else files.expand(expanded.volume, expanded.pattern):
                yield Environment(prefix, _sites(files, prefix), expanded.account)
        return
    root = WPath(style, "", ())
    if not accounts:
        yield Environment(root.child("usr", "local"), _sites(files, root.child("usr", "local")))
        yield from _tools(files, (root.child(*parts) for parts in SHARED_TOOLS), None)
    for account in here.resolver.accounts(accounts):
        own = account.home.child(".local")
        yield Environment(own, _sites(files, own), account)
        yield from _tools(files, (account.home.child(*parts) for parts in TOOLS), account)


def _sites(files: FileTree, prefix: WPath) -> tuple[WPath, ...]:
    lib = prefix.child("lib")
    found = [lib.child(name, site) for name in names_in(files, lib) if SITES.match(name) for site in ("site-packages", "dist-packages")]
    return tuple(path for path in found if files.look(path) is not None)


def _tools(files: FileTree, folders: Iterable[WPath], account: Account | None) -> Iterator[Environment]:
    for folder in folders:
        for name in names_in(files, folder):
            prefix = folder.child(name)
            if "pyvenv.cfg" in names_in(files, prefix):
                yield Environment(prefix, _sites(files, prefix), account, normalized(name))


def names_in(files: FileTree, folder: WPath) -> list[str]:
    """The names in a folder; nothing where it is a link or cannot be entered: no environment is looked for behind one."""
    try:
        return files.names(folder)
    except (OSError, LinkOnTheWay):
        return []


def installed(files: FileTree, environment: Environment) -> list[Distribution]:
    """What is installed in an environment; what cannot be read is left out."""
    found = []
    for site in environment.sites:
        for name in names_in(files, site):
            if name.endswith(INFO):
                one = _distribution(files, environment, site, site.child(name))
                found += [one] if one is not None else []
    return found


def _distribution(files: FileTree, environment: Environment, site: WPath, info: WPath) -> Distribution | None:
    headers = HeaderParser().parsestr(_text(files, info.child("METADATA")))
    name = headers.get("Name", "")
    if not name:
        return None
    needs = [normalized(m[0]) for text in headers.get_all("Requires-Dist", []) if "extra ==" not in text and (m := _NAME.match(text))]
    there = ((path, files.look(path)) for path in _recorded(files, environment.prefix, site, info))
    paths = [path for path, look in there if look is not None and not look.is_folder]  # a record names files alone
    requested = files.look(info.child("REQUESTED")) is not None
    return Distribution(name, headers.get("Version", ""), info, environment, requested, needs, paths)


_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*")


def _text(files: FileTree, path: WPath) -> str:
    try:
        return files.read(path, MOST).decode("utf-8", "surrogateescape")
    except OSError:
        return ""


def _recorded(files: FileTree, prefix: WPath, site: WPath, info: WPath) -> Iterator[WPath]:
    """What its record names, as far as it lies below the prefix."""
    for row in csv.reader(_text(files, info.child("RECORD")).splitlines()):
        if not row:
            continue
        parts: tuple[str, ...] = () if row[0].startswith("/") else site.parts
        for part in row[0].split("/"):
            parts = parts[:-1] if part == ".." else parts if part in ("", ".") else (*parts, part)
        path = WPath(site.style, site.volume, parts)
        if path.below(prefix):
            yield path


def topmost(files: FileTree, one: Distribution) -> list[WPath]:
    """What has to go of a package, folders that hold nothing else as a whole; what was compiled of its modules goes too."""
    keys = {path.key for path in one.paths}
    modules = {(path.parent.key, path.name.removesuffix(".py")) for path in one.paths if path.name.endswith(".py")}

    def its(path: WPath) -> bool:
        compiled = path.parent.name == "__pycache__" and (path.parent.parent.key, path.name.split(".")[0]) in modules
        return path.key in keys or compiled

    whole = _Whole(files, its)
    result: dict[object, WPath] = {}
    sites = {site.key for site in one.environment.sites}
    for path in one.paths:
        top = path
        while top.parent.key not in sites and top.parent.below(one.environment.prefix) and whole.is_its(top.parent):
            top = top.parent
        result[top.key] = top
    beside = {path.parent.key: path.parent.child("__pycache__") for path in one.paths if path.parent.key in sites}
    compiled = (folder.child(name) for folder in beside.values() for name in names_in(files, folder))
    result |= {path.key: path for path in compiled if its(path)}
    return sorted(result.values(), key=lambda path: path.parts)


class _Whole:
    """Whether folders hold nothing but a package's own; each is looked into once. One that cannot be is an error, not an empty one."""

    def __init__(self, files: FileTree, its: Callable[[WPath], bool]) -> None:
        self._files = files
        self._its = its
        self._known: dict[object, bool] = {}

    def is_its(self, folder: WPath) -> bool:
        if folder.key not in self._known:
            below = (folder.child(name) for name in self._files.names(folder))
            self._known[folder.key] = all(self._goes(path) for path in below)
        return self._known[folder.key]

    def _goes(self, path: WPath) -> bool:
        look = self._files.look(path)
        return look is None or (self.is_its(path) if look.is_folder else self._its(path))
