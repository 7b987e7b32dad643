"""Packages by real dpkg, on the running system or on a tree with `--root`."""

from __future__ import annotations

import contextlib
import re
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from kleff.errors import KleffError, LinkOnTheWay
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages import locks
from kleff.workstation.linux.packages.calling import ENVIRONMENT, Calling, asked
from kleff.workstation.linux.packages.ownership import FORM, Ownership, Remembered
from kleff.workstation.linux.packages.policy import Policy
from kleff.workstation.package_facet import Ready, Surroundings
from kleff.workstation.paths import WPath
from kleff.workstation.things import Installed, Package, PackageRecord, Source

FIELDS = (
    "binary:Package", "Version", "db:Status-Abbrev", "Essential", "Protected", "Installed-Size", "Priority", "Section", "binary:Summary",
    "Conffiles",
)  # fmt: skip
# What a package without content of its own has: folders on the way, and its documentation.
NO_CONTENT = re.compile(r"/\.?\Z|/usr(?:/share(?:/(?:doc|lintian|bug)(?:/.*)?)?)?\Z")


class Dpkg:
    """The package database.

    Args:
        files: the workstation's files.
        root: the tree, or None for the running system.
    """

    def __init__(self, files: FileTree, root: Path | None) -> None:
        self._files = files
        self._root = root
        self._calling = Calling(root, files)
        self._options = [f"--root={root}"] if root else []
        self._policy = Policy(files)
        self._remembered = Remembered(self._state)

    def all(self) -> list[Package]:
        """Every package that is installed or has left its configuration.

        Raises:
            KleffError: dpkg-query is not there or fails.
        """
        return list(self._remembered("all", self._all))

    def _all(self) -> list[Package]:
        form = "\\t".join(f"${{{f}}}" for f in FIELDS) + "\\n\x1e"
        text = self._query("-W", f"-f={form}", empty_ok=True)
        return [p for p in map(self._package, text.split("\x1e")) if p is not None]

    def _package(self, record: str) -> Package | None:
        if not record.strip():
            return None
        name, version, status, essential, protected, kilobytes, priority, section, title, conffiles = record.split("\t", 9)
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
            priority=priority,
            section=section,
            held=status[:1] == "h",
            broken=state not in ("i", "c") or status[2:3].strip() != "",
        )

    def _query(self, *arguments: str, empty_ok: bool = False) -> str:
        status = self._files.resolve(WPath(self._files.style, "", ("var", "lib", "dpkg", "status"))).path
        if self._files.look(status) is None:  # dpkg-query takes that for a workstation without packages
            raise KleffError(
                "which packages there are cannot be told: it is not there", where=str(status), remedy="mend the package database"
            )
        words = ["dpkg-query", *self._options, *arguments]
        try:
            done = subprocess.run(words, capture_output=True, env=ENVIRONMENT, timeout=120, check=False)
        except FileNotFoundError:
            raise KleffError("dpkg-query is not installed", remedy="package steps need dpkg on this machine") from None
        text = done.stdout.decode("utf-8", "surrogateescape")
        if done.returncode not in ((0, 1) if empty_ok else (0,)):
            raise KleffError(
                f"dpkg-query failed: {done.stderr.decode(errors='replace').strip()}", remedy="check the package database with  dpkg --audit"
            )
        return text

    def owners(self, paths: Sequence[WPath], below: bool = True) -> dict[str, list[str]]:
        asked = self._remembered("owners", lambda: Ownership(self._query("-W", f"-f={FORM}", empty_ok=True), self._files))
        return asked.of(paths, below)

    def _state(self) -> object:
        """dpkg replaces these files after every change it makes (dpkg(1), dpkg-divert(1), FILES)."""
        parts = ("status", "updates", "diversions")  # while it is at work, what has changed since stands in the second
        looks = [self._files.look(WPath(self._files.style, "", ("var", "lib", "dpkg", name))) for name in parts]
        return [(look.identity, look.size, look.times[1]) if look is not None else None for look in looks]

    def would_go(self, names: Sequence[str]) -> list[str] | None:
        return self._asked(("purge",), names)

    def unneeded(self, without: Sequence[str] = ()) -> list[str] | None:
        found = self._asked(("--auto-remove", "purge") if without else ("autoremove",), without)
        given = {name.partition(":")[0] for name in without}
        return None if found is None else [name for name in found if name not in given]

    def files_of(self, names: Sequence[str]) -> dict[str, list[str]]:
        if not names:
            return {}
        form = "-f=${binary:Package}\n${db-fsys:Files}\x1e"
        text = self._remembered(f"files of {' '.join(names)}", lambda: self._query("-W", form, "--", *names))
        records = (record.split("\n") for record in text.split("\x1e") if record)
        return {name: [line[1:] for line in lines if line.startswith(" /")] for name, *lines in records}

    def stands_for(self, name: str) -> list[str]:
        from kleff.workstation.linux.packages.marks import automatic
        from kleff.workstation.linux.packages.rebuilding.dependencies import depended_on

        if any(not NO_CONTENT.match(path) for path in self.files_of([name]).get(name, ["?"])):
            return []
        brought = automatic(self._files)
        return [other for other in depended_on(self._query("-W", "-f=${Pre-Depends}, ${Depends}", "--", name)) if other in brought]

    def offered_by(self, source: str) -> set[tuple[str, str]]:
        from kleff.workstation.linux.packages.sources import LISTS, offered_by

        if self._files.look(WPath(self._files.style, "", (*LISTS, source))) is None:
            return set()
        return self._remembered(f"source {source}", lambda: offered_by(self._root, ENVIRONMENT, source))

    def lists_of(self, source: str) -> list[str]:
        from kleff.workstation.linux.packages.sources import lists_of

        return lists_of(self._root, ENVIRONMENT, source)

    def others_offer(self, source: str, names: Sequence[str]) -> dict[str, str]:
        from kleff.workstation.linux.packages.sources import others_offer

        newest: dict[str, str] = {}
        for name, version in others_offer(self._root, ENVIRONMENT, source, names) if names else ():
            if name not in newest or self.compare(version, newest[name]) > 0:
                newest[name] = version
        return newest

    def change_objection(self, versions: Mapping[str, str]) -> str:
        from kleff.workstation.linux.packages.apt import change_objection

        return change_objection(self._root, ENVIRONMENT, versions)

    def change(self, versions: Mapping[str, str], output: Path) -> None:
        from kleff.workstation.linux.packages.apt import changing

        held = [p.name for p in self.all() if p.held and p.name.partition(":")[0] in versions]
        with self._policy.no_service_starts() if self._root else contextlib.nullcontext():
            if any((self._root or Path("/")).glob("var/lib/dpkg/updates/[0-9]*")):  # of a try that was cut off; apt begins nothing then
                self._run(["--force-confold", "--configure", "--pending"], output)
            self._calling.to_the_end(changing(self._root, versions), output)
        self.hold(held)  # apt lets go of what it changes

    def history(self) -> dict[str, Installed]:
        from kleff.workstation.linux.packages.apt_history import history

        return history(self._files)

    def _asked(self, words: tuple[str, ...], names: Sequence[str]) -> list[str] | None:
        from kleff.workstation.linux.packages.apt import simulate
        from kleff.workstation.linux.packages.priorities import status_with

        def ask() -> list[str] | None:
            otherwise = self._otherwise_in_the_archive() if words != ("purge",) else {}
            if not otherwise:
                return simulate(self._root, ENVIRONMENT, words, names)
            with status_with(self._root, otherwise) as status:
                return simulate(self._root, ENVIRONMENT, words, names, status)

        return self._remembered(" ".join(("apt", *words, *names)), ask)

    def _otherwise_in_the_archive(self) -> dict[str, str]:
        """The packages whose own priority keeps them, and the archive's does not."""
        from kleff.workstation.linux.packages import priorities
        from kleff.workstation.linux.packages.marks import automatic

        own = {p.name.partition(":")[0]: p for p in self.all() if p.state == "installed"}
        said = {name: p.priority for name, p in own.items()}
        asked = priorities.suspects(said, automatic(self._files))
        found = priorities.archive_priorities(self._root, ENVIRONMENT, {name: own[name].version for name in asked}) if asked else {}
        return priorities.differing(found, said)

    def objection(self, names: Sequence[str], purge: bool) -> str | None:
        action = "--purge" if purge else "--remove"
        done = asked(self._calling.words("dpkg", "--no-act", action, "--", *names))
        if done.returncode == 0:
            return None
        return " ".join(done.stderr.decode("utf-8", "replace").split()) or f"dpkg ended with {done.returncode}"

    def remove(self, names: Sequence[str], purge: bool, output: Path) -> None:
        with self._policy.no_service_starts() if self._root else contextlib.nullcontext():
            self._run(["--purge" if purge else "--remove", "--", *names], output)

    def record(self, name: str) -> PackageRecord:
        from kleff.workstation.linux.packages.rebuilding.records import record_package
        from kleff.workstation.linux.packages.settings import Settings

        settings = self._remembered("settings", lambda: Settings(self._files))
        return self._remembered(f"record {name}", lambda: record_package(self._query, self._files, name, settings))

    def put_back(self, records: Sequence[PackageRecord], source: Source, folder: Path, output: Path, ready: Ready) -> None:
        from kleff.workstation.linux.packages.rebuilding.putting_back import PuttingBack

        PuttingBack(self._calling, self._policy, self._query, self.compare).put_back(records, source, folder, output, ready)

    def hold(self, names: Sequence[str]) -> None:
        self._select(dict.fromkeys(names, "hold"))

    def make_way(self, records: Sequence[PackageRecord]) -> None:
        from kleff.workstation.linux.packages.settings import divert_again

        divert_again(self._calling, self._files, records)

    def settle(self, records: Sequence[PackageRecord]) -> list[str]:
        from kleff.workstation.linux.packages.configuration import remember_again
        from kleff.workstation.linux.packages.settings import set_again

        self._mark_again(records)
        stays = set_again(self._calling, self._files, records)
        with locks.held(self._root):
            remember_again(self._files, records)
        return stays

    def _mark_again(self, records: Sequence[PackageRecord]) -> None:
        from kleff.workstation.linux.packages.marks import mark_again

        mark_again(self._files, records)
        # Also those that a removal which was cut off had only marked for it.
        self._select({r.name: "hold" if r.held else "install" for r in records if r.installed})

    def _select(self, wanted: Mapping[str, str]) -> None:
        if wanted:
            said = "".join(f"{name} {what}\n" for name, what in wanted.items())
            self._calling.quickly(self._calling.words("dpkg", "--set-selections"), said)

    def clear_stand_ins(self, records: Sequence[PackageRecord], source: Source) -> None:
        """Told by their content, so that nothing else can go. Where dpkg kept a changed configuration file, one lies beside it."""
        from kleff.workstation.linux.packages.rebuilding.records import PLACEHOLDER

        beside = [c.path + ".dpkg-dist" for r in records for c in r.config_files]
        invented = [lies for r in records for _, lies in r.paths if source(lies) is None]
        for text in (*beside, *invented):
            path = self._files.path(text)
            with contextlib.suppress(OSError, LinkOnTheWay):  # most are not there
                path = self._files.resolve(path).path if path else None
                if path and self._files.read(path) == PLACEHOLDER:
                    self._files.remove_single(path)

    def _run(self, arguments: Sequence[str], output: Path) -> None:
        self._calling.to_the_end(self._calling.words("dpkg", *arguments), output)

    def around(self) -> Surroundings:
        from kleff.workstation.linux.packages.surroundings import surroundings

        return surroundings(self._files)

    def last_acted(self, output: Path) -> int:
        from kleff.workstation.linux.packages.surroundings import last_acted

        return last_acted(self._files, output)

    def at_work(self) -> str:
        return locks.at_work(self._root)

    def wait(self) -> None:
        locks.wait(self._root)

    def clear_up(self) -> None:
        with contextlib.suppress(OSError):
            self._calling.clear_up()
        self._policy.clear()

    def left_over(self) -> bool:
        return self._policy.stands() or self._calling.stands()

    def compare(self, a: str, b: str) -> int:
        for relation, result in (("lt", -1), ("eq", 0)):
            if subprocess.run(["dpkg", "--compare-versions", a, relation, b], env=ENVIRONMENT, timeout=30, check=False).returncode == 0:
                return result
        return 1
