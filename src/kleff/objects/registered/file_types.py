"""Types of files that a product has made its own: its handlers go, and a neighbour's default comes back where that is recorded."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.staging import Stage
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.registered.classes import CLASSES, ROOTS, ByProgram
from kleff.objects.registered.found import Found, Into, RegisteredKind, Sort
from kleff.procedure.globs import fold
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Texts
from kleff.procedure.texts import Problem
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import text_value
from kleff.workstation.identity import KeyId

CHOICES = r"HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer\FileExts"
RECORDED = re.compile(r"(?:.+[_ .])?(?:backup|previous|prior)(?:[_ .].+)?", re.IGNORECASE)  # names under which setups keep what was before


class _FileType(ByProgram, kw_only=True, frozen=True):
    file_type: Annotated[Texts, Meta(description='endings, e.g. [".bwl", ".bwt"]')]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        for index, ending in enumerate(self.file_type):
            if not re.fullmatch(r"\.[^\\/*?.\s]+", ending):
                yield ("file_type", index), "is no ending, such as .bwl"


class FileTypeDelete(_FileType, kw_only=True, frozen=True):
    """Delete types of files and their handlers, as far as they lead to the product."""


class FileTypeVerify(_FileType, kw_only=True, frozen=True):
    """Types of files that must be gone."""


def _stage(model: _FileType, stage: Stage) -> None:
    program = next(iter(stage.named(model.program)), "")
    for ending in model.file_type:
        stage.key(rf"HKLM\{CLASSES}\{ending}", {"": f"Sample{ending}"})
        stage.key(rf"HKLM\{CLASSES}\Sample{ending}\shell\open\command", {"": f'"{program}" "%1"'})


def _find(model: _FileType, registry: Registry, here: Here) -> Iterator[Found]:
    into = Into(here, [model.program])
    handlers: set[str] = set()
    for ending in model.file_type:
        for root in ROOTS:
            for key, account in meant_keys(here, f"{root}\\{CLASSES}\\{ending}", None, model.accounts):
                if found := _of_ending(key, account, ending, into, registry, here):
                    yield found
                    handlers |= {name for k, name in found.values if name} | {_default(key, registry)}
    for name in sorted(filter(None, handlers)):
        for root in ROOTS:
            for key, account in meant_keys(here, f"{root}\\{CLASSES}\\{name}", None, model.accounts):
                if _leads(key, into, registry):
                    yield Found(f"handler {name}", account, keys=(key,), shows=(f"opens by {_command(key, registry)}",))


def _of_ending(key: KeyRef, account: str, ending: str, into: Into, registry: Registry, here: Here) -> Found | None:
    """What of an ending is the product's: its default, names in its list of programs; all of it, if nothing else is in it."""
    if not registry.exists(key):
        return None
    default, others = _default(key, registry), [v.name for v in registry.values(key.child("OpenWithProgids"))]
    ours = [name for name in others if _handled(key, name, into, registry, here)]
    is_default = bool(default) and _handled(key, default, into, registry, here)
    if not is_default and not ours:
        return None
    back = _recorded(key, default, into, registry, here)
    shows = [f"opens by {default}"] if is_default else []
    shows += [f"gets back what stood there before: {back}"] if back else []
    shows += [f"{who} has chosen a program for it; that choice is the system's to protect" for who in _choices(ending, registry, here)]
    mine = {fold(n) for n in ("", "Content Type", "PerceivedType")} | {
        fold(v.name) for v in registry.values(key) if RECORDED.fullmatch(v.name)
    }
    alone = is_default and len(ours) == len(others) and not back
    if (
        alone
        and all(fold(v.name) in mine for v in registry.values(key))
        and not set(map(fold, registry.subkeys(key))) - {"OPENWITHPROGIDS"}
    ):
        return Found(ending, account, keys=(key,), shows=tuple(shows))
    values = [(key.child("OpenWithProgids"), name) for name in ours] + ([(key, "")] if is_default else [])
    return Found(ending, account, values=tuple(values), shows=tuple(shows))


def _default(key: KeyRef, registry: Registry) -> str:
    return registry.text(key, "")


def _handled(key: KeyRef, name: str, into: Into, registry: Registry, here: Here) -> bool:
    """Whether a handler, of the same account or of everybody, leads to the product."""
    own = KeyRef(key.hive, "\\".join([*key.parts[:-1], name]), key.view)
    everybody_s = [k for k, _ in meant_keys(here, f"HKLM\\{CLASSES}\\{name}", None, [])]
    return any(_leads(one, into, registry) for one in (own, *everybody_s))


def _leads(key: KeyRef, into: Into, registry: Registry) -> bool:
    return into.leads(_command(key, registry), key.parts[0] if key.hive == "HKU" else "")


def _command(key: KeyRef, registry: Registry) -> str:
    verbs = registry.subkeys(key.child("shell"))
    return next((t for v in verbs if (t := registry.text(key.child("shell").child(v).child("command"), ""))), "")


def _recorded(key: KeyRef, default: str, into: Into, registry: Registry, here: Here) -> str:
    """The handler that stood there before, if a setup has recorded it, it is there still, and is not the product's."""
    for value in registry.values(key):
        if RECORDED.fullmatch(value.name) and value.text and fold(value.text) != fold(default):
            beside = [KeyRef(key.hive, "\\".join([*key.parts[:-1], value.text]), key.view)]
            beside += [k for k, _ in meant_keys(here, f"HKLM\\{CLASSES}\\{value.text}", None, [])]
            if any(registry.exists(k) and not _leads(k, into, registry) for k in beside):
                return value.text
    return ""


def _choices(ending: str, registry: Registry, here: Here) -> list[str]:
    """The accounts that have chosen a program for an ending themselves."""
    keys = meant_keys(here, f"{CHOICES}\\{ending}\\UserChoice", None, [])
    return sorted({account for key, account in keys if registry.exists(key)})


FILE_TYPE = Sort("file_type", ("file type", "file types"), FileTypeDelete, FileTypeVerify, _find, _stage)


class FileTypeKind(RegisteredKind[_FileType]):
    """`file_type`: a neighbour's default comes back where that is recorded."""

    def __init__(self) -> None:
        super().__init__(FILE_TYPE)

    def is_ours(self, about: KeyId, model: _FileType, here: Here) -> bool:
        """A handler by what it opens by: the endings that led to it have gone before it."""
        registry, handler = here.workstation.registry, about.value is None and not about.key.parts[-1].startswith(".")
        if handler and registry is not None:
            return _leads(about.key, Into(here, [model.program]), registry)
        return super().is_ours(about, model, here)

    def still_ours(self, key: KeyRef, name: str, model: _FileType, here: Here) -> bool:
        registry = here.workstation.registry
        if name or registry is None:
            return True
        return _handled(key, _default(key, registry), Into(here, [model.program]), registry, here)

    def do(self, action: Action, step: StepOf[_FileType], work: Work) -> Outcome:
        """Its values go; then the recorded default is written."""
        from kleff.case.effects.key_written import write_key

        model, registry = step.model, work.here.workstation.registry
        keys = [i.key for i in action.about if isinstance(i, KeyId) and i.value == ""]
        into, back = Into(work.here, [model.program]), ""
        if keys and registry is not None:
            back = _recorded(keys[0], _default(keys[0], registry), into, registry, work.here)
        outcome = super().do(action, step, work)
        if back and registry is not None and registry.value(keys[0], "") is None:
            tree = RegKey(keys[0].parts[-1], {"": text_value("", back)})
            write_key(work.hands, action.number, keys[0], tree, replace=False)
            outcome.note = f"opens by {back} again"
        return outcome


KINDS = (FileTypeKind(),)
