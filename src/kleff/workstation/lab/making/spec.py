"""A short description of what is put on a lab: products, files, keys, programs and their manners."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from kleff.errors import ProcedureError
from kleff.procedure.source import parse_source
from kleff.workstation.lab.described import LabPackage, LabProcess, LabProgram, wrong_place

WHOLE, KEY = r"^[A-Za-z]:\\", r"^HK(LM|CU|U)\\"
SHAPES = {WHOLE: "is no whole path, such as C:\\Folder\\file.txt", KEY: "is no key that begins with HKLM\\, HKCU\\ or HKU\\"}
Whole = Annotated[str, Meta(pattern=WHOLE)]
Key = Annotated[str, Meta(pattern=KEY)]
Setting = str | int | list[str]


class SpecProduct(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A registered product: its files in its folder, its entry, its uninstaller, which removes both unless it is told otherwise.

    Attributes:
        hidden: it has no entry; registered: its command; loud: it has no quiet one.
        key: of its entry; title: its name there; size: in KiB; uninstaller: the content of that program.
        behaves: as a program of `lab.toml`; what it does not say is as its uninstaller usually does.
    """

    name: str
    publisher: str
    version: str = ""
    folder: str = ""
    files: list[str] = []
    hidden: bool = False
    product_code: str = ""
    key: str = ""
    view: Literal[32, 64] = 64
    title: str = ""
    size: int = 2048
    registered: str | None = None
    loud: bool = False
    uninstaller: str = "MZ"
    behaves: dict[str, Any] | None = None


class SpecFile(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A file.

    Attributes:
        more: its content is added to that of a file which is there.
        attributes: as Windows keeps them; who removes or saves it keeps them with it.
    """

    path: Whole
    content: str = "x"
    more: bool = False
    attributes: list[Literal["read-only", "hidden", "system"]] = []


class SpecFolder(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A folder with nothing in it."""

    path: Whole


class SpecKey(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A key with values; HKCU means every account's."""

    path: Key
    values: dict[str, Setting] = {}


class SpecService(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A service that runs."""

    name: str
    program: str
    title: str = ""


class SpecDriver(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A driver in the system's store, with a device if it has a title."""

    name: str
    provider: str
    title: str = ""
    number: int = 0


class SpecShortcut(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A shortcut."""

    path: Whole
    target: Whole


class SpecTask(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A scheduled task."""

    name: str
    program: str


class SpecRule(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A rule of the firewall."""

    name: str
    program: str = ""


class SpecThrown(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A thing in the bin of an account: where it was. Its account: the number (SID) of it."""

    account: str
    was: Whole


class LabSpec(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """The file.

    Attributes:
        keys_from: exported `.reg` files, beside the description.
        connected: devices that are plugged in; made_accounts: accounts that programs have made.
    """

    about: str = ""
    product: list[SpecProduct] = []
    file: list[SpecFile] = []
    folder: list[SpecFolder] = []
    key: list[SpecKey] = []
    keys_from: list[str] = []
    program: list[LabProgram] = []
    process: list[LabProcess] = []
    package: list[LabPackage] = []
    service: list[SpecService] = []
    driver: list[SpecDriver] = []
    shortcut: list[SpecShortcut] = []
    task: list[SpecTask] = []
    firewall: list[SpecRule] = []
    thrown: list[SpecThrown] = []
    made_accounts: list[str] = []


def read_spec(file: Path) -> LabSpec:
    """Read a description.

    Raises:
        ProcedureError: it cannot be used, with the line and column of what is wrong.
    """
    try:
        raw = file.read_bytes()
    except OSError as error:
        raise ProcedureError([f"{file}: {error.strerror}"], remedy="name the file of a description") from None
    source = parse_source(raw, str(file))
    above: tuple[str | int, ...] = ()
    try:
        spec = msgspec.convert(source.data, LabSpec)
        for number, product in enumerate(spec.product):
            above = ("product", number, "behaves")
            msgspec.convert(product.behaves or {}, LabProgram)
        return spec
    except msgspec.ValidationError as error:
        said = wrong_place(source, error, above)
        for pattern, words in SHAPES.items():
            said = said.replace(f"Expected `str` matching regex {pattern!r}", words)
        raise ProcedureError([said], remedy="correct the description; nothing was changed") from None
