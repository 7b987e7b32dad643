"""`lab.toml`: what a lab is, and how its programs behave. Read with the line of every mistake; never changed by a run."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from kleff.errors import NoSuchWorkstation, ProcedureError
from kleff.procedure.source import Address, Source, parse_source


class LabProcess(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A simulated process; `stubborn` ones do not close when asked.

    Attributes:
        title: of its window; listens: TCP ports; opens: files it has open; locks: files it has open so that they cannot be
            renamed or deleted, nor can the folders they lie in be renamed.
        waits: it reads a pipe to which nobody writes, so that one of its handles gives no answer.
        kept_by: the name of a program that starts it again whenever it has ended, as long as it runs itself.
    """

    name: str
    path: str
    account: str = ""
    command: list[str] = []
    child_of: str = ""
    stubborn: bool = False
    at_start: bool = False
    title: str = ""
    listens: list[int] = []
    opens: list[str] = []
    waits: bool = False
    locks: list[str] = []
    kept_by: str = ""


class LabProgram(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """How a program of the lab behaves when it is run.

    Attributes:
        product_code: for a Windows Installer product instead of `path`.
        needs: an argument without which it asks questions, that is: fails.
        refuses_while: names of processes while which it refuses, with `refusal`.
        starts: described processes that it starts when it refuses, as a program does that is brought back by its service.
        fails_first: how often it fails, with `failure`, before it works.
        prints: what it writes to its output.
        deletes: paths it deletes, globs allowed; `deletes_keys`: keys, in this order, last; `creates`: files it makes.
        hands_over: it starts a copy of itself, which does the work, and returns at once; with `by_installer` the system's installer does
            the work, which is busy meanwhile.
        takes: seconds it works, with signs of life.
        wizard: the title of a window in which it asks; it goes on once that is answered (`kleff lab answer`).
        restarts: it restarts the workstation by itself.
        signs_in: an account as which somebody signs in while it works.
        answers: what it writes when called with a first argument; it then does nothing else.
        chosen: what it deletes besides, by an argument that names it.
        repairs: with this package as an argument it repairs itself, and its failures are over.
        keeps: the file of a small database: `list`, `export` and `import` (from standard input) work on it;
            with `secret`, only if TAGDB_PASSWORD says it.
    """

    path: str = ""
    product_code: str = ""
    needs: str = ""
    refuses_while: list[str] = []
    refusal: int = 1
    starts: list[str] = []
    fails_first: int = 0
    failure: int = 1603
    exit: int = 0
    prints: str = ""
    takes: float = 0.0
    hands_over: bool = False
    by_installer: bool = False
    wizard: str = ""
    restarts: bool = False
    signs_in: str = ""
    ends: list[str] = []
    stops_services: list[str] = []
    creates: list[str] = []
    deletes: list[str] = []
    deletes_keys: list[str] = []
    answers: dict[str, str] = {}
    chosen: dict[str, list[str]] = {}
    repairs: str = ""
    keeps: str = ""
    secret: str = ""


class LabPackage(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A package in the installer's cache.

    Attributes:
        registered: the key by which the installer knows the product; without it the package is left over.
    """

    path: str
    subject: str
    product_code: str
    version: str = ""
    publisher: str = ""
    registered: str = ""


class LabShort(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """The short name of one thing."""

    path: str
    name: str


class LabFile(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """The file.

    Attributes:
        battery: its charge in percent, if it runs on one.
        sessions: accounts that are signed in besides the technician.
        connected: the devices that are plugged in, by the names by which the system knows them.
        made_accounts: accounts that programs have made for their services.
        locked: why it may stop at a prompt when it is restarted.
        short_names: the drives on which things with long names get a short one too; short: what has another one than the rule gives.
    """

    format: int
    name: str
    id: str
    description: str = ""
    bits: int = 64
    battery: int | None = None
    sessions: list[str] = []
    locked: str = ""
    connected: list[str] = []
    made_accounts: list[str] = []
    short_names: list[str] = msgspec.field(default_factory=lambda: ["C:"])
    short: list[LabShort] = []
    process: list[LabProcess] = []
    program: list[LabProgram] = []
    package: list[LabPackage] = []


def read_lab_file(file: Path, where: str, remedy: str) -> LabFile:
    """Read it.

    Raises:
        NoSuchWorkstation: it cannot be used; with the line of what is wrong.
    """
    try:
        source = parse_source(file.read_bytes(), "lab.toml")
    except ProcedureError as error:
        raise NoSuchWorkstation(f"lab.toml cannot be used: {error.what}", where=where, remedy=remedy) from None
    except (OSError, UnicodeDecodeError) as error:
        raise NoSuchWorkstation(f"lab.toml cannot be used: {error}", where=where, remedy=remedy) from None
    try:
        return msgspec.convert(source.data, LabFile)
    except msgspec.ValidationError as error:
        raise NoSuchWorkstation(wrong_place(source, error), where=where, remedy=f"correct it, or {remedy}") from None


def wrong_place(source: Source, error: msgspec.ValidationError, above: Address = ()) -> str:
    """What a validator says, behind the line and column of what it means. Args: above: where what was validated stands."""
    text, _, path = str(error).partition(" - at `$")
    unknown = re.search(r"unknown field `(.+?)`", text)
    address = (*above, *_address(path.rstrip("`")))
    return f"{source.place((*address, unknown[1]) if unknown else address)}: {text}"


def _address(path: str) -> Address:
    """Where a value stands, as the validator tells it: `.program[0].takes`."""
    found = re.findall(r"\.(\w+)|\[(\d+)\]", path)
    return tuple(name or int(number) for name, number in found)
