"""Restoring: from what a bag holds to where it belongs on this workstation, for this account."""

from __future__ import annotations

import os
from base64 import b64decode
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol, TypeVar, runtime_checkable

import msgspec

from kleff.case.renumbering import Renumbering
from kleff.errors import NotTold
from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.procedure.globs import fold
from kleff.procedure.model import Step
from kleff.workstation.files.protocol import Owner
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

if TYPE_CHECKING:  # what only a restore needs is not loaded for a look
    from kleff.case.bag.index import SavedItem
    from kleff.case.bag.opened import SavedBag

BEFORE = "taken away again, if it is still as it was put there"
S = TypeVar("S", bound=Step)


class Nowhere(Exception):
    """What was saved belongs nowhere here; says why, and what to do."""


class FromBag(msgspec.Struct, kw_only=True):
    """The details of an action that restores: the stem of the item's files in the bag."""

    stem: str


@dataclass(frozen=True)
class Restoring:
    """What restoring needs.

    Attributes:
        own: the bag was made on this very workstation, and nobody else could have changed it.
        to: account as saved -> account here, where they differ; "" for all.
        replace: set aside what stands there.
        changed: which numbers of owners mean somebody else since the bag was made here.
    """

    here: Here
    bag: SavedBag
    own: bool
    to: dict[str, str] = field(default_factory=dict)
    replace: bool = False
    changed: Renumbering = field(default_factory=Renumbering)

    def account(self, item: SavedItem) -> Account | None:
        """Whose it is here; None if it is nobody's.

        Raises:
            Nowhere: there is no such account here.
        """
        if not item.account:
            return None
        wanted = self.to.get(item.account) or self.to.get("") or item.account
        for account in self.here.workstation.accounts.all():
            if fold(account.name) == fold(wanted):
                return account
        raise Nowhere(f"there is no account {wanted} here; add  --to-account {item.account}=NAME")

    def base(self, item: SavedItem) -> WPath | None:
        """What the item hangs on here; None if it hung on nothing and stands where it stood.

        Raises:
            Nowhere: the folder is not set here.
        """
        if not item.variable:
            return None
        if item.variable.startswith("user."):
            account = self.account(item)
            try:
                folder = self.here.workstation.accounts.folder(account, item.variable) if account else None
            except NotTold as error:
                raise Nowhere(error.what) from None
            if folder is None:
                raise Nowhere(f"{{{item.variable}}} of {item.account} is not set here")
            return folder
        folders = self.here.workstation.variables.folders(item.variable)
        if not folders:
            raise Nowhere(f"{{{item.variable}}} is not set here")
        last = item.base.replace("\\", "/").rpartition("/")[2]
        return next((f for f in folders if fold(f.name) == fold(last)), folders[0])

    def action(self, item: SavedItem, stem: str, verb: str, target: str, **more: Any) -> Action:
        """A new action that restores an item."""
        action = Action(
            phase="restore", step=list(self.bag.items).index(stem), line=item.line, kind=item.object, label=item.label, verb=verb,
            target=target, because=f"saved as {item.label or stem}", saves=item.kind, **more,
        )  # fmt: skip
        action.set_details(FromBag(stem=stem))
        return action

    def steps(self, model: type[S]) -> Iterator[S]:
        """The technician's own procedure: what it saves of a kind."""
        for step in self.here.procedure.phase("backup"):
            if isinstance(step.model, model):
                yield step.model


@runtime_checkable
class Restores(Protocol):
    """Can restore what was saved of it."""

    def plan_restore(self, item: SavedItem, stem: str, restoring: Restoring) -> Iterator[Action]:
        """What restoring it means here. Nothing is changed."""

    def restore(self, action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
        """Restore it; done twice is done once.

        Raises:
            ActionFailed: naming the thing and the remedy.
        """

    def missing(self, item: SavedItem, stem: str, restoring: Restoring, placed: Sequence[WPath]) -> list[str]:
        """Looked at again in the end: what of it is not in place and the same.

        Args:
            placed: what this very restore has put in place.
        """


class ShownOnly:
    """Restores nothing; what was saved is shown."""

    def plan_restore(self, item: SavedItem, stem: str, restoring: Restoring) -> Iterator[Action]:
        action = restoring.action(item, stem, "shown", item.name or item.label or item.object)
        action.state, action.state_word, action.reason = ABSENT, "shown", "shown only, nothing is put back"
        action.shows = shown_settings(item)
        yield action

    def restore(self, action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
        return Outcome()

    def missing(self, item: SavedItem, stem: str, restoring: Restoring, placed: Sequence[WPath]) -> list[str]:
        return []


def shown_settings(item: SavedItem) -> list[str]:
    """Settings as lines for people; what is private as dots."""
    if item.settings.get("private"):
        return ["\u2022" * 6 + "  (private; it is in the bag)"]
    lines = []
    for name, value in item.settings.items():
        if isinstance(value, list):
            lines += [f"{name}: {_flat(v)}" for v in value[:20]]
        elif name != "private":
            lines.append(f"{name}: {_flat(value)}")
    return lines


def _flat(value: object) -> str:
    return ", ".join(f"{k} {v}" for k, v in value.items()) if isinstance(value, dict) else str(value)


def where_it_stood(member_b64: str, here: Here) -> WPath:
    """The place a saved path had, on this workstation's volumes.

    Raises:
        Nowhere: its volume is not here.
    """
    text = os.fsdecode(b64decode(member_b64))
    path = here.workstation.files.path(text)
    if path is None or any(part in (".", "..", "") for part in path.parts):
        raise Nowhere("its volume is not on this workstation")
    return path


def owner_of(account: Account | None, here: Here) -> Owner:
    """(uid, gid) of what is made for an account; None where the system has no numbers, or Kleff may not choose."""
    numbered = any(a.uid is not None for a in here.workstation.accounts.all())
    if not here.workstation.admin or not numbered:
        return None
    if account is None or account.uid is None:
        return (0, 0)
    home = here.workstation.files.look(account.home)
    return (account.uid, home.gid if home is not None and home.uid == account.uid else account.uid)
