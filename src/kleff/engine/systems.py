"""For which systems a procedure and its steps are written: as they say, or as their paths, keys and kinds show."""

from __future__ import annotations

import re

from kleff.errors import Refused
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import LoadedStep, Procedure
from kleff.workstation.facets import Workstation

NAMES = {"windows": "Windows", "linux": "Linux", "macos": "macOS"}
# A drive, a share, a %VARIABLE% or a backslash; a path from the root.
WINDOWS_PATH = re.compile(r"[A-Za-z]:([\\/]|$)|%[^%\\/]+%|[^\\]*\\")
POSIX_PATH = re.compile(r"/(?!/)")


def applies(step: LoadedStep, system: str) -> bool:
    """Whether a step can mean anything on a system."""
    shown = _shown_by(step)
    return step.model.on in (None, system) and (not shown or system in shown)


def meant_for(procedure: Procedure) -> set[str]:
    """The systems a procedure is written for; empty if it says and shows nothing."""
    if procedure.product.on:
        return set(procedure.product.on)
    found: set[str] = set()
    for step in (*procedure.steps, *procedure.evidence):
        found |= {step.model.on} if step.model.on else _shown_by(step)
    for text in (*procedure.keep.paths, *(t for texts in procedure.places.values() for t in texts)):
        found |= _of_path(text)
    return found


def elsewhere(procedure: Procedure, system: str) -> list[int]:
    """The lines of the steps that cannot apply on a system."""
    return sorted(s.line for s in procedure.steps if not applies(s, system))


def check_meant_for(procedure: Procedure, workstation: Workstation) -> None:
    """A procedure for another system finds nothing here, which proves nothing.

    Raises:
        Refused: it is for another system.
    """
    systems = meant_for(procedure)
    if systems and workstation.system not in systems:
        written = " and ".join(NAMES[s] for s in sorted(systems))
        raise Refused(
            f"written for {written}; this workstation ({workstation.spec}) is {NAMES[workstation.system]}", where=procedure.name,
            remedy="name the workstation that is meant:  --on lab:FOLDER,  --on root:FOLDER  or  --on this",
        )  # fmt: skip


def _shown_by(step: LoadedStep) -> set[str]:
    """The systems that a step's kind or its paths show."""
    found = set(kind_of(step.kind).systems)
    for text in step.model.written_paths:
        found |= _of_path(text)
    return found


def _of_path(text: str) -> set[str]:
    if WINDOWS_PATH.match(text):
        return {"windows"}
    return {"linux", "macos"} if POSIX_PATH.match(text) else set()
