"""Giving back what a bag holds: planned, shown, done as a case of its own, and looked at again in the end."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import msgspec

from kleff.case.folder import Case
from kleff.case.saved import SavedItem
from kleff.case.saved_bag import SavedBag
from kleff.engine.preview import Plan, Totals
from kleff.engine.run import Row, Runner, rows
from kleff.engine.verify import LEFT, Finding, Verification
from kleff.errors import Refused, UsageError
from kleff.objects.base import ABSENT, DONE, KEPT, MANUAL, REFUSED, TO_DO, UNREADABLE, Action, Outcome, Scene
from kleff.objects.giving import Giver, Giving
from kleff.objects.giving_others import CommandBack, KeysBack, ShownBack
from kleff.objects.giving_paths import PathsBack
from kleff.procedure.globs import fold
from kleff.texts import plural, size

GIVERS: dict[str, Giver] = {
    "paths": PathsBack(),
    "key": KeysBack(),
    "value": KeysBack(),
    "command": CommandBack(),
    "service": ShownBack(),
    "driver": ShownBack(),
    "packages": ShownBack(),
    "fact": ShownBack(),
}


@dataclass(frozen=True)
class Wanted:
    """What of a bag is given back: labels, and accounts as they were saved; all if empty."""

    labels: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()

    def takes(self, item: SavedItem) -> bool:
        return (not self.labels or item.label in self.labels) and (not self.accounts or item.account in self.accounts)


def check_wanted(bag: SavedBag, wanted: Wanted, to: dict[str, str], scene: Scene) -> None:
    """What is asked for must be in the bag, and the accounts must be here.

    Raises:
        UsageError, Refused.
    """
    labels = sorted({i.label for i in bag.items.values() if i.label})
    people = sorted({i.account for i in bag.items.values() if i.account})
    for label in wanted.labels:
        if label not in labels:
            raise UsageError(f"the bag holds nothing labelled {label!r}", remedy=f"it holds {', '.join(labels) or 'nothing with a label'}")
    for name in (*wanted.accounts, *(n for n in to if n)):
        if name not in people:
            raise UsageError(f"the bag holds nothing of an account {name!r}", remedy=f"it holds things of {', '.join(people) or 'nobody'}")
    chosen = sorted({i.account for i in bag.items.values() if i.account and wanted.takes(i)})
    if "" in to and len(chosen) > 1:
        raise UsageError(
            f"the bag holds things of {', '.join(chosen)}", remedy="say whose:  --to-account OLD=NEW,  or choose with  --account OLD"
        )
    here = {fold(a.name) for a in scene.workstation.accounts.all()}
    for name in to.values():
        if fold(name) not in here:
            raise Refused(f"there is no account {name} on {scene.workstation.name}", remedy="name one that is there")


def plan_restore(giving: Giving, wanted: Wanted) -> Plan:
    """Every wanted item resolved into an action. Nothing is changed."""
    actions: list[Action] = []
    for stem, item in giving.bag.items.items():
        if wanted.takes(item):
            actions += GIVERS[item.object].plan(item, stem, giving)
    for number, action in enumerate(actions, 1):
        action.number = number
    totals = Totals()
    names = {TO_DO: "to_do", ABSENT: "absent", KEPT: "kept", REFUSED: "refused", MANUAL: "manual", UNREADABLE: "unreadable"}
    for action in actions:
        setattr(totals, names[action.state], getattr(totals, names[action.state]) + 1)
    final = [a.number for a in actions if a.final and a.state == TO_DO]
    return Plan(actions=actions, totals=totals, no_return=final[0] if final else 0)


def check_room(giving: Giving, plan: Plan) -> None:
    """Refuse before the first byte if the volumes are too small.

    Raises:
        Refused.
    """
    files = giving.scene.workstation.files
    needed = sum(a.size for a in plan.actions if a.state == TO_DO and a.kind == "paths")
    for volume, folder in files.volumes.items():
        if len(files.volumes) == 1 or volume == "C:":
            status = os.statvfs(folder)
            free = status.f_bavail * status.f_frsize
            if needed > free:
                raise Refused(
                    f"{size(needed)} are to be put back, and {size(free)} are free",
                    where=str(folder),
                    remedy="make room; nothing was changed",
                )


def giving_facts(giving: Giving, wanted: Wanted) -> dict[str, str]:
    """What the case of a restore keeps, so that it can be resumed."""
    told = {
        "own": giving.own, "to": giving.to, "replace": giving.replace, "labels": list(wanted.labels), "accounts": list(wanted.accounts),
    }  # fmt: skip
    return {"task": "restore", "bag_folder": str(giving.bag.folder), "giving": msgspec.json.encode(told).decode()}


class Restorer(Runner):
    """Does the agreed plan of a case that gives back."""

    def __init__(self, giving: Giving, case: Case) -> None:
        super().__init__(giving.scene, case)
        self.giving = giving

    def _joined(self, pending: list[Row]) -> int:
        return 1

    def _pending(self, row: Row) -> bool:
        return row.state not in (DONE, "skipped", ABSENT, KEPT, MANUAL)

    def _do(self, row: Row) -> Outcome:
        stem = str(row.action.details["stem"])
        item = self.giving.bag.items[stem]
        return GIVERS[item.object].do(row.action, item, self.giving, self.work)

    def _verified(self) -> Verification:
        """Every file's hash, key and list again, where they belong now."""
        self.scene.progress.say("     comparing what is in place with the bag")
        findings = list(self._findings())
        return Verification(clean=not findings, looked=len(rows(self.case)), findings=findings)

    def _findings(self) -> Iterator[Finding]:
        for row in rows(self.case):
            action = row.action
            if row.state in (DONE, ABSENT) and action.state in (TO_DO, ABSENT):
                stem = str(action.details["stem"])
                item = self.giving.bag.items[stem]
                for text in GIVERS[item.object].missing(item, stem, self.giving):
                    yield Finding(state=LEFT, kind=action.kind, target=text, line=action.line, phase="restore", account=action.account)


def conflicts(plan: Plan) -> Sequence[str]:
    """What stands in the way, for the summary."""
    kept = [a for a in plan.actions if a.state == KEPT or any(s.startswith("stays") for s in a.shows)]
    return [f"{plural(len(kept), 'item')} with something else in place, which stays; --replace sets it aside first"] if kept else []
