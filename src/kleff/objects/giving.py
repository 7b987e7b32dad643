"""Giving back: from what a bag holds to where it belongs on this workstation, for this account."""

from __future__ import annotations

import os
from base64 import b64decode
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from kleff.case.bag.index import SavedItem
from kleff.case.bag.opened import SavedBag
from kleff.objects.base import Action, Outcome, Scene, Work
from kleff.procedure.globs import fold
from kleff.procedure.model import Step
from kleff.workstation.common.files import Owner
from kleff.workstation.facets import Account
from kleff.workstation.paths import WPath

BEFORE = "taken away again, if it is still as it was put there"


class Nowhere(Exception):
    """What was saved belongs nowhere here; says why, and what to do."""


@dataclass
class Giving:
    """What giving back needs.

    Attributes:
        own: the bag was made on this very workstation, and nobody else could have changed it.
        to: account as saved -> account here, where they differ; "" for all.
        replace: set aside what stands there.
    """

    scene: Scene
    bag: SavedBag
    own: bool
    to: dict[str, str] = field(default_factory=dict)
    replace: bool = False

    def account(self, item: SavedItem) -> Account | None:
        """Whose it is here; None if it is nobody's.

        Raises:
            Nowhere: there is no such account here.
        """
        if not item.account:
            return None
        wanted = self.to.get(item.account) or self.to.get("") or item.account
        for account in self.scene.workstation.accounts.all():
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
            folder = self.scene.workstation.accounts.folder(account, item.variable) if account else None
            if folder is None:
                raise Nowhere(f"{{{item.variable}}} of {item.account} is not set here")
            return folder
        folders = self.scene.workstation.variables.folders(item.variable)
        if not folders:
            raise Nowhere(f"{{{item.variable}}} is not set here")
        last = item.base.replace("\\", "/").rpartition("/")[2]
        return next((f for f in folders if fold(f.name) == fold(last)), folders[0])

    def action(self, item: SavedItem, stem: str, verb: str, target: str, **more: Any) -> Action:
        """A new action that gives an item back."""
        return Action(
            phase="restore", step=list(self.bag.items).index(stem), line=item.line, kind=item.object, label=item.label, verb=verb,
            target=target, because=f"saved as {item.label or stem}", saves=item.kind, details={"stem": stem}, **more,
        )  # fmt: skip

    def steps(self, model: type[Step]) -> Iterator[Any]:
        """The technician's own procedure: what it saves of a kind."""
        for step in self.scene.procedure.phase("backup"):
            if isinstance(step.model, model):
                yield step.model


def where_it_stood(member_b64: str, scene: Scene) -> WPath:
    """The place a saved path had, on this workstation's volumes.

    Raises:
        Nowhere: its volume is not here.
    """
    text = os.fsdecode(b64decode(member_b64))
    path = scene.workstation.files.path(text)
    if path is None or any(part in (".", "..", "") for part in path.parts):
        raise Nowhere("its volume is not on this workstation")
    return path


def owner_of(account: Account | None, scene: Scene) -> Owner:
    """(uid, gid) of what is made for an account; None where the system has no numbers, or Kleff may not choose."""
    if not scene.workstation.admin or scene.workstation.style.drives:
        return None
    if account is None or account.uid is None:
        return (0, 0)
    home = scene.workstation.files.look(account.home)
    return (account.uid, home.gid if home is not None and home.uid == account.uid else account.uid)


class Giver(Protocol):
    """Gives one kind of object back."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        """What giving it back means here. Nothing is changed."""

    def do(self, action: Action, item: SavedItem, giving: Giving, work: Work) -> Outcome:
        """Give it back; done twice is done once.

        Raises:
            ActionFailed: naming the thing and the remedy.
        """

    def missing(self, item: SavedItem, stem: str, giving: Giving, placed: Sequence[WPath]) -> list[str]:
        """Looked at again in the end: what of it is not in place and the same.

        Args:
            placed: what this very restore has put in place.
        """
