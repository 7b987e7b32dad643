"""Modules of the kernel: found and shown, never removed. Whose package or driver kit they are takes them along."""

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.action import ABSENT, Action, Sighting
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Kind
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text
from kleff.workstation.files.folders import inside, real_folder
from kleff.workstation.identity import NameId, path_id
from kleff.workstation.paths import WPath

FILE = re.compile(r"(.+)\.ko(?:\.gz|\.xz|\.zst)?\Z")  # as kmod(8) reads them
INSTALLED = ("usr", "lib", "modules")  # one folder for each kernel; /lib is a link there or, on an older system, the place itself
ASKED_FOR = (("etc", "modules-load.d"), ("usr", "lib", "modules-load.d"))  # modules-load.d(5)
LOADED = ("proc", "modules")  # proc(5): a line each, the name first
MOST = 1 << 20  # bytes


class _Module(Step, kw_only=True, frozen=True):
    module: Annotated[Text, Meta(description="name of the kernel module; * and ? are wildcards, - and _ are the same")]


class ModuleEvidence(_Module, kw_only=True, frozen=True):
    """A kernel module: loaded, installed for a kernel, or asked for at every start. It is only shown; no step removes one."""


class ModuleVerify(_Module, kw_only=True, frozen=True):
    """A kernel module that must be gone: its package, or what built it, takes it along, and a restart unloads it."""


class ModuleKind(Kind):
    """`module`."""

    names = ("module",)
    systems = ("linux",)
    condition = "A kernel module that must, or must not, be there."
    models: dict[str, type[Step]] = {"evidence": ModuleEvidence, "verify": ModuleVerify}

    def look(self, step: StepOf[_Module], here: Here) -> Iterator[Sighting]:
        for name, where, path in _found(step, here):
            about = path_id(path) if path else NameId("module", name)
            yield Sighting(kind="module", what=name, about=about, where=where, line=step.line)

    def plan(self, step: StepOf[_Module], here: Here) -> Iterator[Action]:
        any_there = False
        for name, where, path in _found(step, here):
            any_there = True
            about = path_id(path) if path else NameId("module", name)
            yield here.action(step, "look for", f"kernel module {name}, {where}", about=[about])
        if not any_there:
            yield here.action(step, "look for", f"kernel module {step.model.module}", state=ABSENT, reason="not there")


def _found(step: StepOf[_Module], here: Here) -> Iterator[tuple[str, str, WPath | None]]:
    """(name, what is there of it, its file) of what a step means."""
    wanted = _same(step.model.module)
    for name, where, path in _all(here):
        if name_matches(wanted, _same(name), False):
            yield name, where, path


def _all(here: Here) -> Iterator[tuple[str, str, WPath | None]]:
    files = here.workstation.files
    for line in _lines(here, WPath(here.workstation.style, "", LOADED)):
        yield line.split(" ")[0], "loaded until the workstation restarts", None
    tops = [real_folder(files, WPath(here.workstation.style, "", parts)) for parts in (INSTALLED, INSTALLED[1:])]
    for top in {top.key: top for top in tops}.values():
        for path, _ in files.find(top, FILE.fullmatch) if files.look(top) is not None else ():
            name = path.name.partition(".ko")[0]
            yield name, f"installed for the kernel {path.parts[len(top.parts)]}", path
    for parts in ASKED_FOR:
        folder = WPath(here.workstation.style, "", parts)
        for path in inside(files, folder):
            for line in _lines(here, path) if path.name.endswith(".conf") else ():
                if line and not line.startswith(("#", ";")):
                    yield line.strip(), f"asked for at every start by {path}", path


def _lines(here: Here, path: WPath) -> list[str]:
    try:
        return here.workstation.files.read(real_folder(here.workstation.files, path), MOST).decode("utf-8", "replace").splitlines()
    except (FileNotFoundError, NotADirectoryError):
        return []


def _same(name: str) -> str:
    """As the kernel compares names (modprobe(8))."""
    return name.replace("-", "_")


KINDS = (ModuleKind(),)
