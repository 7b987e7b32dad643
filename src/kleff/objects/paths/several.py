"""Several exact paths that one action sets aside together."""

from collections.abc import Sequence

import msgspec

from kleff.case.guard.guard import Removal, Target
from kleff.errors import InUse
from kleff.objects.base.action import REFUSED, TO_DO, Action, Inside, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.paths.details import BACK
from kleff.objects.paths.in_use import after_restart, set_aside_around
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account


class Several(msgspec.Struct, kw_only=True):
    """The paths as hex of their raw bytes, and the id of the account whose they are, or ""."""

    paths: list[str]
    account: str


def exact(path: WPath, account: Account | None = None) -> Target:
    """The guard's view of a path that is meant exactly as it is."""
    return Target(path, len(path.parts), len(path.name), account, account.home if account else None)


def plan_several(action: Action, here: Here, paths: Sequence[WPath], account: Account | None = None) -> list[WPath]:
    """Let an action set paths aside: each guarded, what stays of them told, the rest counted. Returns what goes."""
    action.undo = BACK
    going: list[WPath] = []
    for path in paths:
        verdict = here.guard.check(exact(path, account))
        if verdict.word == REFUSED:
            action.judged(REFUSED, f"{path}: {verdict.reason}", verdict.remedy)
            return []
        removal = here.guard.removal(path) if verdict.ok else Removal([], [(path, verdict.reason)])
        going += removal.paths
        action.stays += [Inside(what=path_id(kept), reason=reason) for kept, reason in removal.kept]
    for path in going:
        measure = here.workstation.files.measure(path)
        action.items, action.size = action.items + measure.items, action.size + measure.size
    action.set_details(Several(paths=[p.raw.hex() for p in going], account=account.id if account else ""))
    if not going and action.state == TO_DO:
        action.keep(action.stays[0].reason if action.stays else "nothing of it is there")
    return going


def still_there(action: Action, here: Here) -> list[Target]:
    """What an action is to set aside and is there still."""
    files, told = here.workstation.files, action.details_as(Several)
    account = here.resolver.account(told.account)
    paths = [files.from_raw(bytes.fromhex(raw)) for raw in told.paths]
    return [exact(path, account) for path in paths if files.look(path) is not None]


def set_aside_several(action: Action, work: Work) -> Outcome:
    """Do it; done twice is done once."""
    from kleff.case.effects.moved import set_aside

    since = after_restart(action, work)
    targets = still_there(action, work.here)
    if not targets:
        return Outcome(note="already gone")
    work.progress.start("setting aside", items=action.items, size=action.size)
    try:
        set_aside(work.hands, [(action.number, target) for target in targets], lambda number, move: None)
    except InUse:
        return set_aside_around(action, still_there(action, work.here), work, since)
    return Outcome(items=action.items, size=action.size)


def closed_to_us(action: Action, here: Here) -> bool:
    """Whether Kleff may not change the folder in which what an action is about lies."""
    path = action.path(here.workstation.style)
    if path is None:
        return False
    with here.workstation.files.folder(path.parent) as folder:
        return not folder.may_change()
