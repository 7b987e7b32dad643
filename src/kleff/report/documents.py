"""The JSON documents, one model per reading command; docs/json.md and the schemas are made from them.

`version` goes up when a field changes its meaning or goes away; fields may be added without.
"""

from __future__ import annotations

import re
from typing import Any, Literal

import msgspec

from kleff.engine.choices import Choice
from kleff.engine.totals import Totals
from kleff.objects.base.holders import Holder
from kleff.report.parts import ActionInfo, FindingInfo, ProductInfo, SightingInfo, ThingInfo, WorkstationInfo
from kleff.search.unneeded import UnneededPackage
from kleff.texts import plain_all

VERSION = 2


class Document(msgspec.Struct, kw_only=True):
    """What all documents share."""

    kleff: str
    version: Literal[2] = 2


class SurveyDocument(Document, kw_only=True):
    """`kleff survey --json`"""

    workstation: WorkstationInfo
    product: ProductInfo
    present: bool
    versions: list[str]
    evidence: list[SightingInfo]
    others: list[SightingInfo]
    unreadable: list[SightingInfo]
    accounts: list[str]
    running: list[str]


class PreviewDocument(Document, kw_only=True):
    """`kleff preview --json`; `no_return` is the number of the first action that cannot be taken back, or 0.

    `present` tells whether anything shows the product; `elsewhere` the lines of the steps for another system; `silent` the programs of
    which it could not be told what they have open.
    """

    workstation: WorkstationInfo
    product: ProductInfo
    choices: list[Choice]
    actions: list[ActionInfo]
    totals: Totals
    no_return: int
    holders: list[Holder]
    silent: list[str]
    refused: bool
    present: bool
    elsewhere: list[int]


class RestoreDocument(Document, kw_only=True):
    """`kleff restore --dry-run --json`; `saved_on` says where and when the bag was made."""

    workstation: WorkstationInfo
    product: ProductInfo
    bag: str
    saved_on: str
    actions: list[ActionInfo]
    no_return: int
    refused: bool


class VerifyDocument(Document, kw_only=True):
    """`kleff verify --json`; `accounts` are those it is said of, if not of all, `left_out` how many others were not looked at;
    `case` the one from which the answers are, and what an uninstaller named.
    """

    workstation: WorkstationInfo
    product: ProductInfo
    clean: bool
    looked: int
    findings: list[FindingInfo]
    not_known: list[str] = []
    gone: bool = False
    case: str = ""
    accounts: list[str] = []
    left_out: int = 0


class Advice(msgspec.Struct, kw_only=True):
    """An error or a piece of advice on a procedure."""

    text: str
    line: int = 0


class CheckedProblem(msgspec.Struct, kw_only=True):
    """An error of a procedure file; `code` tells what sort it is in one word, line and column count from 1."""

    file: str
    line: int
    column: int
    code: str
    message: str


class CheckedFile(msgspec.Struct, kw_only=True):
    """One procedure file that was checked; `errors` as lines for people, `problems` the same in parts."""

    file: str
    valid: bool
    errors: list[str]
    problems: list[CheckedProblem] = []
    advice: list[Advice]


class CheckDocument(Document, kw_only=True):
    """`kleff check --json`"""

    files: list[CheckedFile]


class ListedProcedure(msgspec.Struct, kw_only=True):
    """A procedure of the library; `present` is null where it could not be told, also since it is for another system."""

    file: str
    id: str
    name: str
    versions: str
    valid: bool
    present: bool | None
    found: list[str]
    other_system: bool = False


class ListDocument(Document, kw_only=True):
    """`kleff list --json`"""

    library: str
    workstation: WorkstationInfo
    procedures: list[ListedProcedure]


class CaseInfo(msgspec.Struct, kw_only=True):
    """A case. `restored`: it put saved data back. `holds`: labels of what is in the bag. `due`: what is set aside may go, by the
    settings. `next`: the commands that can follow. `at_work`: who works on it now. Times are ISO 8601 in UTC, sizes in bytes."""

    id: str
    folder: str
    state: str
    product: str
    host: str
    workstation: str
    technician: str
    ticket: str
    made: str
    ended: str
    saved_size: int
    aside_items: int
    aside_size: int
    holds: list[str]
    restored: bool
    due: bool
    next: list[str]
    at_work: str = ""


class DamagedInfo(msgspec.Struct, kw_only=True):
    """A case folder that cannot be read."""

    folder: str
    error: str


class CasesDocument(Document, kw_only=True):
    """`kleff cases --json`"""

    folder: str
    cases: list[CaseInfo]
    damaged: list[DamagedInfo]


class DoneInfo(msgspec.Struct, kw_only=True):
    """An action of a case and what became of it."""

    number: int
    phase: str
    line: int
    label: str
    verb: str
    target: str
    path_b64: str
    about: list[ThingInfo]
    account: str
    state: str
    note: str
    items: int
    size: int


class EffectInfo(msgspec.Struct, kw_only=True):
    """A change to the workstation, as journaled."""

    number: int
    action: int
    kind: str
    what: str
    state: str
    note: str
    at: str


class EventInfo(msgspec.Struct, kw_only=True):
    """A line of the case's diary."""

    at: str
    text: str


class ReportDocument(Document, kw_only=True):
    """`kleff report --format json`"""

    case: CaseInfo
    procedure: str
    elapsed: float
    actions: list[DoneInfo]
    effects: list[EffectInfo]
    clean: bool | None
    findings: list[FindingInfo]
    events: list[EventInfo]


class LabProcessInfo(msgspec.Struct, kw_only=True):
    """A simulated process."""

    pid: int
    name: str
    account: str


class LabEntryInfo(msgspec.Struct, kw_only=True):
    """A registered product of a lab."""

    name: str
    version: str


class LabDocument(Document, kw_only=True):
    """`kleff lab show --json`"""

    workstation: WorkstationInfo
    boot: str
    accounts: list[str]
    files: int
    size: int
    keys: int
    entries: list[LabEntryInfo]
    services: list[str]
    processes: list[LabProcessInfo]


class UnneededDocument(Document, kw_only=True):
    """`kleff unneeded --json`; `everything` tells whether all was asked for (`--all`), `size` the bytes of all."""

    workstation: WorkstationInfo
    everything: bool
    packages: list[UnneededPackage]
    size: int


class CheckResult(msgspec.Struct, kw_only=True):
    """One check of a contract; `wrong` is what was found instead, "" if it holds."""

    area: str
    check: str
    wrong: str


class SelftestDocument(Document, kw_only=True):
    """`kleff selftest --json`; `release` is Kleff's own, `wrong` counts what does not hold."""

    release: str
    system: str
    python: str
    results: list[CheckResult]
    wrong: int


ESCAPED = re.compile(rb'\\[^"]')  # a character that had to be escaped, other than the quotation mark

DOCUMENTS: dict[str, type[Document]] = {
    "survey": SurveyDocument,
    "preview": PreviewDocument,
    "restore": RestoreDocument,
    "verify": VerifyDocument,
    "check": CheckDocument,
    "list": ListDocument,
    "cases": CasesDocument,
    "report": ReportDocument,
    "unneeded": UnneededDocument,
    "lab": LabDocument,
    "selftest": SelftestDocument,
}


def schema(command: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a command's document."""
    return msgspec.json.schema(DOCUMENTS[command])


def encode(document: Document) -> str:
    """The document as indented JSON (RFC 8259)."""
    try:
        data = msgspec.json.encode(document)
        harmless = data.isascii() and not ESCAPED.search(data.replace(b"\\\\", b""))
    except UnicodeEncodeError:  # half a surrogate pair: a name that is not text
        harmless = False
    if not harmless:
        data = msgspec.json.encode(plain_all(msgspec.to_builtins(document)))
    return msgspec.json.format(data, indent=2).decode()
