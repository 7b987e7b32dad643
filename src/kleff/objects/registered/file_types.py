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
from kleff.objects.registered.found import Found, FoundKind, Into
from kleff.procedure.globs import fold
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Texts
from kleff.procedure.texts import Problem
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
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


class FileTypeKind(FoundKind):
    """`file_type`."""

    names = ("file_type",)
    noun = ("file type", "file types")
    models: dict[str, type[Step]] = {"delete": FileTypeDelete, "verify": FileTypeVerify}

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        model = step.model
        assert isinstance(model, _FileType)
        program = next(iter(stage.named(model.program)), "")
        for ending in model.file_type:
            stage.key(rf"HKLM\{CLASSES}\{ending}", {"": f"Sample{ending}"})
            stage.key(rf"HKLM\{CLASSES}\Sample{ending}\shell\open\command", {"": f'"{program}" "%1"'})

    def find(self, model: Step, here: Here) -> Iterator[Found]:
        assert isinstance(model, _FileType)
        registry, into = here.workstation.registry, Into(here, [model.program])
        handlers: set[str] = set()
        for ending in model.file_type if registry is not None else ():
            for root in ROOTS:
                for key, account in meant_keys(here, f"{root}\\{CLASSES}\\{ending}", None, model.accounts):
                    if found := self._of_ending(key, account, ending, into, here):
                        yield found
                        handlers |= {name for k, name in found.values if name} | {self._default(key, here)}
        for name in sorted(filter(None, handlers)):
            for root in ROOTS:
                for key, account in meant_keys(here, f"{root}\\{CLASSES}\\{name}", None, model.accounts):
                    if self._leads(key, into, here):
                        yield Found(f"handler {name}", account, keys=(key,), shows=(f"opens by {self._command(key, here)}",))

    def _of_ending(self, key: KeyRef, account: str, ending: str, into: Into, here: Here) -> Found | None:
        """What of an ending is the product's: its default, names in its list of programs; all of it, if nothing else is in it."""
        registry = here.workstation.registry
        if registry is None or not registry.exists(key):
            return None
        default, others = self._default(key, here), [v.name for v in registry.values(key.child("OpenWithProgids"))]
        ours = [name for name in others if self._handled(key, name, into, here)]
        is_default = bool(default) and self._handled(key, default, into, here)
        if not is_default and not ours:
            return None
        back = self._recorded(key, default, into, here)
        shows = [f"opens by {default}"] if is_default else []
        shows += [f"gets back what stood there before: {back}"] if back else []
        shows += [f"{who} has chosen a program for it; that choice is the system's to protect" for who in self._choices(ending, here)]
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

    def _default(self, key: KeyRef, here: Here) -> str:
        return here.workstation.registry.text(key, "") if here.workstation.registry is not None else ""

    def _handled(self, key: KeyRef, name: str, into: Into, here: Here) -> bool:
        """Whether a handler, of the same account or of everybody, leads to the product."""
        own = KeyRef(key.hive, "\\".join([*key.parts[:-1], name]), key.view)
        everybody_s = [k for k, _ in meant_keys(here, f"HKLM\\{CLASSES}\\{name}", None, [])]
        return any(self._leads(one, into, here) for one in (own, *everybody_s))

    def _leads(self, key: KeyRef, into: Into, here: Here) -> bool:
        return into.leads(self._command(key, here))

    def _command(self, key: KeyRef, here: Here) -> str:
        registry = here.workstation.registry
        verbs = registry.subkeys(key.child("shell")) if registry is not None else []
        return next((t for v in verbs if registry and (t := registry.text(key.child("shell").child(v).child("command"), ""))), "")

    def _recorded(self, key: KeyRef, default: str, into: Into, here: Here) -> str:
        """The handler that stood there before, if a setup has recorded it, it is there still, and is not the product's."""
        registry = here.workstation.registry
        for value in registry.values(key) if registry is not None else []:
            if registry is not None and RECORDED.fullmatch(value.name) and value.text and fold(value.text) != fold(default):
                beside = [KeyRef(key.hive, "\\".join([*key.parts[:-1], value.text]), key.view)]
                beside += [k for k, _ in meant_keys(here, f"HKLM\\{CLASSES}\\{value.text}", None, [])]
                if any(registry.exists(k) and not self._leads(k, into, here) for k in beside):
                    return value.text
        return ""

    def _choices(self, ending: str, here: Here) -> list[str]:
        """The accounts that have chosen a program for an ending themselves."""
        registry = here.workstation.registry
        keys = meant_keys(here, f"{CHOICES}\\{ending}\\UserChoice", None, [])
        return sorted({account for key, account in keys if registry is not None and registry.exists(key)})

    def is_ours(self, about: KeyId, model: Step, here: Here) -> bool:
        """A handler by what it opens by: the endings that led to it have gone before it."""
        assert isinstance(model, _FileType)
        handler = about.value is None and not about.key.parts[-1].startswith(".")
        return self._leads(about.key, Into(here, [model.program]), here) if handler else super().is_ours(about, model, here)

    def still_ours(self, key: KeyRef, name: str, model: Step, here: Here) -> bool:
        assert isinstance(model, _FileType)
        return bool(name) or self._handled(key, self._default(key, here), Into(here, [model.program]), here)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        """Its values go; then the recorded default is written."""
        from kleff.case.effects.key_written import write_key

        model, registry = step.model, work.here.workstation.registry
        assert isinstance(model, _FileType)
        keys = [i.key for i in action.about if isinstance(i, KeyId) and i.value == ""]
        into, back = Into(work.here, [model.program]), ""
        if keys and registry is not None:
            back = self._recorded(keys[0], self._default(keys[0], work.here), into, work.here)
        outcome = super().do(action, step, work)
        if back and registry is not None and registry.value(keys[0], "") is None:
            tree = RegKey(keys[0].parts[-1], {"": text_value("", back)})
            write_key(work.hands, action.number, keys[0], tree, replace=False)
            outcome.note = f"opens by {back} again"
        return outcome
