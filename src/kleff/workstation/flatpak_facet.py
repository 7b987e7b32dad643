"""The facet of flatpaks: applications and runtimes that are installed each with all they need."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

import msgspec

from kleff.workstation.paths import WPath
from kleff.workstation.things import Account


class Flatpak(msgspec.Struct, kw_only=True, frozen=True):
    """An application or a runtime that is installed.

    Attributes:
        ref: its full name: `app` or `runtime`, name, processor, branch.
        origin: the source it came from; size: bytes; runs_on: the runtime's ref; commit: which build, once it was asked.
        account: whose it is; "" if it is everybody's.
        pinned: a runtime that somebody wants even if no application needs it.
    """

    ref: str
    origin: str
    version: str = ""
    size: int = 0
    runs_on: str = ""
    account: str = ""
    commit: str = ""
    pinned: bool = False

    @property
    def name(self) -> str:
        return self.ref.split("/")[1]

    @property
    def is_application(self) -> bool:
        return self.ref.startswith("app/")

    def extends(self, other: Flatpak) -> bool:
        """Whether it is a part of another that is installed for itself, such as its translations."""
        return not self.is_application and self.account == other.account and self.name.startswith(other.name + ".")


class Flatpaks(Protocol):
    def of_all(self) -> list[Flatpak]:
        """What is installed for everybody."""

    def of_account(self, account: Account) -> list[Flatpak]:
        """What an account has installed for itself."""

    def settings(self, account: Account | None) -> list[WPath]:
        """Where settings of single applications are kept, by their names; of an account, or for everybody."""

    def save(self, one: Flatpak, account: Account | None, file: Path) -> Flatpak:
        """Write it into one file, from which it can be installed again without network; returned with its commit.

        Raises:
            ActionFailed: it cannot be saved.
        """

    def remove(self, one: Flatpak, account: Account | None, output: Path) -> None:
        """Uninstall it alone.

        Raises:
            ActionFailed: it cannot be removed; what was said is in the file.
        """

    def put_back(self, one: Flatpak, account: Account | None, file: Path) -> None:
        """Install it again from its file, the very build and from the same source. Done twice is done once.

        Raises:
            ActionFailed: another build is installed now, or its source is not known any more.
        """


def named(accounts: Sequence[Account], name: str) -> Account | None:
    """The account whose installation is meant; None for everybody's."""
    return next((a for a in accounts if a.name == name), None) if name else None
