"""What a workstation's system has to tell of itself and can be asked for: its installer, its power, its restarts."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from typing import Protocol

from kleff.registry.regfile import RegKey
from kleff.workstation.things import InstallerPackage, InstallerProduct, Power

AFAR = "you work on it from afar: if it stops at a prompt, somebody has to go there"


class Registrations(Protocol):
    """The services a system's manager has registered, which it alone takes out and makes."""

    def delete(self, name: str) -> bool:
        """Done twice is done once. False if it goes only once nothing has it open any more, or at the restart.

        Raises:
            OSError: the manager says no.
        """

    def make(self, name: str, settings: RegKey) -> None:
        """The inverse; done twice, or again after it was cut off, is done once. Args: settings: its key, as it was.

        Raises:
            OSError: the manager says no, or another of that name is there.
        """


class Installs(Protocol):
    """The system's own installer of packages."""

    def products(self) -> list[InstallerProduct]:
        """What it has installed, of every account."""

    def packages(self) -> list[InstallerPackage]:
        """The packages in its cache, as far as they can be read."""


class LocalAccounts(Protocol):
    """The accounts that a workstation keeps itself, those of services too."""

    def has(self, name: str) -> bool:
        """Whether there is one."""

    def delete(self, name: str) -> None:
        """For good; done twice is done once.

        Raises:
            OSError: the system says no.
        """


class AfterRestart(Protocol):
    """What the workstation does by itself once it was restarted."""

    def arrange(self, title: str, words: Sequence[str]) -> None:
        """Start a program, once, as the administrator."""

    def cancel(self) -> None:
        """Forget it; done twice is done once."""


class Boots(Protocol):
    """Starting the workstation anew, and keeping it awake until then."""

    def restart(self) -> None:
        """Now.

        Raises:
            ActionFailed: the system says no.
        """

    def prompts(self) -> list[str]:
        """Why it may stop and ask something before it has started again, as far as the system tells."""

    def awake(self) -> AbstractContextManager[None]:
        """It does not fall asleep meanwhile."""


class Renames(Protocol):
    """What the system renames itself at the next restart, before any program runs."""

    def all(self) -> list[tuple[str, str]]:
        """(path, new path, or "" where it is deleted) in their order."""

    def has(self, place: str, to: str) -> bool:
        """Whether a rename stands in it."""

    def append(self, place: str, to: str) -> None:
        """Have something renamed; done twice is done once.

        Raises:
            OSError: the system says no.
        """

    def remove(self, place: str, to: str) -> None:
        """The inverse; nothing else is taken out.

        Raises:
            OSError: the system says no.
        """


class Readiness(Protocol):
    """What the workstation is busy with."""

    def power(self) -> Power: ...

    def restart_pending(self) -> list[str]:
        """Why a restart is pending; empty if none is."""

    def at_work(self) -> list[str]:
        """Installers and package managers that are at work."""

    def signed_in(self) -> list[str]:
        """Who else is signed in."""

    def version(self) -> str:
        """The system's version, or ""."""

    def sync_roots(self) -> list[tuple[str, str]]:
        """Folders that a sync program keeps in step with an account elsewhere, as far as the system shows it: (path, who)."""
