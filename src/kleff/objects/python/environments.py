"""Python environments on a workstation, and what is installed in them, by the files that installers write (PyPA specifications: Recording
installed projects, Core metadata, Names; PEP 370, PEP 405).
"""

from __future__ import annotations

import csv
import errno
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


@dataclass(frozen=True)
class Unread:
    """Where it could not be looked for environments, or for what is in one."""

    where: WPath
    account: Account | None
    error: Exception


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


def environments(here: Here, accounts: list[str], named: str) -> Iterator[Environment | Unread]:
    """Those that are there: the one that is named; else the machine's own, each account's, and the tools of both."""
    files, style = here.workstation.files, here.workstation.style
    if named:
        for expanded in here.resolver.expand(named, accounts):
            for prefix in [] if expanded.absent else files.expand(expanded.volume, expanded.pattern):
                yield from _told(prefix, expanded.account, _one(files, prefix, expanded.account))
        return
    root = WPath(style, "", ())
    if not accounts:
        yield from _own(files, root.child("usr", "local"), [root.child(*parts) for parts in SHARED_TOOLS], None)
    for account in here.resolver.accounts(accounts):
        yield from _own(files, account.home.child(".local"), [account.home.child(*parts) for parts in TOOLS], account)


def _own(files: FileTree, prefix: WPath, tools: Iterable[WPath], account: Account | None) -> Iterator[Environment | Unread]:
    yield from _told(prefix, account, _one(files, prefix, account))
    for folder in tools:
        yield from _told(folder, account, _tools(files, folder, account))


def _one(files: FileTree, prefix: WPath, account: Account | None) -> Iterator[Environment]:
    yield Environment(prefix, _sites(files, prefix), account)


def _told(where: WPath, account: Account | None, looking: Iterator[Environment]) -> list[Environment | Unread]:
    """What a look finds, or that it could not be looked there: one account's odd folder is not all of them."""
    try:
        return list(looking)
    except (OSError, LinkOnTheWay) as error:
        return [Unread(where, account, error)]


def _sites(files: FileTree, prefix: WPath) -> tuple[WPath, ...]:
    lib = prefix.child("lib")
    found = [lib.child(name, site) for name in files.names(lib) if SITES.match(name) for site in ("site-packages", "dist-packages")]
    return tuple(path for path in found if files.look(path) is not None)


def _tools(files: FileTree, folder: WPath, account: Account | None) -> Iterator[Environment]:
    for name in files.names(folder):
        prefix = folder.child(name)
        if "pyvenv.cfg" in files.names(prefix):
            yield Environment(prefix, _sites(files, prefix), account, normalized(name))


def installed(files: FileTree, environment: Environment) -> list[Distribution]:
    """What is installed in an environment.

    Raises:
        OSError, LinkOnTheWay: something of it cannot be read.
    """
    infos = ((site, site.child(name)) for site in environment.sites for name in files.names(site) if name.endswith(INFO))
    return [_distribution(files, environment, site, info) for site, info in infos]


def _distribution(files: FileTree, environment: Environment, site: WPath, info: WPath) -> Distribution:
    headers = HeaderParser().parsestr(_text(files, info.child("METADATA")))
    name = headers.get("Name", "") or info.name.removesuffix(INFO).rpartition("-")[0]
    needs = [normalized(m[0]) for text in headers.get_all("Requires-Dist", []) if "extra ==" not in text and (m := _NAME.match(text))]
    there = ((path, files.look(path)) for path in _recorded(files, environment.prefix, site, info))
    paths = [path for path, look in there if look is not None and not look.is_folder]  # a record names files alone
    requested = files.look(info.child("REQUESTED")) is not None
    return Distribution(name, headers.get("Version", ""), info, environment, requested, needs, paths)


_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*")


def _text(files: FileTree, path: WPath) -> str:
    """What stands in a file; "" if there is none."""
    try:
        return files.read(path, MOST).decode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return ""


def _recorded(files: FileTree, prefix: WPath, site: WPath, info: WPath) -> Iterator[WPath]:
    """What its record names, as far as it lies below the prefix."""
    for row in _rows(files, info.child("RECORD")):
        path = (WPath(site.style, site.volume, ()) if row[0].startswith("/") else site).walked(row[0])
        if path.below(prefix):
            yield path


def _rows(files: FileTree, record: WPath) -> list[list[str]]:
    """Raises: OSError: it is no record."""
    try:
        rows = [row for row in csv.reader(_text(files, record).splitlines()) if row]
    except csv.Error as error:
        raise OSError(errno.EINVAL, f"it is no record: {error}", str(record)) from None
    if any("\0" in row[0] for row in rows):
        raise OSError(errno.EINVAL, "it is no record: a name holds a NUL", str(record))
    return rows


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
    compiled = (folder.child(name) for folder in beside.values() for name in files.names(folder))
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
