"""Packages that can be put back: recorded and spared before the package manager removes them, built anew by undo.

The files come back as they were, whatever the package's own scripts make of them in between: what stood there before the undo is
never touched, what the undo itself had installed gives way to the spare.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from kleff.case.aside.around import Marks, is_later
from kleff.case.aside.spare import Spare
from kleff.case.aside.spare_index import Made, read_taken
from kleff.case.aside.spare_plan import SparePlan
from kleff.case.record.exports import read_checked, write_new
from kleff.errors import ActionFailed, DamagedCase, KleffError
from kleff.workstation.facets import Workstation
from kleff.workstation.identity import packed
from kleff.workstation.package_facet import Packages
from kleff.workstation.things import PackageRecord, Service, Source
from kleff.workstation.this_machine import host


class PackageRecords(msgspec.Struct, kw_only=True):
    """What is kept of one removal: the packages, their services as they were (name, running, start), and all that ran on the workstation:
    a script may stop what belongs to a package that stays.
    """

    packages: list[PackageRecord]
    services: list[tuple[str, bool, str]]
    running: list[str] = []


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
        self._number = number
        self._file = folder / "undo" / f"{number:04d}-packages.json"
        self._standing = folder / "undo" / f"{number:04d}-standing.json"
        self._made = folder / "undo" / f"{number:04d}-made.json"
        self._begun = folder / "undo" / f"{number:04d}-begun.json"
        self._stopped = folder / "undo" / f"{number:04d}-stopped.json"
        self._foreign = folder / "undo" / f"{number:04d}-foreign.json"
        self._removing = folder / "output" / f"{number:04d}.txt"
        self._output = folder / "output" / f"{number:04d}-back.txt"

    def take(self, records: list[PackageRecord], plan: SparePlan) -> dict[str, str]:
        """Record the packages and take their spare. Returns what the journal keeps: the hashes of both.

        Raises:
            OSError, ActionFailed: something cannot be linked, copied or read; nothing must be removed then.
        """
        facet = self._workstation.services
        patterns = sorted({pattern for record in records for pattern in record.service_patterns})
        services = [(s.name, s.running, s.start) for pattern in patterns for s in facet.like(pattern)] if facet else []
        self._file.unlink(missing_ok=True)  # of a try that was killed before its intent
        # The standard library's writer: scripts and names may hold bytes that are not text, which it escapes.
        text = json.dumps(
            msgspec.to_builtins(PackageRecords(packages=records, services=services, running=facet.running() if facet else []))
        )
        return {"records": write_new(self._file, text.encode("ascii")), "index": self._spare.make(plan)}

    def put_back(self, records: str, index: str, instead: Mapping[str, str]) -> list[str]:
        """Install the packages again as they were, and bring back their files and what lay beside them.

        Args:
            instead: the versions that were put in their place, by name.

        Returns:
            What could not be brought back as it was, for the technician.

        Raises:
            ActionFailed: the package manager failed.
            DamagedCase: what was recorded cannot be read.
        """
        facet = self._workstation.packages
        if facet is None:
            raise ActionFailed("there is no package manager here any more")
        facet.wait()
        recorded, source = self._read(records), self._spare.source(index)
        around, begun = self._spare.index(index).around, self._as_begun(index, facet)
        taken, acted = read_taken(self._folder, self._number), facet.last_acted(self._removing)
        stopped = self._stopped_by_it(recorded)
        facet.clear_stand_ins(recorded.packages, source)  # of a try that was cut off
        lacking = self._lacking(recorded.packages, facet, instead)
        if lacking or self._standing.exists():
            self._install(lacking, source, index, facet)
            facet.clear_stand_ins(recorded.packages, source)
        facet.make_way(recorded.packages)  # before what gave way is missed at its place
        stays = self._spare.bring_back(index, self._load(self._made), taken)
        stays += facet.settle(recorded.packages)
        stays += self._spare.around.give_back(around, taken, begun, acted, set(self._by_name(facet)))
        self._spare.check_failed()  # what this try has made and found is kept for the next
        stays += self._settle_services(recorded, stopped)
        self._made.unlink(missing_ok=True)
        self._begun.unlink(missing_ok=True)
        return stays

    @property
    def not_back(self) -> str:
        """As `Spare.not_back`."""
        return self._spare.not_back

    def _install(self, lacking: list[PackageRecord], source: Source, index: str, facet: Packages) -> None:
        """Have the packages installed, and note what that made, whether it went well or not. Killed in between, the next try
        begins with what stood there at first.
        """
        if not self._standing.exists():
            ours = self._load(self._made)  # by a try that failed
            self._keep(self._standing, {path: state for path, state in self._spare.standing(index).items() if ours.get(path) != state})
        before = self._load(self._standing)
        try:
            if lacking:
                self._nothing_in_the_way(lacking, source, index, before, facet)
                facet.put_back(
                    lacking,
                    source,
                    self._folder / "undo",
                    self._output,
                    lambda unpacked: self._spare.copy_back(index, {c.path for r in unpacked for c in r.config_files}),
                )
        except (KleffError, OSError) as error:
            self._note(index, before)
            if isinstance(error, ActionFailed) and (half := self._half_done(lacking, facet)):
                raise ActionFailed(f"{error.what}; half done: {half}", remedy=error.remedy, said=error.said) from None
            raise
        self._note(index, before)

    def _half_done(self, lacking: list[PackageRecord], facet: Packages) -> str:
        now = {p.name: p for p in facet.all()}
        return ", ".join(record.name for record in lacking if record.name in now and now[record.name].broken)

    def _by_name(self, facet: Packages) -> Iterator[str]:
        """The files whose entries are given back by their names, as `SparedItem.path`."""
        files = self._workstation.files
        for text in facet.around().by_name:
            path = files.path(text)
            if path is not None:
                yield packed(files.resolve(path).path)

    def _as_begun(self, index: str, facet: Packages) -> Marks:
        """What around the packages was not as before when this undo began, noted by the first try, as each changes some itself. What is
        newer than the last act of the try before was changed by somebody else in between, and counts as it is now.
        """
        changed = self._spare.around.changed(self._spare.index(index).around)
        if self._begun.exists():
            acted = facet.last_acted(self._output)
            since = {path: mark for path, mark in changed.items() if is_later(mark, acted)}
            changed = {**json.loads(self._begun.read_bytes()), **since}
        host().write_atomic(self._begun, json.dumps(changed).encode("ascii"))
        return changed

    def _note(self, index: str, before: Made) -> None:
        self._keep(self._made, self._spare.made(index, before))
        self._standing.unlink()

    def _nothing_in_the_way(self, lacking: list[PackageRecord], source: Source, index: str, before: Made, facet: Packages) -> None:
        """The package manager replaces what stands at a package's paths; what has appeared there since must not be lost.

        Raises:
            ActionFailed: naming it.
        """
        files = self._workstation.files
        config = {c.path for r in lacking for c in r.config_files}  # the package manager leaves these
        paths = [lies for r in lacking for path, lies in r.paths if path not in config]
        in_the_way = self._spare.foreign(index, before) & set(paths)
        for text in (text for text in paths if source(text) is None):
            path = files.path(text)
            look = files.look(files.resolve(path).path) if path else None
            in_the_way |= {text} if look is not None and not look.is_folder else set()
        in_the_way -= self._of_packages(in_the_way, {r.name for r in lacking}, facet)
        in_the_way -= {path for r in lacking for path, lies in r.diverted if self._free(lies)}  # what is another's makes way by itself
        if in_the_way:
            raise ActionFailed(
                f"{min(in_the_way)} has appeared or changed since; the packages are not installed over it",
                remedy="move it elsewhere, then undo again",
            )

    def _of_packages(self, texts: set[str], names: set[str], facet: Packages) -> set[str]:
        """Which of some paths belong to these packages alone: of another version, which gives way."""
        files = self._workstation.files
        paths = [path for text in texts if (path := files.path(text))]
        owners = facet.owners(paths, below=False) if paths else {}
        return {text for text in texts if (own := owners.get(text)) and set(own) <= names}

    def _free(self, text: str) -> bool:
        path = self._workstation.files.path(text)
        return path is not None and self._workstation.files.look(self._workstation.files.resolve(path).path) is None

    def _keep(self, file: Path, state: Made) -> None:
        host().write_atomic(file, json.dumps(state).encode("ascii"))

    def _load(self, file: Path) -> Made:
        if not file.exists():
            return {}
        return {path: (inode, size, mtime) for path, (inode, size, mtime) in json.loads(file.read_bytes()).items()}

    def _read(self, sha256: str) -> PackageRecords:
        try:
            return msgspec.convert(json.loads(read_checked(self._file, sha256)), PackageRecords)
        except (msgspec.ValidationError, ValueError) as error:
            raise DamagedCase(f"cannot be read: {error}", where=str(self._file), remedy="restore the case folder from a copy") from None

    def _lacking(self, records: list[PackageRecord], facet: Packages, instead: Mapping[str, str]) -> list[PackageRecord]:
        """Which are not as they were.

        Raises:
            ActionFailed: one has been installed again in another version.
        """
        now = {p.name: p for p in facet.all()}
        for record in records:
            found = now.get(record.name)
            if found is not None and found.state == "installed" and found.version not in (record.version, instead.get(record.name)):
                raise ActionFailed(
                    f"{record.name} {found.version} is installed now, not {record.version}; it is left",
                    remedy="remove it first, then undo again",
                )
        wanted = {True: "installed", False: "config-files"}
        there = {r.name: (p.state, p.version, p.broken) for r in records if (p := now.get(r.name))}
        return [r for r in records if there.get(r.name) != (wanted[r.installed], r.version, False)]

    def note_foreign(self, index: str, output: Path) -> None:
        """Before another try of a removal that was cut off, or once it is found to have ended: what around it was changed by somebody else
        since. That is not taken for the removal's doing.

        Args:
            output: of the last try.
        """
        facet = self._workstation.packages
        acted = facet.last_acted(output) if facet is not None else 0
        changed = self._spare.around.changed(self._spare.index(index).around)
        later = [path for path, mark in changed.items() if is_later(mark, acted)]
        host().write_atomic(self._foreign, json.dumps(sorted({*self.foreign(), *later})).encode("ascii"))

    def foreign(self) -> list[str]:
        """What `note_foreign` has noted."""
        return list(json.loads(self._foreign.read_bytes())) if self._foreign.exists() else []

    def hold_again(self, records: str) -> None:
        """Where the package manager let go of what was held, and Kleff was killed before it could put that right."""
        held = [record.name for record in self._read(records).packages if record.held]
        if self._workstation.packages is not None:
            self._workstation.packages.hold(held)

    def note_stopped(self, records: str) -> None:
        """When the removal has ended: what ran before it and does not any more."""
        self._note_stopped(self._read(records))

    def _note_stopped(self, recorded: PackageRecords) -> None:
        host().write_atomic(self._stopped, json.dumps(self._not_running(recorded)).encode())

    def _not_running(self, recorded: PackageRecords) -> list[str]:
        facet = self._workstation.services
        now = set(facet.running()) if facet and recorded.running else set()
        return [name for name in recorded.running if name not in now]

    def _stopped_by_it(self, recorded: PackageRecords) -> list[str]:
        """What the removal has stopped; where it was cut off, all that ran before and does not now."""
        if not self._stopped.exists():
            self._note_stopped(recorded)
        return list(json.loads(self._stopped.read_bytes()))

    def _settle_services(self, recorded: PackageRecords, stopped: list[str]) -> list[str]:
        """Start what was stopped, and let it start by itself as before. Returns what does not start, for the technician."""
        facet = self._workstation.services
        if facet is None:
            return []
        told: list[str] = []
        facet.forget([])  # the service manager is to see the units that are back
        # A socket does not start once the service that it starts runs (systemd.socket(5)).
        ran = [Service(name, True, "") for name in sorted(stopped, key=lambda name: name.endswith(".service"))]
        for service in (*(Service(*one) for one in recorded.services), *ran):
            try:
                facet.restore(service)
            except ActionFailed as error:
                told.append(error.what)
        return list(dict.fromkeys(told))
