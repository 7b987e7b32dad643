"""A lab on which a procedure has something to do: every kind of object says what a step of it would find."""

from __future__ import annotations

from typing import Any

from kleff.engine.job import Job
from kleff.objects.base.action import ABSENT
from kleff.objects.base.kind import Stages, able
from kleff.objects.base.known import kind_of
from kleff.objects.base.staging import USUAL, Stage

UNINSTALL = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"
STAGED = ("evidence", "backup", "stop", "uninstall", "purge", "delete")


def staged(job: Job) -> dict[str, Any]:
    """The description of what is put on a plain lab. Args: job: of the procedure on that lab."""
    stage = Stage(job.context())
    for phase in STAGED:
        steps = job.procedure.evidence if phase == "evidence" else job.procedure.phase(phase)
        for step in steps:
            staging = able(kind_of(step.kind), Stages)
            if staging is not None and step.model.on in (None, "windows"):
                staging.stage(step, stage)
    for row in stage.tables.get("product", []):
        if "folder" in row:  # its own uninstaller sees to its services
            services = [service["name"] for service in stage.tables.get("service", [])]
            keys = [rf"{UNINSTALL}\{row.get('product_code') or row['name']}", *(rf"{SERVICES}\{name}" for name in services)]
            row["behaves"] = {"deletes": [row["folder"]], "deletes_keys": keys, "stops_services": services}
    files, seen = stage.files, {path.upper() for path in stage.files}
    # What is a folder of another's must not be a file, and what a product brings itself comes with it.
    above = {"\\".join(path.upper().split("\\")[:n]) for path in seen for n in range(2, path.count("\\") + 1)}
    brought = {
        f"{row['folder']}\\{name}".upper()
        for row in stage.tables.get("product", [])
        if "folder" in row
        for name in (*row["files"], "un.exe")
    }
    wanted = {path: content for path, content in files.items() if path.upper() not in above | brought}
    more = {path for path in wanted if _is_there(path, job)}
    wanted = {path: content for path, content in wanted.items() if path not in more or content not in (None, USUAL)}
    for path in list(wanted):
        neighbour = path.rpartition("\\")[0] + "\\Neighbour of it.txt"
        if wanted[path] is not None and _has_room(path, job):
            wanted.setdefault(neighbour, USUAL)
    return {
        **stage.tables, "made_accounts": stage.made_accounts,
        "file": [{"path": path, "content": text, "more": path in more} for path, text in wanted.items() if text is not None],
        "folder": [{"path": path} for path, content in wanted.items() if content is None],
    }  # fmt: skip


def nothing_to_do(job: Job) -> list[int]:
    """The lines of the steps that would find nothing on a lab that was made for them."""
    plan = job.preview(compared=False).plan
    found = {a.line for a in plan.actions if a.state != ABSENT or a.phase in ("before", "verify", "after")}
    return sorted({a.line for a in plan.actions if a.line} - found)


def _is_there(path: str, job: Job) -> bool:
    found = job.workstation.files.path(path)
    return found is not None and job.workstation.files.look(found) is not None


def _has_room(path: str, job: Job) -> bool:
    """Whether a neighbour can stand beside a file: in a folder that no step names as a whole, or one of the system's own."""
    folder = path.rpartition("\\")[0]
    parsed = job.workstation.files.path(folder)
    return folder.count("\\") > 1 and parsed is not None and not job.context().guard.is_shared(parsed)
