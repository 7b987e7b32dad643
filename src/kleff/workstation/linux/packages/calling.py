"""Running the package manager's own programs: on this machine, or in a tree by the tree's own, so that they know its accounts.

From outside (`dpkg --root`) names of accounts are those of this machine: an owner that is set for a group which only the tree has
(dpkg-statoverride(1)) then stops everything. A tree without a dpkg that runs here is worked on from outside all the same.
"""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages import locks
from kleff.workstation.paths import WPath
from kleff.workstation.posix import running
from kleff.workstation.things import Given

ENVIRONMENT = {
    "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    "LC_ALL": "C.UTF-8",
    "DEBIAN_FRONTEND": "noninteractive",
    "HOME": "/root",
}
PATIENCE = 3600
TRYING = 30  # seconds in which a program says its version
ACTIONS = ("--purge", "--remove", "--unpack", "--configure", "install")
OWN_FOLDER = ("var", "lib", "kleff", "packages")  # in a tree: what its own dpkg is to install must lie in it
LONGEST = 400  # characters of what a program said that stand in a message


class Calling:
    """How the package manager's programs are run. Args: root: the tree, or None for the running system."""

    def __init__(self, root: Path | None, files: FileTree) -> None:
        self.root = root
        self._files = files

    @cached_property
    def inside(self) -> bool:
        """Whether a tree's own dpkg is run."""
        return self.root is not None and _runs(self.root)

    def words(self, program: str, *arguments: str) -> list[str]:
        """A call of one of dpkg's programs."""
        if self.root is None:
            return [program, *arguments]
        return ["chroot", str(self.root), program, *arguments] if self.inside else [program, f"--root={self.root}", *arguments]

    def folder(self, otherwise: Path) -> Path:
        """Where packages are built that are to be installed: where the program that installs them sees them."""
        if not self.inside or self.root is None:
            return otherwise
        made = self._own()
        self.clear_up()
        made.mkdir(mode=0o700, parents=True)
        return made

    def seen(self, file: Path) -> str:
        """A file's path as the program sees it."""
        return f"/{file.relative_to(self.root)}" if self.inside and self.root is not None else str(file)

    def stands(self) -> bool:
        """Whether anything is built in the tree."""
        try:
            return self.root is not None and os.path.lexists(self._own())
        except LinkOnTheWay:
            return False  # nothing is built where others could have it lie elsewhere

    def _own(self) -> Path:
        """Where that lies; a link on the way leads within the tree."""
        return Path(self._files.host(self._files.resolve(WPath(self._files.style, "", OWN_FOLDER)).path))

    def clear_up(self) -> None:
        """Take away what was built in a tree, by a run that was killed too."""
        if self.stands() and _ours(self._own()):
            shutil.rmtree(self._own())

    def quickly(self, words: Sequence[str], said: str = "", patience: float = 120) -> subprocess.CompletedProcess[bytes]:
        """Run a program that ends soon, and tell it something.

        Raises:
            OSError, subprocess.TimeoutExpired.
        """
        data = said.encode("utf-8", "surrogateescape")
        return subprocess.run(words, input=data, env=ENVIRONMENT, capture_output=True, timeout=patience, check=False)

    def to_the_end(self, words: Sequence[str], output: Path) -> None:
        """Run a package manager under the supervisor to its end.

        Raises:
            ActionFailed: it failed; what it said stands in the message.
        """
        locks.wait(self.root)
        program = shutil.which(words[0], path=ENVIRONMENT["PATH"]) or words[0]
        before = output.stat().st_size if output.exists() else 0
        process = running.start([program, *words[1:]], output, ENVIRONMENT, Given(lasting=True))
        if not running.wait(process, PATIENCE):
            raise ActionFailed(f"{words[0]} has not ended after {PATIENCE} s", remedy=f"read {output}")
        if process.code == 0:
            return
        lines = _lines(output, before)
        action = next((a for a in words if a in ACTIONS), "")
        name = "dpkg" if action.startswith("--") else words[0]
        complained = complaint(lines)
        what = f"{name} {action} ended with {process.code}" + (f": {complained}" if complained else "")
        raise ActionFailed(what, remedy=f"read {output}; then  dpkg --audit", said=lines[-20:])


def complaint(lines: Sequence[str]) -> str:
    """What a package manager said went wrong, in one line."""
    found: list[str] = []
    for line in lines:
        again = line.startswith((" ", "\t")) and bool(found)
        if again or line.startswith(("dpkg: error", "dpkg: dependency problems", "dpkg: regarding", "E: ")):
            found.append(line.strip())
        elif found:
            break
    return " ".join(found)[:LONGEST]


def _lines(output: Path, start: int) -> list[str]:
    data = output.read_bytes()
    text = data[start if len(data) >= start else 0 :].decode("utf-8", "replace")
    return [line for line in text.splitlines() if line.strip()]


def _runs(root: Path) -> bool:
    """Whether a tree has a dpkg that works here and that only an administrator can change."""
    program = root / "usr/bin/dpkg"
    try:
        status = program.lstat()
        if not stat.S_ISREG(status.st_mode) or status.st_uid != 0 or status.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            return False
        words = ["chroot", str(root), "dpkg", "--version"]
        return subprocess.run(words, env=ENVIRONMENT, capture_output=True, timeout=TRYING, check=False).returncode == 0
    except (OSError, subprocess.TimeoutExpired):
        return False  # built for another processor, or without what it needs


def _ours(folder: Path) -> bool:
    status = folder.lstat()
    return stat.S_ISDIR(status.st_mode) and status.st_uid == os.geteuid() and not stat.S_IMODE(status.st_mode) & 0o077


def asked(words: Sequence[str], environment: Mapping[str, str] = ENVIRONMENT) -> subprocess.CompletedProcess[bytes]:
    """Run a program that only answers.

    Raises:
        FileNotFoundError, subprocess.TimeoutExpired.
    """
    return subprocess.run(words, capture_output=True, env=environment, timeout=120, check=False)
