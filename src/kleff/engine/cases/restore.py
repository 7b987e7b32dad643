"""Restoring what a bag holds: planned, shown, done as a case of its own, and looked at again in the end."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec

from kleff.case.bag import carried
from kleff.case.bag.encryption import BagKey
from kleff.case.bag.harmless import check_harmless
from kleff.case.bag.index import SavedItem
from kleff.case.bag.opened import SavedBag, Unlock, open_bag
from kleff.case.effects.placed import Placed
from kleff.case.record.beforehand import read_beforehand
from kleff.case.record.effect import dump, load
from kleff.case.record.folder import Case, open_case
from kleff.case.renumbering import Renumbering, renumbering
from kleff.engine.cases.rows import Row, rows
from kleff.engine.cases.run import Ended, Runner
from kleff.engine.finding import LEFT, Finding, Verification
from kleff.engine.plan import Plan, numbered
from kleff.errors import DamagedCase, Refused, UsageError
from kleff.objects.base.action import ABSENT, DONE, KEPT, MANUAL, SKIPPED, TO_DO, Action, Outcome
from kleff.objects.base.here import Here
from kleff.objects.base.kind import able
from kleff.objects.base.known import kind_of
from kleff.objects.base.restoring import FromBag, Restores, Restoring
from kleff.procedure.globs import fold
from kleff.progress import Progress
from kleff.texts import size
from kleff.workstation.paths import WPath
from kleff.workstation.this_machine import host


@dataclass(frozen=True)
class Wanted:
    """What of a bag is restored: labels, and accounts as they were saved; all if empty."""

    labels: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()

    def takes(self, item: SavedItem) -> bool:
        return (not self.labels or item.label in self.labels) and (not self.accounts or item.account in self.accounts)


def check_wanted(bag: SavedBag, wanted: Wanted, to: dict[str, str], here: Here) -> None:
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
    present = {fold(a.name) for a in here.workstation.accounts.all()}
    for name in to.values():
        if fold(name) not in present:
            raise Refused(f"there is no account {name} on {here.workstation.name}", remedy="name one that is there")


def restorer_of(item: SavedItem) -> Restores:
    """What restores an item.

    Raises:
        Refused: this Kleff cannot.
    """
    kind = able(kind_of(item.object), Restores)
    if kind is None:
        raise Refused(f"this Kleff cannot restore a thing of the kind {item.object!r}", remedy="use the Kleff that made the bag")
    return kind


def plan_restore(restoring: Restoring, wanted: Wanted) -> Plan:
    """Every wanted item resolved into an action. Nothing is changed."""
    actions: list[Action] = []
    for stem, item in restoring.bag.items.items():
        if wanted.takes(item):
            actions += restorer_of(item).plan_restore(item, stem, restoring)
    return numbered(actions, restoring.here.workstation.style)


def check_room(restoring: Restoring, plan: Plan) -> None:
    """Refuse before the first byte if a volume is too small.

    Raises:
        Refused.
    """
    files = restoring.here.workstation.files
    needed: dict[int, int] = {}
    places: dict[int, tuple[str, int]] = {}
    for action in (a for a in plan.actions if a.state == TO_DO):
        path = action.path(files.style)
        if path is None:
            continue
        while files.look(path) is None:
            path = path.parent
        volume, free, _ = files.space(path)
        needed[volume] = needed.get(volume, 0) + action.size
        places[volume] = files.host(path), free
    for volume, amount in needed.items():
        where, free = places[volume]
        if amount > free:
            what = f"{size(amount)} are to be put back, and {size(free)} are free"
            raise Refused(what, where=where, remedy="make room; nothing was changed")


class Agreed(msgspec.Struct, kw_only=True):
    """What the case of a restore keeps besides its plan, so that it can be resumed with the very same bag."""

    own: bool
    to: dict[str, str]
    replace: bool
    manifest: str
    copied: str = ""  # where a copy of the bag is used, until the case has taken it over


def agreed(restoring: Restoring) -> dict[str, str]:
    """For the journal of the case."""
    bag = restoring.bag
    copied = str(bag.folder) if bag.original else ""
    told = Agreed(own=restoring.own, to=restoring.to, replace=restoring.replace, manifest=_manifest(bag), copied=copied)
    return {"task": "restore", "bag_folder": str(bag.original or bag.folder), "giving": dump(told)}


def _manifest(bag: SavedBag) -> str:
    return host().sha256(bag.folder / "manifest-sha256.txt")


def restoring_of(case: Case, here: Here, unlock: Unlock) -> Restoring:
    """What the case of a restore works with, verified again.

    Raises:
        DamagedCase: the bag is not there any more, or the case cannot be read.
        Refused: it is another bag than the one that was agreed on.
    """
    try:
        told = load(case.text("giving"), Agreed)
    except msgspec.MsgspecError as error:
        raise DamagedCase(
            f"what was agreed cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None
    copies = [p for p in (case.folder / carried.NAME, Path(told.copied)) if told.copied and p.is_dir()]
    bag = open_bag(copies[0] if copies else Path(told.copied or case.text("bag_folder")), contents=not told.own, unlock=unlock)
    if _manifest(bag) != told.manifest:
        raise Refused("the bag is another than the one that was agreed on", where=str(bag.folder), remedy=f"kleff undo {case.folder}")
    if not told.own:
        check_harmless(bag)
    return Restoring(here, bag, told.own, told.to, told.replace, changed_since(bag, told.own, here))


def changed_since(bag: SavedBag, own: bool, here: Here) -> Renumbering:
    """Which numbers mean somebody else since a bag of this workstation was made; of one from elsewhere no numbers are taken."""
    if not own:
        return Renumbering()
    with open_case(bag.folder.parent) as case:
        return renumbering(read_beforehand(case).numbers, here.workstation.accounts.numbers())


class Restorer(Runner):
    """Does the agreed plan of a case that restores."""

    def __init__(self, restoring: Restoring, case: Case, progress: Progress, key: BagKey | None = None) -> None:
        super().__init__(restoring.here, case, progress, key)
        self.restoring = restoring

    def run(self) -> Ended:
        """As of any case; a copy that was made of the bag is deleted in the end."""
        ended = super().run()
        carried.drop(self.case.folder)
        return ended

    def _joined(self, pending: list[Row]) -> int:
        return 1

    def _pending(self, row: Row) -> bool:
        return row.state not in (DONE, SKIPPED, ABSENT, KEPT, MANUAL)

    def _do(self, row: Row) -> Outcome:
        item = self.restoring.bag.items[row.action.details_as(FromBag).stem]
        return restorer_of(item).restore(row.action, item, self.restoring, self.work)

    def _verified(self) -> Verification:
        """Every file's hash, key and list again, where they belong now."""
        self.progress.say("     comparing what is in place with the bag")
        findings = list(self._findings())
        return Verification(clean=not findings, looked=len(rows(self.case)), findings=findings)

    def _findings(self) -> Iterator[Finding]:
        for row in rows(self.case):
            action = row.action
            if row.state == MANUAL:
                yield self._left(action, f"{action.target}: {action.reason}")
            if row.state in (DONE, ABSENT) and action.state in (TO_DO, ABSENT):
                stem = action.details_as(FromBag).stem
                item = self.restoring.bag.items[stem]
                for text in restorer_of(item).missing(item, stem, self.restoring, self._placed(action)):
                    yield self._left(action, text)

    def _left(self, action: Action, text: str) -> Finding:
        return Finding(state=LEFT, kind=action.kind, target=text, line=action.line, phase="restore", account=action.account)

    def _placed(self, action: Action) -> list[WPath]:
        files = self.here.workstation.files
        effects = self.case.journal.effects(action.number)
        return [files.from_raw(e.place) for e in effects if isinstance(e.effect, Placed) and e.state == DONE]
