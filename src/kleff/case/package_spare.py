"""Packages that can be put back: recorded and spared before the package manager removes them, built anew by undo.

The files come back as they were, whatever the package's own scripts make of them in between: what stood there before the undo is
never touched, what the undo itself had installed gives way to the spare.
"""

from __future__ import annotations

import json
from contextlib import suppress
from pathlib import Path

import msgspec

from kleff.case.exports import read_checked, write_new
from kleff.case.spare import Spare, Standing
from kleff.case.spare_plan import SparePlan
from kleff.errors import ActionFailed, DamagedCase
from kleff.workstation.common.posix import write_atomic
from kleff.workstation.facets import PackageRecord, Service, Workstation


class Recorded(msgspec.Struct, kw_only=True):
    """What is kept of one removal: the packages, and their services as they were (name, running, start)."""

    packages: list[PackageRecord]
    services: list[tuple[str, bool, str]]


class PackageSpare:
    """The packages of one effect.

    Args:
        folder: the case folder.
        number: of the effect.
    """

    def __init__(self, workstation: Workstation, spare: Spare, folder: Path, number: int) -> None:
        self._workstation = workstation
        self._spare = spare
        self._folder = folder
        self._file = folder / "undo" / f"{number:04d}-packages.json"
        self._standing = folder / "undo" / f"{number:04d}-standing.json"
        self._output = folder / "output" / f"{number:04d}-back.txt"

    def take(self, records: list[PackageRecord], plan: SparePlan) -> dict[str, str]:
        """Record the packages and take their spare. Returns what the journal keeps: the hashes of both.

        Raises:
            OSError, ActionFailed: something cannot be linked, copied or read; nothing must be removed then.
        """
        facet = self._workstation.services
        names = sorted({name for record in records for name in record.services}) if facet else []
        services = [(s.name, s.running, s.start) for s in (facet.get(n) for n in names) if s is not None] if facet else []
        self._file.unlink(missing_ok=True)  # of a try that was killed before its intent
        # The standard library's writer: scripts and names may hold bytes that are not text, which it escapes.
        text = json.dumps(msgspec.to_builtins(Recorded(packages=records, services=services)))
        return {"records": write_new(self._file, text.encode("ascii")), "index": self._spare.make(plan)}

    def put_back(self, records: str, index: str) -> list[str]:
        """Install the packages again as they were, and bring back their files and what lay beside them.

        Returns:
            What could not be brought back as it was, for the technician.

        Raises:
            ActionFailed: the package manager failed.
            DamagedCase: what was recorded cannot be read.
        """
        recorded = self._read(records)
        standing = self._stood(index)
        lacking = self._lacking(recorded.packages)
        facet = self._workstation.packages
        if lacking and facet is not None:
            files = {c.path for r in lacking for c in r.config_files}
            invented = facet.put_back(
                lacking, self._spare.source(index), self._folder / "undo", self._output, lambda: self._spare.copy_back(index, files)
            )
            self._take_away(invented)
        stays = self._spare.bring_back(index, standing)
        self._settle_services(recorded)
        self._standing.unlink(missing_ok=True)
        return stays

    def _read(self, sha256: str) -> Recorded:
        try:
            return msgspec.convert(json.loads(read_checked(self._file, sha256)), Recorded)
        except (msgspec.ValidationError, ValueError) as error:
            raise DamagedCase(f"cannot be read: {error}", where=str(self._file), remedy="restore the case folder from a copy") from None

    def _stood(self, index: str) -> Standing:
        """What stood there before the first try of this undo; kept, since an undo that was cut off is called again."""
        if not self._standing.exists():
            write_atomic(self._standing, json.dumps(self._spare.standing(index)).encode("ascii"))
        return {path: (size, mtime) for path, (size, mtime) in json.loads(self._standing.read_bytes()).items()}

    def _lacking(self, records: list[PackageRecord]) -> list[PackageRecord]:
        """Which are not as they were.

        Raises:
            ActionFailed: one has been installed again in another version.
        """
        facet = self._workstation.packages
        if facet is None:
            raise ActionFailed("there is no package manager here any more")
        now = {p.name: p for p in facet.all()}
        for record in records:
            found = now.get(record.name)
            if found is not None and found.state == "installed" and found.version != record.version:
                raise ActionFailed(
                    f"{record.name} {found.version} is installed now, not {record.version}; it is left",
                    remedy="remove it first, then undo again",
                )
        wanted = {True: "installed", False: "config-files"}
        return [r for r in records if r.name not in now or now[r.name].state != wanted[r.installed] or now[r.name].broken]

    def _take_away(self, invented: list[str]) -> None:
        """Stand-ins for files that had been deleted before the packages were removed."""
        files = self._workstation.files
        for text in sorted(invented, reverse=True):
            path = files.path(text)
            if path is not None:
                with suppress(OSError):
                    files.remove_single(files.resolve(path).path)

    def _settle_services(self, recorded: Recorded) -> None:
        facet = self._workstation.services
        for name, running, start in recorded.services if facet else []:
            assert facet is not None
            facet.restore(Service(name, running, start))
