"""Alternatives: names that stand for one of several programs (update-alternatives(1), --query)."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Mapping
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.things import Alternative

PATIENCE = 60
FIELD = re.compile(r"^(\w+): ?(.*(?:\n .*)*)$", re.MULTILINE)


class LinuxAlternatives:
    """Implements `Alternatives`.

    Args:
        root: the tree, or None for the running system.
    """

    def __init__(self, root: Path | None, environment: Mapping[str, str]) -> None:
        self._words = ["update-alternatives", *(["--root", str(root)] if root else [])]
        self._environment = environment

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
        return [one for name in names for one in self._of(name)]

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
