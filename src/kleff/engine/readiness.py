"""Whether a run may begin: what the procedure asks for, rights where an action needs them, room for the bag."""

from __future__ import annotations

from pathlib import Path

from kleff.case.record.trust import standing
from kleff.engine.plan import REMOVING, Plan
from kleff.engine.room import lacking
from kleff.errors import Refused, UsageError
from kleff.objects.base.action import MANUAL, REFUSED, TO_DO, UNREADABLE, Action
from kleff.objects.base.here import Here, Options
from kleff.objects.base.kind import NeedsRights, able
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import Procedure
from kleff.texts import plain, plural, size
from kleff.workstation.this_machine import host

SPACE, SYNCED = "space", "synced"


def check_names(procedure: Procedure, options: Options) -> None:
    """What is waived, confirmed or gone on without must be something the procedure asks for.

    Raises:
        UsageError.
    """
    may = sorted({s.kind for s in procedure.phase("before") if s.model.may_be_waived} | {SPACE, SYNCED})
    for name in options.waived:
        if name not in may:
            raise UsageError(f"{name!r} cannot be waived", remedy=f"what can be: {', '.join(may)}")
    ids = sorted({s.model.confirmed_as for s in procedure.steps} - {""})
    for name in options.confirmed:
        if name not in ids:
            raise UsageError(f"no manual step has the id {name!r}", remedy=f"manual steps are: {', '.join(ids) or 'none'}")
    if options.without_uninstallers and not any(s.model.removes_registered for s in procedure.steps):
        raise UsageError("--without-uninstallers: no step of the procedure uninstalls registered products", remedy="leave it out")
    labels = sorted({s.model.label for s in procedure.phase("backup")} - {""})
    for name in options.without_backup:
        if name not in labels:
            raise UsageError(f"no backup has the label {name!r}", remedy=f"backups are: {', '.join(labels) or 'none with a label'}")


def refuse_if_refused(plan: Plan) -> None:
    """One refused action refuses the whole run.

    Raises:
        Refused: naming each.
    """
    if plan.refused:
        listed = "\n".join(f"refused: {plain(a.target)}: {plain(a.reason)} (step at line {a.line})" for a in plan.refused)
        unsaved = sorted({a.label for a in plan.refused if a.phase == "backup" and a.label})
        without = f", or go on without:  {' '.join(f'--without-backup {n}' for n in unsaved)} --because TEXT" if unsaved else ""
        remedies = list(dict.fromkeys(a.remedy or f"correct the procedure{without}" for a in plan.refused))
        raise Refused(listed, remedy=f"{'; '.join(remedies)}; nothing was changed")


def refuse_without_evidence(here: Here) -> None:
    """Nobody looks at the preview, and nothing shows the product: it may be the wrong workstation, or the wrong procedure.

    Raises:
        Refused.
    """
    if not here.present:
        raise Refused(
            f"no evidence of {here.procedure.product.name} was found on {here.workstation.name}", where=here.workstation.spec,
            remedy="look at the preview; to remove what the procedure names all the same, add  --without-evidence",
        )  # fmt: skip


def unconfirmed(plan: Plan) -> list[Action]:
    """The manual steps that must be done before anything else, and are not."""
    return [a for a in plan.actions if a.phase == "before" and a.state == MANUAL]


def check_ready(here: Here, plan: Plan, cases: Path) -> None:
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
    found += _packages_at_work(here, plan) + _attended(here, plan)
    found += _synced(here, plan)
    found += _rights(here, plan) + _space(here, plan, cases) + lacking(here, plan, cases)
    if found:
        raise Refused("\n".join(found), remedy="see to these first, then run again")


def _packages_at_work(here: Here, plan: Plan) -> list[str]:
    """Known before, said before: not in the middle, with services already stopped."""
    packages = here.workstation.packages
    if packages is None or not any(a.phase == "purge" and a.state == TO_DO for a in plan.actions):
        return []
    who = packages.at_work()
    return [f"not ready: {who} is installing or removing packages; let it end"] if who else []


def _attended(here: Here, plan: Plan) -> list[str]:
    """Whoever answers a window has to be there when it opens."""
    windows = [a for a in plan.actions if a.attended and a.state == TO_DO]
    if not windows or here.options.somebody:
        return []
    return [f"not ready: {windows[0].target}: its window must be answered by a person (line {windows[0].line}); run it on a terminal"]


def _rights(here: Here, plan: Plan) -> list[str]:
    """Only where an action needs them: as an ordinary account nothing of the system's or of another account can be saved or removed."""
    if here.workstation.admin:
        return []
    needing = [a for a in plan.actions if a.phase in ("backup", "stop", *REMOVING) and _lacks_rights(a, here)]
    if not needing:
        return []
    whose = sorted({a.account for a in needing if a.account})
    mine = sorted({a.account for a in plan.actions if a.account} - set(whose))
    ways = "run Kleff as administrator"
    if whose and mine and all(a.account for a in needing):
        ways += f", or for some accounts alone:  {' '.join(f'--account {name}' for name in mine)}"
    of = f" (of {', '.join(whose)})" if whose else ""
    what = f"{plural(len(needing), 'action')}{of}, {needing[0].target} the first"
    return [f"not ready: an administrator's rights are needed for {what}: {ways}"]


def _lacks_rights(action: Action, here: Here) -> bool:
    if action.state == UNREADABLE:
        return not action.optional
    kind = able(kind_of(action.kind), NeedsRights)
    return action.state == TO_DO and kind is not None and kind.needs_rights(action, here)


def synced(plan: Plan) -> list[Action]:
    """What would also be deleted in an account elsewhere."""
    return [a for a in plan.actions if a.state == TO_DO and a.synced]


def _synced(here: Here, plan: Plan) -> list[str]:
    if SYNCED in here.options.waived:
        return []
    return [
        f"not agreed: {a.target} is kept in step by {a.synced}; pause that first, or  --waive {SYNCED}  to delete it there too"
        for a in synced(plan)
    ]


def _space(here: Here, plan: Plan, cases: Path) -> list[str]:
    """The bag is smaller than what is saved; what a command exports is not known beforehand."""
    if SPACE in here.options.waived or not plan.totals.saved_size:
        return []
    above = standing(cases)
    free = host().space(above).free
    if plan.totals.saved_size <= free:
        return []
    return [
        f"not ready: {size(plan.totals.saved_size)} are to be saved and {size(free)} are free in {above}: make room, name another folder "
        f"with --cases, or  --waive {SPACE}  (it is packed)"
    ]
