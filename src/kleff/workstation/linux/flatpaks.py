"""Flatpaks of a Linux workstation (flatpak(1)), each account's asked and changed with that account's own rights.

One that was removed comes back from its bundle (flatpak-build-bundle(1)). To install a bundle as such would give it a source of its own,
from which no update comes: so its objects are imported, noted under the name of the source it had, and deployed without network.
"""

from __future__ import annotations

import os
import re
import shutil
import stat
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from kleff.errors import ActionFailed
from kleff.procedure.globs import POSIX
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.flatpak_facet import Flatpak
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

OF_ALL = ("var", "lib", "flatpak")
OF_ACCOUNT = (".local", "share", "flatpak")
CONFIGURED = ("etc", "flatpak")
PARTS = ("repo", "app", "runtime", "exports")
NOBODY = 65534
PATIENCE = 3600  # seconds: a bundle of some gigabytes is packed at a few megabytes a second
UNITS = {"byte": 1, "bytes": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9}
COLUMNS = "ref,runtime,version,size,origin"  # the last is never empty: an empty last one is left out with its tab
REMEDY = "look at it; then resume"


def open_flatpaks(files: FileTree) -> LinuxFlatpaks:
    """Where there is an installation and no program that can be asked, who asks is told so."""
    return LinuxFlatpaks(files)


class LinuxFlatpaks:
    """Implements `Flatpaks`, of a tree too that is not running."""

    def __init__(self, files: FileTree) -> None:
        self._files = files

    def of_all(self) -> list[Flatpak]:
        return self._listed(None)

    def of_account(self, account: Account) -> list[Flatpak]:
        """Nothing where it is not to be asked: with another account's rights than an administrator's."""
        return self._listed(account) if os.geteuid() in (0, account.uid) else []

    def settings(self, account: Account | None) -> list[WPath]:
        """What flatpak-override(1) writes, a file for each; `global` is for all of them."""
        folder = self._place(account).child("overrides")
        look = self._files.look(folder)
        if look is None or not look.is_folder:
            return []
        return [folder.child(name) for name in self._files.names(folder) if name != "global"]

    def _listed(self, account: Account | None) -> list[Flatpak]:
        if not self._is_there(account):
            return []
        pinned = self._pins(account)
        return [
            self._one(line.split("\t"), what, account, pinned)
            for what in ("app", "runtime")
            for line in self._flatpak(account, "list", f"--{what}", f"--columns={COLUMNS}").splitlines()
            if line.count("\t") == COLUMNS.count(",")
        ]

    def _one(self, row: list[str], what: str, account: Account | None, pinned: set[str]) -> Flatpak:
        ref, runs_on, version, size, origin = row
        ref = f"{what}/{ref}"
        return Flatpak(
            ref=ref, origin=origin, version=version, size=_bytes(size), runs_on=f"runtime/{runs_on}" if runs_on and what == "app" else "",
            account=account.name if account else "", pinned=ref in pinned,
        )  # fmt: skip

    def save(self, one: Flatpak, account: Account | None, file: Path) -> Flatpak:
        what, name, processor, branch = one.ref.split("/")
        commit = self._commit(one, account)
        noted = [path for remote in self._remotes(account) if os.path.lexists(path := self._noted(one, remote, account))]
        if not noted:
            raise ActionFailed(
                f"{one.ref} came from no source that is known here, so it could not be installed again", remedy="uninstall it by hand"
            )
        if set(self._run(account, "cat", *noted).split()) != {commit}:
            raise ActionFailed(f"{one.ref}: another build than the installed one lies ready", remedy="update it first; then resume")
        with self._handed(account) as lies:
            kind = ["--runtime"] if what == "runtime" else []
            repo = str(self._installation(account) / "repo")
            self._flatpak(account, "build-bundle", *kind, f"--arch={processor}", repo, str(lies), name, branch, bare=True)
            _copy(lies, file, self._user(account), os.geteuid())
        return msgspec.structs.replace(one, commit=commit)

    def remove(self, one: Flatpak, account: Account | None, output: Path) -> None:
        said = self._flatpak(account, "uninstall", "--noninteractive", "-y", "--no-related", one.ref)
        output.write_text(said, "utf-8", "surrogateescape")
        what, _, below = one.ref.partition("/")
        for place in (f"heads/deploy/{what}", f"remotes/{one.origin}/{what}"):
            self._without_empty(account, f"repo/refs/{place}", below)

    def _without_empty(self, account: Account | None, place: str, ref: str) -> None:
        """Without the folders that bear its name and hold nothing more."""
        folder, parents = self._installation(account) / place, ref.rpartition("/")[0]
        if os.path.lexists(folder / parents):
            self._run(account, "env", "-C", str(folder), "rmdir", "-p", "--ignore-fail-on-non-empty", parents)

    def put_back(self, one: Flatpak, account: Account | None, file: Path) -> None:
        there = next((o for o in self._listed(account) if o.ref == one.ref), None)
        if there is None:
            self._install(one, account, file)
        if (commit := self._commit(one, account)) != one.commit:
            raise ActionFailed(
                f"{one.ref}: another build ({commit[:12]}) is installed now; it is left", remedy="uninstall it first, then undo again"
            )
        if not one.pinned and one.ref in self._pins(account):
            self._flatpak(account, "pin", "--remove", one.ref)
        self._run(account, "rm", "-f", str(self._installation(account) / "repo/refs/heads" / one.ref))
        self._without_empty(account, "repo/refs/heads", one.ref)

    def _install(self, one: Flatpak, account: Account | None, file: Path) -> None:
        if one.origin not in self._remotes(account):
            raise ActionFailed(
                f"the source {one.origin}, which {one.ref} came from, is not known here any more",
                remedy="add it again (flatpak remote-add), then undo again",
            )
        repo = self._installation(account) / "repo"
        with self._handed(account) as lies:
            _copy(file, lies, os.geteuid(), self._user(account))
            self._flatpak(account, "build-import-bundle", "--no-update-summary", str(repo), str(lies), bare=True)
        noted = repo / "refs/heads" / one.ref
        self._run(account, "install", "-D", "-m", "0644", str(noted), self._noted(one, one.origin, account))
        alone = ("--no-pull", "--no-deps", "--no-related")
        self._flatpak(account, "install", "--noninteractive", "-y", *alone, one.origin, one.ref)

    def _commit(self, one: Flatpak, account: Account | None) -> str:
        return self._flatpak(account, "info", "--show-commit", one.ref).strip()

    def _pins(self, account: Account | None) -> set[str]:
        return {line.strip() for line in self._flatpak(account, "pin").splitlines() if line.strip().startswith("runtime/")}

    def _remotes(self, account: Account | None) -> list[str]:
        return self._flatpak(account, "remotes", "--show-disabled", "--columns=name").split()

    def _noted(self, one: Flatpak, remote: str, account: Account | None) -> str:
        """Where the installed build is noted as a source's."""
        return str(self._installation(account) / "repo/refs/remotes" / remote / one.ref)

    def _is_there(self, account: Account | None) -> bool:
        """Whether there is an installation.

        Raises:
            ActionFailed: a link leads out of it, through which another's would be changed.
        """
        place = self._place(account)
        for part in PARTS:
            look = self._files.look(place.child(part))
            if look is not None and look.is_link:
                raise ActionFailed(
                    f"{place.child(part)} is a link; what lies behind it is not touched", remedy="look at it; then run again"
                )
        look = self._files.look(place.child("repo"))
        return look is not None and look.is_folder

    def _place(self, account: Account | None) -> WPath:
        """The folder of an installation; a link on the way to it leads within the tree."""
        place = account.home.child(*OF_ACCOUNT) if account else WPath(POSIX, "", OF_ALL)
        return self._files.resolve(place).path

    def _installation(self, account: Account | None) -> Path:
        return Path(self._files.host(self._place(account)))

    @contextmanager
    def _handed(self, account: Account | None) -> Iterator[Path]:
        """Where the account itself can write and read a bundle; gone afterwards."""
        folder = tempfile.mkdtemp(prefix="kleff-", dir="/var/tmp")
        try:
            os.chown(folder, self._user(account), -1)
            yield Path(folder) / "bundle.flatpak"
        finally:
            shutil.rmtree(folder, ignore_errors=True)  # by descriptors: it is the account's own by now

    def _user(self, account: Account | None) -> int:
        return account.uid if account is not None and account.uid is not None and os.geteuid() == 0 else os.geteuid()

    def _group(self, account: Account) -> int:
        """The account's own group (passwd(5)), or none that anybody has."""
        passwd = self._files.path("/etc/passwd")
        lines = self._files.read(passwd, 1 << 24).decode("utf-8", "replace").splitlines() if passwd else []
        fields = next((f for line in lines if len(f := line.split(":")) > 3 and f[0] == account.name), [])
        return int(fields[3]) if fields and fields[3].isdigit() else NOBODY

    def _flatpak(self, account: Account | None, command: str, *words: str, bare: bool = False) -> str:
        """Args: bare: the command works on a repository, whosever it is."""
        return self._run(account, "flatpak", command, *([] if bare else ["--user" if account else "--system"]), *words)

    def _run(self, account: Account | None, *argv: str) -> str:
        """What a program says, run for an account as that account.

        Raises:
            ActionFailed: it cannot be run, or failed.
        """
        as_it = account is not None and os.geteuid() == 0
        whose: dict[str, Any] = {"user": account.uid, "group": self._group(account), "extra_groups": []} if as_it and account else {}
        try:
            done = subprocess.run(
                argv, capture_output=True, text=True, errors="surrogateescape", env=self._environment(account), cwd="/", check=False,
                stdin=subprocess.DEVNULL, timeout=PATIENCE, **whose,
            )  # fmt: skip
        except (OSError, subprocess.TimeoutExpired) as error:
            raise ActionFailed(f"{argv[0]} cannot be run: {error}", remedy=REMEDY) from None
        if done.returncode != 0:
            said = [line for line in done.stderr.splitlines() if line and "CRITICAL" not in line] or ["it failed"]
            raise ActionFailed(f"{' '.join(argv[:2])} says: {said[-1]}", remedy=REMEDY)
        return str(done.stdout)

    def _environment(self, account: Account | None) -> dict[str, str]:
        """Of a tree its own settings too: what is set for everybody names sources, which are added by themselves."""
        common = {**ENVIRONMENT, "GIO_USE_VFS": "local", "FLATPAK_CONFIG_DIR": self._real(WPath(POSIX, "", CONFIGURED))}
        installation = str(self._installation(account))
        if account is not None:
            return {**common, "HOME": self._real(account.home), "FLATPAK_USER_DIR": installation}
        nobody_s = {"HOME": "/nonexistent", "FLATPAK_USER_DIR": "/nonexistent/flatpak"}  # the administrator's own is neither asked nor made
        return {**common, **nobody_s, "FLATPAK_SYSTEM_DIR": installation}

    def _real(self, path: WPath) -> str:
        return str(self._files.host(self._files.resolve(path).path))


def _copy(source: Path, target: Path, owner: int, whose: int) -> None:
    """A new file, given away by its descriptor; of a source that somebody else could have put there only what is his, since it is handed
    to him again.

    Args:
        owner: of the source; whose: the new file's.
    """
    reading = os.open(source, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    with open(reading, "rb") as data, target.open("xb") as made:
        status = os.fstat(reading)
        if not stat.S_ISREG(status.st_mode) or status.st_uid != owner or status.st_nlink != 1:
            raise ActionFailed(f"{source} is not what was made", remedy=REMEDY)
        shutil.copyfileobj(data, made, 1 << 20)
        made.flush()
        os.fchown(made.fileno(), whose, -1)
        os.fsync(made.fileno())


def _bytes(text: str) -> int:
    """Of what flatpak shows: a number, a hard space, a unit."""
    found = re.match(r"([\d.]+)\s+(\w+)", text.replace(",", "."))
    return round(float(found[1]) * UNITS.get(found[2], 1)) if found else 0
