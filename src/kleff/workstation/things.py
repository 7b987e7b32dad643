"""What the facets of a workstation deal in: accounts, processes, services, packages and the rest, as they were found."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import msgspec

from kleff.workstation.identity import Identity
from kleff.workstation.paths import Look, WPath


@dataclass(frozen=True)
class Account:
    """A person's profile.

    Attributes:
        id: uid or SID.
        uid: owner of its files where the system has numbers for that.
        ordinary: False for default, public and system accounts, which are touched only when named.
    """

    name: str
    id: str
    home: WPath
    uid: int | None = None
    ordinary: bool = True


class Number(msgspec.Struct, frozen=True, kw_only=True):
    """An account or a group: its name, and the number (or SID) by which files belong to it."""

    name: str
    number: str
    group: bool = False


@dataclass(frozen=True)
class Process:
    """A running program; `started` tells it from a later one with the same number; `title` is its window's, where there is one."""

    pid: int
    started: float
    name: str
    path: str
    command: tuple[str, ...]
    parent: int
    account: str = ""
    title: str = ""


def line_of(process: Process) -> str:
    """A process for people; never its command line, which may hold what is nobody else's business."""
    return f"{process.name}, number {process.pid}{f' of {process.account}' if process.account else ''}"


def without_commands(text: str) -> str:
    """A text of a case of the first release, in which a process stands with its command line, without that and what follows."""
    found = re.match(r"(.*?, number \d+(?: of [^:;)]+)?): ", text, re.DOTALL)
    if found is None:
        return text
    return found[1] + ")" * (found[1].count("(") > found[1].count(")"))


@dataclass(frozen=True)
class Service:
    """A service: whether it runs, and how it starts (`automatic`, `manual`, `disabled`, ...)."""

    name: str
    running: bool
    start: str
    title: str = ""


@dataclass(frozen=True)
class ServiceParts:
    """What a service consists of, as paths: the files that define it, the programs it runs, the folders of its own."""

    definitions: tuple[str, ...] = ()
    programs: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()


@dataclass(frozen=True)
class Package:
    """A package as the package manager knows it.

    Attributes:
        state: `installed`, or `config-files` if only its configuration is left.
        config_files: its configuration files, as absolute paths.
        broken: an installation or removal of it was cut off.
        held: an administrator has said that it is to stay as it is.
        priority: how much the system needs it, section: what it is about, as its distributor says.
    """

    name: str
    version: str
    state: str
    essential: bool = False
    config_files: tuple[str, ...] = ()
    title: str = ""
    installed_size: int = 0
    broken: bool = False
    priority: str = ""
    held: bool = False
    section: str = ""


class ConfigFile(msgspec.Struct, kw_only=True):
    """A configuration file of a package; `changed` if its content is not what the package had brought.

    Attributes:
        said: what the package database says after its path: a digest, and words.
    """

    path: str
    obsolete: bool = False
    changed: bool = False
    said: str = ""


class PackageRecord(msgspec.Struct, kw_only=True):
    """What the package manager knows of a package besides its files: enough to build the same package anew.

    Attributes:
        installed: False if only its configuration is left.
        control: its control paragraph; `members`: scripts, checksums and the like by name. Bytes that are no text as surrogates.
        paths: (as the package knows it, where it lies), in the package's own order.
        services: that it brings.
        automatic: it was brought in for others; held: it is to stay as it is.
        answers: (question, type, answer) of what it has asked; passwords are not among them.
        overrides: (account, group, mode, path) that an administrator, or its scripts, have set instead of the package's own.
        chosen: (name, path) of alternatives that were set to something of it by hand.
        diverted: (path, where it lies instead) of others' files that give way to its own.
        registered: (path, checksum or "") of configuration files that its scripts have registered.
    """

    name: str
    version: str
    installed: bool
    control: str
    members: dict[str, str]
    paths: list[tuple[str, str]]
    config_files: list[ConfigFile]
    services: list[str]
    automatic: bool = False
    held: bool = False
    answers: list[tuple[str, str, str]] = []
    overrides: list[tuple[str, str, str, str]] = []
    chosen: list[tuple[str, str]] = []
    diverted: list[tuple[str, str]] = []
    registered: list[tuple[str, str]] = []

    @property
    def service_patterns(self) -> list[str]:
        """The names of its services; a template stands for its instances (systemd.unit(5))."""
        return [f"{name}*" if name.endswith("@") else name for name in self.services]


class Alternative(msgspec.Struct, kw_only=True, frozen=True):
    """One of the programs that a name may stand for.

    Attributes:
        link: where the name is found; slaves: (name, link, path) of what goes with it.
        chosen: somebody has set the name to it by hand.
    """

    name: str
    link: str
    path: str
    priority: int
    slaves: list[tuple[str, str, str]] = []
    chosen: bool = False


# For where a path lies: what was there when the package was removed, how its content is read, where a link led; or None.
Source = Callable[[str], "tuple[Look, Callable[[], IO[bytes]] | None, str] | None"]


@dataclass(frozen=True)
class CommandLine:
    """A command that is registered.

    Attributes:
        words: the program, then its arguments as most programs take them.
        line: what stands behind the program, as it stands: the program alone knows what it means.
    """

    words: tuple[str, ...]
    line: str = ""

    @property
    def program(self) -> str:
        return self.words[0]

    @property
    def text(self) -> str:
        """For people."""
        return command_text(self.words[:1], self.line) if self.line else command_text(self.words)


def command_text(words: Sequence[str], line: str = "") -> str:
    """A command for people: the program, what is registered behind it, then arguments."""
    first, *rest = (f'"{word}"' if " " in word or not word else word for word in words)
    return " ".join([first, *([line] if line else []), *rest])


@dataclass(frozen=True)
class Entry:
    """A product that is registered as installed.

    Attributes:
        id: tells it from every other, whatever it is called; registered_at: for people.
        quiet: the command that removes it without a question; None if none is known.
        account: the account in whose own hive it is registered, or "".
        product_code: of a Windows Installer product, with braces.
        program: the registered command; size: in bytes, as registered, 0 if it is not.
        package: the installer package that the system keeps of it, where that is how it was found.
    """

    name: str
    version: str
    publisher: str
    id: Identity
    registered_at: str
    quiet: CommandLine | None
    registered: str
    location: str = ""
    account: str = ""
    product_code: str = ""
    program: CommandLine | None = None
    size: int = 0
    package: str = ""


@dataclass(frozen=True)
class InstallerProduct:
    """A product that the system's own installer has installed.

    Attributes:
        code: its product code; account: whose it is, as a SID, "" for the machine's.
        package: where its package lies in the installer's cache; "" if that is not known.
    """

    code: str
    account: str
    name: str
    version: str
    publisher: str
    package: str


@dataclass(frozen=True)
class InstallerPackage:
    """A package in the installer's cache, and what it says of itself: `subject` is usually the product's name."""

    path: str
    subject: str
    product_code: str


class Installed(msgspec.Struct, frozen=True, kw_only=True):
    """An installation that is written down: when (ISO 8601, the workstation's own time), by which command, for which packages."""

    when: str = ""
    command: str = ""
    with_: list[str] = []


@dataclass(frozen=True)
class Given:
    """What a command is given besides its arguments.

    Attributes:
        stdin: an open file, or `text`, for its standard input.
        environment: variables besides the usual ones.
        hide: texts that must not appear in what is kept of its output.
        errors: where its standard error goes; with the output if None.
        line: of a Windows program: what stands behind it before the arguments, as it stands.
        lasting: it changes the workstation, so it goes on when the unit or the session ends that Kleff runs in.
        linger: seconds for which what it leaves at work is watched after its own end.
    """

    stdin: IO[bytes] | None = None
    text: str = ""
    environment: Mapping[str, str] = field(default_factory=dict)
    hide: tuple[str, ...] = ()
    errors: Path | None = None
    lasting: bool = False
    linger: float = 0.0
    line: str = ""


@dataclass
class Running:
    """A command that was started, told apart for a later run of Kleff by number and start time.

    Attributes:
        pid, started: of the process that runs it (of the command itself, where an earlier release started it).
        output: where what it says is kept; how it ended is kept beside it.
        program: its own number, once that is known; code: how it ended, once it has.
        begun: False if it is known that it never was started.
    """

    pid: int
    started: float
    output: Path
    program: int = 0
    code: int | None = None
    begun: bool = True


@dataclass(frozen=True)
class Life:
    """What shows that a program is at work, with all it has started.

    Attributes:
        cpu: seconds of processor time; written: bytes, together with what has ended since as far as that is known.
        programs: how many run; titles: of the windows they show.
    """

    cpu: float = 0.0
    written: int = 0
    programs: int = 0
    titles: tuple[str, ...] = ()


# Told which process runs a command, before the command itself is started.
Known = Callable[[Running], None]


@dataclass(frozen=True)
class Task:
    """A scheduled task: the command it runs, and whether it may run."""

    name: str
    command: str
    enabled: bool


@dataclass(frozen=True)
class Power:
    """Where the power comes from; the battery's charge in percent, where there is one."""

    mains: bool
    percent: int | None = None
