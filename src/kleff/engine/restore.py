"""Giving back what a bag holds: planned, shown, done as a case of its own, and looked at again in the end."""

from __future__ import annotations

import os
from base64 import b64decode
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec

from kleff.case.bag.index import SavedItem
from kleff.case.bag.opened import SavedBag, Unlock, check_harmless, open_bag
from kleff.case.effect_names import PLACED
from kleff.case.record.folder import Case
from kleff.engine.preview import Plan, Totals
from kleff.engine.run import Row, Runner, rows
from kleff.engine.verify import LEFT, Finding, Verification
from kleff.errors import DamagedCase, Refused, UsageError
from kleff.objects.base import ABSENT, DONE, KEPT, MANUAL, REFUSED, SKIPPED, TO_DO, UNREADABLE, Action, Outcome, Scene
from kleff.objects.giving import Giver, Giving
from kleff.objects.giving_others import CommandBack, KeysBack, ShownBack
from kleff.objects.giving_paths import PathsBack
from kleff.procedure.globs import fold
from kleff.texts import size
from kleff.workstation.common.posix import sha256_of
from kleff.workstation.paths import WPath

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
    """Refuse before the first byte if a volume is too small.

    Raises:
        Refused.
    """
    files = giving.scene.workstation.files
    needed: dict[int, int] = {}
    places: dict[int, str] = {}
    for action in (a for a in plan.actions if a.state == TO_DO and a.exact):
        path = files.from_raw(b64decode(action.exact))
        while files.look(path) is None:
            path = path.parent
        host = files.host(path)
        volume = os.lstat(host).st_dev
        needed[volume] = needed.get(volume, 0) + action.size
        places[volume] = host
    for volume, amount in needed.items():
        status = os.statvfs(places[volume])
        free = status.f_bavail * status.f_frsize
        if amount > free:
            what = f"{size(amount)} are to be put back, and {size(free)} are free"
            raise Refused(what, where=places[volume], remedy="make room; nothing was changed")


class Agreed(msgspec.Struct, kw_only=True):
    """What the case of a restore keeps besides its plan, so that it can be resumed with the very same bag."""

    own: bool
    to: dict[str, str]
    replace: bool
    manifest: str


def agreed(giving: Giving) -> dict[str, str]:
    """For the journal of the case."""
    told = Agreed(own=giving.own, to=giving.to, replace=giving.replace, manifest=_manifest(giving.bag))
    return {"task": "restore", "bag_folder": str(giving.bag.folder), "giving": msgspec.json.encode(told).decode()}


def _manifest(bag: SavedBag) -> str:
    return sha256_of(bag.folder / "manifest-sha256.txt")


def giving_of(case: Case, scene: Scene, unlock: Unlock) -> Giving:
    """What the case of a restore works with, verified again.

    Raises:
        DamagedCase: the bag is not there any more, or the case cannot be read.
        Refused: it is another bag than the one that was agreed on.
    """
    try:
        told = msgspec.json.decode(case.text("giving"), type=Agreed)
    except msgspec.MsgspecError as error:
        raise DamagedCase(
            f"what was agreed cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None
    bag = open_bag(Path(case.text("bag_folder")), contents=not told.own, unlock=unlock)
    if _manifest(bag) != told.manifest:
        raise Refused("the bag is another than the one that was agreed on", where=str(bag.folder), remedy=f"kleff undo {case.folder}")
    if not told.own:
        check_harmless(bag)
    return Giving(scene, bag, told.own, told.to, told.replace)


class Restorer(Runner):
    """Does the agreed plan of a case that gives back."""

    def __init__(self, giving: Giving, case: Case) -> None:
        super().__init__(giving.scene, case)
        self.giving = giving

    def _joined(self, pending: list[Row]) -> int:
        return 1

    def _pending(self, row: Row) -> bool:
        return row.state not in (DONE, SKIPPED, ABSENT, KEPT, MANUAL)

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
            if row.state == MANUAL:
                text = f"{action.target}: {action.reason}"
                yield Finding(state=LEFT, kind=action.kind, target=text, line=action.line, phase="restore", account=action.account)
            if row.state in (DONE, ABSENT) and action.state in (TO_DO, ABSENT):
                stem = str(action.details["stem"])
                item = self.giving.bag.items[stem]
                for text in GIVERS[item.object].missing(item, stem, self.giving, self._placed(action)):
                    yield Finding(state=LEFT, kind=action.kind, target=text, line=action.line, phase="restore", account=action.account)

    def _placed(self, action: Action) -> list[WPath]:
        files = self.giving.scene.workstation.files
        effects = self.case.journal.effects(action.number)
        return [files.from_raw(e.place) for e in effects if e.kind == PLACED and e.state == DONE]
