"""Putting packages back: built anew where their files are not kept, and installed in dpkg's own order."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.calling import ENVIRONMENT, Calling
from kleff.workstation.linux.packages.policy import Policy
from kleff.workstation.linux.packages.rebuilding.archives import archive_of
from kleff.workstation.linux.packages.rebuilding.dependencies import Present, lacking, provides
from kleff.workstation.linux.packages.rebuilding.installing import Group, installing_order
from kleff.workstation.linux.packages.rebuilding.records import Rebuild
from kleff.workstation.linux.packages.settings import answer_again
from kleff.workstation.package_facet import Ready
from kleff.workstation.things import PackageRecord, Source

UNFINISHED = ("unpacked", "half-configured", "triggers-awaited", "triggers-pending")


class PuttingBack:
    """Args: query: asks the package database; compare: two versions."""

    def __init__(self, calling: Calling, policy: Policy, query: Callable[..., str], compare: Callable[[str, str], int]) -> None:
        self._calling = calling
        self._policy = policy
        self._query = query
        self._compare = compare

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Ready) -> None:
        """See `Packages.put_back`."""
        self._finish_others({r.name for r in records}, output)
        present = self._check_dependencies(records)
        built: dict[str, Path] = {}
        archives: dict[str, str] = {}
        try:
            into = self._calling.folder(folder)
            for number, record in enumerate(records):
                kept = archive_of(self._calling.root, ENVIRONMENT, record)
                file = kept or into / f"{number:03d}.deb"
                archives[record.name] = self._calling.seen(file)
                if kept is None:
                    built[record.name] = file
                    file.unlink(missing_ok=True)  # of a try that was cut off
                    Rebuild(record, source).write(file)
            with self._policy.no_service_starts():
                self._install(installing_order(records, present, self._compare), archives, output, ready)
                left_over = [r.name for r in records if not r.installed]
                if left_over:  # only their configuration was left, and only that shall be
                    self._run(["--remove", "--", *left_over], output)
        finally:
            for file in built.values():
                file.unlink(missing_ok=True)
            self._calling.clear_up()

    def _finish_others(self, names: set[str], output: Path) -> None:
        """A removal that was cut off may have left others half configured, or with triggers that wait (dpkg-query(1), package states)."""
        said = self._query("-W", "-f=${binary:Package}\t${db:Status-Status}\n", empty_ok=True)
        rows = (line.split("\t") for line in said.splitlines())
        waiting = [name for name, state in rows if state in UNFINISHED and name not in names]
        if waiting:
            with self._policy.no_service_starts(), contextlib.suppress(ActionFailed):  # if one is needed, that is told in a moment
                self._run(["--force-confold", "--configure", "--", *waiting], output)

    def _install(self, groups: Sequence[Group], archives: Mapping[str, str], output: Path, ready: Ready) -> None:
        """Unpack and configure in order; what was unpacked and not configured in between is in the end."""
        unpacked: list[PackageRecord] = []
        configured: set[str] = set()
        for number, group in enumerate(groups, 1):
            self._run(["--force-confold", "--unpack", "--", *(archives[r.name] for r in group.unpacked)], output)
            unpacked += group.unpacked
            ready(group.unpacked)
            last = number == len(groups)
            now = [r for r in unpacked if r.name not in configured] if last else group.configured
            if now:
                answer_again(self._calling, now)
                self._run(["--force-confold", "--configure", "--", *(r.name for r in now)], output)
                configured |= {r.name for r in now}

    def _check_dependencies(self, records: Sequence[PackageRecord]) -> Present:
        """Before the first is unpacked: nothing is begun that dpkg cannot finish. Returns what is installed besides.

        Raises:
            ActionFailed: naming what is missing.
        """
        coming = {r.name.partition(":")[0] for r in records}
        form = "${db:Status-Status}\t${Package}\t${Version}\t${Provides}\n"
        present = Present()
        for line in self._query("-W", f"-f={form}", empty_ok=True).splitlines():
            state, name, version, provided = line.split("\t", 3)
            if state == "installed" and name not in coming:
                present.versions[name] = version
                for other, of in provides(provided):
                    present.provided.setdefault(other, set()).add(of)
        missing = lacking([r for r in records if r.installed], present, self._compare)
        if missing:
            told = "; ".join(f"{name} needs {what}" for name, what in missing)
            raise ActionFailed(f"{told}, which is not installed any more; nothing was begun", remedy="install that first, then undo again")
        return present

    def _run(self, arguments: Sequence[str], output: Path) -> None:
        self._calling.to_the_end(self._calling.words("dpkg", *arguments), output)
