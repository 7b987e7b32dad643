"""Alternatives: names that stand for one of several programs (update-alternatives(1), --query)."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Mapping
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.things import Alternative

PATIENCE = 60
RECORDS = Path("var/lib/dpkg/alternatives")  # update-alternatives(1), --admindir
BEING_WRITTEN = ".dpkg-tmp"
FIELD = re.compile(r"^(\w+): ?(.*(?:\n .*)*)$", re.MULTILINE)


class LinuxAlternatives:
    """Implements `Alternatives`.

    Args:
        root: the tree, or None for the running system.
    """

    def __init__(self, root: Path | None, environment: Mapping[str, str]) -> None:
        self._words = ["update-alternatives", *(["--root", str(root)] if root else [])]
        self._environment = environment
        self._records = (root or Path("/")) / RECORDS

    def _run(self, *words: str) -> str:
        """What it says.

        Raises:
            ActionFailed: it cannot be run, or says no.
        """
        try:
            done = subprocess.run(
                [*self._words, *words], capture_output=True, text=True, errors="surrogateescape", env=self._environment, timeout=PATIENCE,
                check=False,
            )  # fmt: skip
        except (OSError, subprocess.TimeoutExpired) as error:
            raise ActionFailed(f"update-alternatives cannot be run: {error}", remedy="look at it; then resume") from None
        if done.returncode != 0:
            raise ActionFailed(f"update-alternatives {words[0]} says: {done.stderr.strip()}", remedy="look at it; then resume")
        return done.stdout

    def all(self) -> list[Alternative]:
        names = [line.split()[0] for line in self._run("--get-selections").splitlines() if line.split()]
        if untold := sorted(self._recorded() - set(names)):
            raise ActionFailed(f"update-alternatives does not tell what {untold[0]} stands for", remedy=f"look at {self._records}")
        return [one for name in names for one in self._of(name)]

    def _recorded(self) -> set[str]:
        """The names of which there are records: of one that it cannot read it says nothing.

        Raises:
            ActionFailed: they cannot be listed.
        """
        try:
            return {name for name in os.listdir(self._records) if not name.endswith(BEING_WRITTEN)}
        except FileNotFoundError:
            return set()
        except OSError as error:
            raise ActionFailed(f"{self._records} cannot be read: {error.strerror}", remedy="look at it; then run again") from None

    def _of(self, name: str) -> list[Alternative]:
        head, *others = self._run("--query", name).split("\n\n")
        told = dict(FIELD.findall(head))
        links = _pairs(told.get("Slaves", ""))
        found = []
        for paragraph in others:
            one = dict(FIELD.findall(paragraph))
            slaves = [(slave, links[slave], path) for slave, path in _pairs(one.get("Slaves", "")).items() if slave in links]
            path, priority = one.get("Alternative", ""), one.get("Priority", "")
            if path and priority.lstrip("-").isdigit():
                chosen = told.get("Status") == "manual" and told.get("Value") == path
                found.append(Alternative(
                    name=name, link=told.get("Link", ""), path=path, priority=int(priority), slaves=slaves, chosen=chosen,
                ))  # fmt: skip
        return found

    def remove(self, one: Alternative) -> None:
        self._run("--remove", one.name, one.path)

    def put_back(self, one: Alternative) -> None:
        slaves = [word for name, link, path in one.slaves for word in ("--slave", link, name, path)]
        self._run("--install", one.link, one.name, one.path, str(one.priority), *slaves)
        if one.chosen:
            self._run("--set", one.name, one.path)


def _pairs(text: str) -> dict[str, str]:
    """Name and path of each line."""
    found = (line.strip().split(" ", 1) for line in text.splitlines())
    return {words[0]: words[1] for words in found if len(words) == 2}
