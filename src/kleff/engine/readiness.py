"""Whether a run may begin: what the procedure asks for, rights where an action needs them, room for the bag."""

from __future__ import annotations

import os
from collections.abc import Collection
from pathlib import Path

from kleff.engine.preview import REMOVING, Plan
from kleff.errors import Refused, UsageError
from kleff.objects.base import MANUAL, REFUSED, TO_DO, UNREADABLE, Action, Scene
from kleff.procedure.load import Procedure
from kleff.texts import plural, size

SPACE, SYNCED = "space", "synced"


def check_names(procedure: Procedure, waived: Collection[str], confirmed: Collection[str]) -> None:
    """What is waived or confirmed must be something the procedure asks for.

    Raises:
        UsageError.
    """
    may = sorted({s.kind for s in procedure.phase("before") if getattr(s.model, "waivable", False)} | {SPACE, SYNCED})
    for name in waived:
        if name not in may:
            raise UsageError(f"{name!r} cannot be waived", remedy=f"what can be: {', '.join(may)}")
    ids = sorted({i for s in procedure.steps if s.kind == "manual" and (i := getattr(s.model, "id", ""))})
    for name in confirmed:
        if name not in ids:
            raise UsageError(f"no manual step has the id {name!r}", remedy=f"manual steps are: {', '.join(ids) or 'none'}")


def unconfirmed(plan: Plan) -> list[Action]:
    """The manual steps that must be done before anything else, and are not."""
    return [a for a in plan.actions if a.phase == "before" and a.state == MANUAL]


def check_ready(scene: Scene, plan: Plan, cases: Path) -> None:
    """Refuse a run that should not begin now.

    Raises:
        Refused: naming each reason with its remedy.
    """
    found = [
        f"not ready: {a.target}: {a.reason} (line {a.line})"
        for a in plan.actions
        if a.phase == "before" and a.state in (REFUSED, UNREADABLE)
    ]
    found += [f"not done yet: {a.target} ({a.reason})" for a in unconfirmed(plan)]
    found += _synced(scene, plan)
    found += _rights(scene, plan) + _space(scene, plan, cases)
    if found:
        raise Refused("\n".join(found), remedy="nothing was changed")


def _rights(scene: Scene, plan: Plan) -> list[str]:
    """Only where an action needs them: as an ordinary account nothing of the system's can be removed."""
    if scene.workstation.admin:
        return []
    needing = [a for a in plan.actions if a.state == TO_DO and a.phase in ("stop", *REMOVING) and _needs_rights(a, scene)]
    return (
        [f"not ready: an administrator's rights are needed for {plural(len(needing), 'action')}, {needing[0].target} the first"]
        if needing
        else []
    )


def _needs_rights(action: Action, scene: Scene) -> bool:
    if action.kind in ("package", "entry", "service"):
        return True
    if action.kind != "paths" or not action.exact:
        return False
    from base64 import b64decode

    path = scene.workstation.files.from_raw(b64decode(action.exact))
    return not os.access(os.path.dirname(scene.workstation.files.host(path)), os.W_OK)


def synced(plan: Plan) -> list[Action]:
    """What would also be deleted in an account elsewhere."""
    return [a for a in plan.actions if a.state == TO_DO and a.details.get("synced")]


def _synced(scene: Scene, plan: Plan) -> list[str]:
    if SYNCED in scene.waived:
        return []
    return [
        f"not agreed: {a.target} is kept in step by {a.details['synced']}; pause that first, or  --waive {SYNCED}  to delete it there too"
        for a in synced(plan)
    ]


def _space(scene: Scene, plan: Plan, cases: Path) -> list[str]:
    """The bag is smaller than what is saved; what a command exports is not known beforehand."""
    if SPACE in scene.waived or not plan.totals.saved_size:
        return []
    above = next(p for p in (cases, *cases.parents) if p.exists())
    status = os.statvfs(above)
    free = status.f_bavail * status.f_frsize
    if plan.totals.saved_size <= free:
        return []
    return [
        f"not ready: {size(plan.totals.saved_size)} are to be saved and {size(free)} are free in {above}: make room, name another folder "
        f"with --cases, or  --waive {SPACE}  (it is packed)"
    ]
