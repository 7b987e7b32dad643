"""What leads to a program in the register of classes: protocols, COM classes; and programs that are found by their name alone."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.here import Here
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.registered.found import Found, Into, RegisteredKind, Sort, is_path, too_short
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.model import AccountStep, Text
from kleff.procedure.texts import Problem, path_problem
from kleff.registry.registry import KeyRef, Registry

APP_PATHS = r"Software\Microsoft\Windows\CurrentVersion\App Paths"
CLASSES = r"Software\Classes"
ROOTS = ("HKLM", "HKCU")
LOADS_CODE = "MSCOREE.DLL"
SERVERS = ("InprocServer32", "LocalServer32", "InprocHandler32", "LocalServer")


class _AppPath(AccountStep, kw_only=True, frozen=True):
    app_path: Annotated[Text, Meta(description="the program, as a path with * and ?, or the name by which it is found")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.app_path, places) if is_path(self.app_path) else too_short(self.app_path)
        if wrong:
            yield ("app_path",), wrong


class AppPathDelete(_AppPath, kw_only=True, frozen=True):
    """Delete what lets a program be found by its name alone."""

    at_most: Annotated[int, Meta(ge=1, description="how many")] = 20


class AppPathVerify(_AppPath, kw_only=True, frozen=True):
    """Names of programs that must be gone."""


def _stage_path(model: _AppPath, stage: Stage) -> None:
    path = next(iter(stage.named(model.app_path)), "") if is_path(model.app_path) else rf"{stage.home}\{shown_as(model.app_path)}"
    stage.key(rf"HKLM\{APP_PATHS}\{path.rpartition(chr(92))[2]}", {"": path})


def _find_path(model: _AppPath, registry: Registry, here: Here) -> Iterator[Found]:
    into = Into(here, [model.app_path]) if is_path(model.app_path) else None
    for top, account, name in _below(APP_PATHS, model.accounts, registry, here):
        leads = registry.text(top.child(name), "")
        if into.leads(leads, account) if into is not None else name_matches(model.app_path, name, True):
            yield Found(name, account, keys=(top.child(name),), shows=(f"leads to {leads}",))


APP_PATH = Sort("app_path", ("program name", "program names"), AppPathDelete, AppPathVerify, _find_path, _stage_path)


class ByProgram(AccountStep, kw_only=True, frozen=True):
    """A step about what leads to a program."""

    program: Annotated[Text, Meta(description="where its program lies, as a path with * and ?; what leads elsewhere stays")]

    @property
    def written_paths(self) -> list[str]:
        return [self.program]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := path_problem(self.program, places):
            yield ("program",), wrong


class _Protocol(ByProgram, kw_only=True, frozen=True):
    protocol: Annotated[Text, Meta(description="its name, as it stands before the : of an address", pattern=r"^[A-Za-z][A-Za-z0-9+.\-]+$")]


class ProtocolDelete(_Protocol, kw_only=True, frozen=True):
    """Delete a protocol that a product has registered for its addresses."""


class ProtocolVerify(_Protocol, kw_only=True, frozen=True):
    """A protocol that must be gone."""


def _stage_protocol(model: _Protocol, stage: Stage) -> None:
    program = next(iter(stage.named(model.program)), "")
    stage.key(rf"HKLM\{CLASSES}\{model.protocol}", {"URL Protocol": ""})
    stage.key(rf"HKLM\{CLASSES}\{model.protocol}\shell\open\command", {"": f'"{program}" "%1"'})


def _find_protocol(model: _Protocol, registry: Registry, here: Here) -> Iterator[Found]:
    into = Into(here, [model.program])
    for root in ROOTS:
        for key, account in meant_keys(here, f"{root}\\{CLASSES}\\{model.protocol}", None, model.accounts):
            if registry.value(key, "URL Protocol") is None:
                continue
            command = registry.text(key.child("shell").child("open").child("command"), "")
            kept = "" if into.leads(command, account) else f"it is another program's by now: {command or 'no command'}"
            yield Found(model.protocol, account, keys=(key,), shows=(f"opened by {command}",), kept=kept)


PROTOCOL = Sort("protocol", ("protocol", "protocols"), ProtocolDelete, ProtocolVerify, _find_protocol, _stage_protocol)


class _ComClass(AccountStep, kw_only=True, frozen=True):
    com_class: Annotated[Text, Meta(description="where its server lies, as a path with * and ?")]

    @property
    def written_paths(self) -> list[str]:
        return [self.com_class]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := path_problem(self.com_class, places):
            yield ("com_class",), wrong


class ComClassDelete(_ComClass, kw_only=True, frozen=True):
    """Delete COM classes by the path of their server, with the names and type libraries that lead to it."""

    at_most: Annotated[int, Meta(ge=1, description="how many")] = 200


class ComClassVerify(_ComClass, kw_only=True, frozen=True):
    """Classes that must be gone."""


def _stage_class(model: _ComClass, stage: Stage) -> None:
    for path in stage.named(model.com_class):
        stage.key(rf"HKLM\{CLASSES}\CLSID\{{5A3B0000-0000-4000-8000-00000000005A}}\InprocServer32", {"": path})


def _find_class(model: _ComClass, registry: Registry, here: Here) -> Iterator[Found]:
    into = Into(here, [model.com_class])
    for top, account, id_ in _below(rf"{CLASSES}\CLSID", model.accounts, registry, here):
        key = top.child(id_)
        leads = next((text for name in SERVERS for text in _servers(key.child(name), registry) if into.leads(text, account)), "")
        if leads:
            names = [registry.text(key.child(name), "") for name in ("ProgID", "VersionIndependentProgID")]
            of_names = tuple(k for name in names if name and (k := _of_name(key, name, id_, registry)) is not None)
            title = registry.text(key, "") or id_
            yield Found(f"{title} {id_}" if title != id_ else id_, account, keys=(key, *of_names), shows=(f"its server: {leads}",))
    yield from _libraries(model, into, registry, here)


def _servers(key: KeyRef, registry: Registry) -> Iterator[str]:
    """The server itself; and of one that the system's own loads, where its code is, for each version (.NET Framework, regasm.exe)."""
    server = registry.text(key, "")
    yield server
    if server and not fold(server).endswith(LOADS_CODE):
        return
    for one in (key, *map(key.child, registry.subkeys(key))):
        yield registry.text(one, "CodeBase")


def _of_name(key: KeyRef, name: str, id_: str, registry: Registry) -> KeyRef | None:
    """The key of a name that leads to a class; None if it leads to another one."""
    named = KeyRef(key.hive, "\\".join([*key.parts[:-2], name]), 0)
    return named if fold(registry.text(named.child("CLSID"), "")) == fold(id_) else None


def _libraries(model: _ComClass, into: Into, registry: Registry, here: Here) -> Iterator[Found]:
    for top, account, id_ in _below(rf"{CLASSES}\TypeLib", model.accounts, registry, here):
        for version in registry.subkeys(top.child(id_)):
            key = top.child(id_).child(version)
            files = [registry.text(key.child(n).child(p), "") for n in registry.subkeys(key) for p in ("win32", "win64")]
            if leads := next((file for file in files if into.leads(file, account)), ""):
                yield Found(f"type library {id_} {version}", account, keys=(key,), shows=(f"its file: {leads}",))


def _below(path: str, accounts: list[str], registry: Registry, here: Here) -> Iterator[tuple[KeyRef, str, str]]:
    """(key, account, name of a key in it) of a key of the machine's, in both views, and of each account's."""
    for root in ROOTS:
        for top, account in meant_keys(here, f"{root}\\{path}", None, accounts):
            for name in registry.subkeys(top):
                yield top, account, name


COM_CLASS = Sort(
    "com_class", ("COM class", "COM classes"), ComClassDelete, ComClassVerify, _find_class, _stage_class,
    looks_through="all classes and type libraries of the workstation",
)  # fmt: skip


KINDS = (RegisteredKind(APP_PATH), RegisteredKind(PROTOCOL), RegisteredKind(COM_CLASS))
