"""Fonts that a product has brought, by the name under which they are registered: the name and the file."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.keys.meaning import meant_keys
from kleff.objects.paths.several import exact
from kleff.objects.registered.found import Found, RegisteredKind, Sort, too_short
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import AccountStep, Text
from kleff.procedure.texts import Problem
from kleff.registry.registry import Registry
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath

FONTS = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\Fonts"


class _Font(AccountStep, kw_only=True, frozen=True):
    font: Annotated[Text, Meta(description='the name under which it is registered, e.g. "Brindlewort Sans*"')]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := too_short(self.font):
            yield ("font",), wrong


class FontDelete(_Font, kw_only=True, frozen=True):
    """Take fonts out of the register and delete their files."""

    at_most: Annotated[int, Meta(ge=1, description="how many fonts")] = 30


class FontVerify(_Font, kw_only=True, frozen=True):
    """Fonts that must be gone."""


def _stage(model: _Font, stage: Stage) -> None:
    stage.key(rf"HKLM\{FONTS}", {f"{shown_as(model.font)} (TrueType)": "samplefont.ttf"})
    stage.file(r"C:\Windows\Fonts\samplefont.ttf")


def _find(model: _Font, registry: Registry, here: Here) -> Iterator[Found]:
    for root in ("HKLM", "HKCU"):
        for key, account in meant_keys(here, f"{root}\\{FONTS}", 64 if root == "HKLM" else None, model.accounts):
            for value in registry.values(key):
                title = value.name.rpartition(" (")[0] or value.name
                if name_matches(model.font, title, True) or name_matches(model.font, value.name, True):
                    yield Found(title, account, values=((key, value.name),), file=value.text, shows=(f"its file: {value.text}",))


FONT = Sort("font", ("font", "fonts"), FontDelete, FontVerify, _find, _stage)


class FontKind(RegisteredKind[_Font]):
    """`font`: its file goes with it."""

    def __init__(self) -> None:
        super().__init__(FONT)

    def judge(self, action: Action, one: Found, here: Here) -> None:
        super().judge(action, one, here)
        path = _file(one.file, here)
        if path is not None:
            verdict = here.guard.check(exact(path))
            action.about.append(path_id(path))
            if not verdict.ok:
                action.judged(verdict.word, f"{path.name}: {verdict.reason}", verdict.remedy)

    def do(self, action: Action, step: StepOf[_Font], work: Work) -> Outcome:
        """The file first: a name without a file is a smaller mistake than a file that nobody knows."""
        from kleff.case.effects.moved import set_aside

        path = action.path(work.here.workstation.style)
        if path is not None and work.here.workstation.files.look(path) is not None:
            set_aside(work.hands, [(action.number, exact(path))], lambda number, move: None)
            super().do(action, step, work)
            return Outcome(items=1)
        return super().do(action, step, work)


def _file(text: str, here: Here) -> WPath | None:
    """The file of a font: by its whole path, or in the system's folder of fonts."""
    whole = here.workstation.files.path(text) if text else None
    if whole is None and text:
        system = here.workstation.variables.folders("system")
        whole = system[0].parent.child("Fonts", text) if system else None
    return whole if whole is not None and here.workstation.files.look(whole) is not None else None


KINDS = (FontKind(),)
