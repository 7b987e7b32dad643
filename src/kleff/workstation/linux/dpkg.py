"""Packages by real dpkg, on the running system or on a tree with `--root`."""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path

from kleff.errors import ActionFailed, KleffError
from kleff.workstation.common.files import FileTree
from kleff.workstation.facets import Package
from kleff.workstation.paths import WPath

ENVIRONMENT = {
    "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
    "LC_ALL": "C.UTF-8",
    "DEBIAN_FRONTEND": "noninteractive",
    "HOME": "/root",
}
FIELDS = ("binary:Package", "Version", "db:Status-Abbrev", "Essential", "Protected", "Installed-Size", "binary:Summary", "Conffiles")
PATIENCE = 3600
# invoke-rc.d asks this file before it touches a service (Debian policy 9.3.3.1); 101: do nothing.
POLICY = "#!/bin/sh\n# placed by kleff for the time of one removal\nexit 101\n"
# Folders that are links into /usr on a merged system; dpkg may know a file by either name.
MERGED = ("bin", "sbin", "lib", "lib32", "lib64")


class Dpkg:
    """The package database.

    Args:
        files: the workstation's files.
        root: the tree, or None for the running system.
    """

    def __init__(self, files: FileTree, root: Path | None) -> None:
        self._files = files
        self._root = root
        self._options = [f"--root={root}"] if root else []

    def all(self) -> list[Package]:
        """Every package that is installed or has left its configuration.

        Raises:
            KleffError: dpkg-query is not there or fails.
        """
        form = "\\t".join(f"${{{f}}}" for f in FIELDS) + "\\n\x1e"
        text = self._query("-W", f"-f={form}", empty_ok=True)
        return [p for p in map(self._package, text.split("\x1e")) if p is not None]

    def _package(self, record: str) -> Package | None:
        if not record.strip():
            return None
        name, version, status, essential, protected, kilobytes, title, conffiles = record.split("\t", 7)
        state = status[1:2]
        if state == "n":
            return None
        return Package(
            name=name,
            version=version,
            state="config-files" if state == "c" else "installed",
            essential="yes" in (essential, protected),
            config_files=tuple(line.split()[0] for line in conffiles.splitlines() if line.startswith(" /")),
            title=title,
            installed_size=int(kilobytes or 0) * 1024,
        )

    def _query(self, *arguments: str, empty_ok: bool = False) -> str:
        try:
            done = subprocess.run(
                ["dpkg-query", *self._options, *arguments], capture_output=True, env=ENVIRONMENT, timeout=120, check=False
            )
        except FileNotFoundError:
            raise KleffError("dpkg-query is not installed", remedy="package steps need dpkg on this machine") from None
        text = done.stdout.decode("utf-8", "surrogateescape")
        if done.returncode not in ((0, 1) if empty_ok else (0,)):
            raise KleffError(
                f"dpkg-query failed: {done.stderr.decode(errors='replace').strip()}", remedy="check the package database with  dpkg --audit"
            )
        return text

    def owners(self, paths: Sequence[WPath]) -> dict[str, list[str]]:
        patterns: dict[str, None] = {}
        for path in paths:
            for text in self._spellings(str(path)):
                escaped = re.sub(r"([\\*?\[\]])", r"\\\1", text)
                patterns[escaped] = patterns[escaped + "/*"] = None
        found: dict[str, list[str]] = {}
        listed = list(patterns)
        for start in range(0, len(listed), 500):
            for line in self._query("-S", "--", *listed[start : start + 500], empty_ok=True).splitlines():
                names, colon, owned = line.partition(": /")
                if colon and not names.startswith(("diversion by", "local diversion")):
                    path = self._files.resolve(WPath(self._files.style, "", tuple(p for p in owned.split("/") if p))).path
                    found.setdefault(str(path), []).extend(n.strip() for n in names.split(","))
        return found

    def _spellings(self, text: str) -> list[str]:
        for name in MERGED:
            if text == f"/usr/{name}" or text.startswith(f"/usr/{name}/"):
                return [text, text[4:]]
        return [text]

    def objection(self, names: Sequence[str], purge: bool) -> str | None:
        action = "--purge" if purge else "--remove"
        done = subprocess.run(
            ["dpkg", *self._options, "--no-act", action, "--", *names], capture_output=True, env=ENVIRONMENT, timeout=120, check=False
        )
        if done.returncode == 0:
            return None
        return " ".join(done.stderr.decode("utf-8", "replace").split()) or f"dpkg ended with {done.returncode}"

    def remove(self, names: Sequence[str], purge: bool, output: Path) -> None:
        action = "--purge" if purge else "--remove"
        with self._no_service_starts(), output.open("ab") as log:
            try:
                done = subprocess.run(
                    ["dpkg", *self._options, action, "--", *names],
                    stdin=subprocess.DEVNULL, stdout=log, stderr=log, env=ENVIRONMENT,
                    timeout=PATIENCE, check=False, start_new_session=True,
                )  # fmt: skip
            except subprocess.TimeoutExpired:
                raise ActionFailed(f"dpkg has not ended after {PATIENCE} s", remedy=f"read {output}") from None
        if done.returncode != 0:
            last = output.read_text("utf-8", "replace").strip().splitlines()[-1:] or [""]
            raise ActionFailed(f"dpkg {action} ended with {done.returncode}: {last[0]}", remedy=f"read {output}; then  dpkg --audit")

    @contextlib.contextmanager
    def _no_service_starts(self) -> Iterator[None]:
        """In a tree that is not running, keep maintainer scripts from starting or stopping services of this machine."""
        if self._root is None:
            yield
            return
        self.clear_policy()
        path = WPath(self._files.style, "", ("usr", "sbin"))
        placed = False
        with contextlib.suppress(FileNotFoundError), self._files.folder(path) as fd, contextlib.suppress(FileExistsError):
            file = os.open("policy-rc.d", os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o755, dir_fd=fd)
            with os.fdopen(file, "w", encoding="ascii") as policy:
                os.fchmod(policy.fileno(), 0o755)
                policy.write(POLICY)
            placed = True
        try:
            yield
        finally:
            if placed:
                self.clear_policy()

    def clear_policy(self) -> None:
        """Take away our own policy file; one that a killed run left too."""
        path = WPath(self._files.style, "", ("usr", "sbin", "policy-rc.d"))
        with contextlib.suppress(OSError):
            if self._files.read(path) == POLICY.encode():
                folder = self._files.look(path.parent)
                with self._files.parent(path) as (fd, name):
                    os.unlink(name, dir_fd=fd)
                    if folder is not None:  # nothing was changed here, and nothing shall seem so
                        os.utime(fd, ns=folder.times)

    def compare(self, a: str, b: str) -> int:
        for relation, result in (("lt", -1), ("eq", 0)):
            if subprocess.run(["dpkg", "--compare-versions", a, relation, b], env=ENVIRONMENT, timeout=30, check=False).returncode == 0:
                return result
        return 1
