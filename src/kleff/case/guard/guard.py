"""The guard: which places a procedure may touch, asked at preview and again at the instant of the act."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import kleff
from kleff.case.guard import tables
from kleff.case.guard.kept import Kept
from kleff.case.guard.keys import KeyGuard
from kleff.case.guard.rules import PlaceRules
from kleff.case.guard.verdict import OK, Verdict
from kleff.errors import LinkOnTheWay, NotTold, remedy_for
from kleff.procedure.globs import could_hold, fold, name_matches, parts_match
from kleff.registry.registry import KeyRef
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Account

AREA = ".kleff"  # the set-aside area's name on each volume
ROOT = Path("/")
ALTERNATIVES = "/etc/alternatives/"  # update-alternatives(1)


@dataclass(frozen=True)
class Target:
    """A path as a step names it.

    Attributes:
        path: with links on the way resolved.
        literal_names: how many of its names come from the text itself, not from a wildcard.
        literal: how many characters of the last name are literal.
        account: the account whose variable it hangs on, or None.
        base: what that variable stands for.
    """

    path: WPath
    literal_names: int
    literal: int
    account: Account | None = None
    base: WPath | None = None

    @property
    def named_in_full(self) -> bool:
        return self.literal_names >= len(self.path.parts)

    def narrowed(self, path: WPath) -> Target:
        """A path within this one, named as exactly as this one was."""
        literal_names = len(path.parts) if self.named_in_full else self.literal_names
        return Target(path, literal_names, self.literal, self.account, self.base)


@dataclass
class Removal:
    """What of a target goes: the topmost paths, and what stays inside with its reason."""

    paths: list[WPath]
    kept: list[tuple[WPath, str]]


class Guard:
    """The guard of one workstation.

    Raises:
        NoSuchWorkstation: of a system of which it is not known what is its own.
    """

    def __init__(self, workstation: Workstation, kept: Kept | None = None) -> None:
        self._workstation = workstation
        self.kept = kept or Kept()
        self._accounts = workstation.accounts.all()
        self._table = tables.of_system(workstation.system)
        self._rules = PlaceRules(workstation, self._table)
        self._lines = PlaceRules(workstation, replace(self._table, places=self._table.lines, home={}))
        self._own = {folder.key: f"{name} folder of {account.name}" for folder, account, name in self._own_folders()}
        self._holding_own: dict[tuple[str, tuple[str, ...]], str] = {}
        for (volume, parts), told in self._own.items():
            for depth in range(len(parts) + 1):
                self._holding_own.setdefault((volume, parts[:depth]), told)
        self._own_files = {
            place.key: names for volume in workstation.files.volumes for text, names in self._table.own_files.items()
            if (place := workstation.files.path(text.replace("{drive}", volume))) is not None
        }  # fmt: skip
        self._keys = KeyGuard(workstation, self._table)
        self._kleff = [p for folder in kleff_folders() if (p := workstation.files.path(folder))] if workstation.ground == ROOT else []

    # -- tables -----------------------------------------------------------------------------------------------

    def _own_folders(self) -> Iterator[tuple[WPath, Account, str]]:
        for account in self._accounts:
            if account.ordinary:
                for name in self._table.own_folders:
                    try:
                        folder = self._workstation.accounts.folder(account, name)
                    except NotTold:  # then the place where it mostly is stays; by its variable nothing can be reached
                        folder = account.home.child(name.removeprefix("user.").capitalize())
                    if folder is not None and not folder.holds(account.home):
                        yield folder, account, name.removeprefix("user.")

    # -- paths ------------------------------------------------------------------------------------------------

    def check(self, target: Target) -> Verdict:
        """Whether a path may be removed."""
        path = target.path
        if not path.parts:
            return Verdict("refused", "it is the root of a volume")
        if fold(AREA) in (fold(p) for p in path.parts):
            return Verdict("refused", "it lies in Kleff's own set-aside area")
        for test in (self._homes, self._system, self._person, self._links, self._mounts, self._redirected):
            verdict = test(target)
            if not verdict.ok:
                return verdict
        return OK

    def check_placing(self, target: Target) -> Verdict:
        """Whether something may be put at a path, where nothing stands now."""
        path = target.path
        if not path.parts or fold(AREA) in (fold(p) for p in path.parts):
            return Verdict("refused", "it is the root of a volume, or lies in Kleff's own set-aside area")
        if self._rules.above(path.key)[1] == tables.NEVER:
            return Verdict("refused", "it lies in one of the system's own folders")
        for test in (self._links, self._redirected):
            verdict = test(target)
            if not verdict.ok:
                return verdict
        return OK

    def check_lines(self, target: Target) -> Verdict:
        """Whether lines of a file may be taken out or put back."""
        path = target.path
        if not path.parts or fold(AREA) in (fold(p) for p in path.parts):
            return Verdict("refused", "it is the root of a volume, or lies in Kleff's own set-aside area")
        if any(own.holds(path) for own in self._kleff):
            return Verdict("refused", "Kleff itself is installed there")
        if (self._lines.of(path.key) or self._lines.above(path.key)[1]) == tables.NEVER:
            return Verdict("refused", "its lines are the system's own")
        for test in (self._links, self._mounts, self._redirected):
            verdict = test(target)
            if not verdict.ok:
                return verdict
        return OK

    def is_crowded(self, path: WPath) -> bool:
        """Whether a folder is one in which many makers' files lie beside the system's own: what stays beside one is worth to be shown."""
        return path.key in self._own_files

    def is_shared(self, path: WPath) -> bool:
        """Whether a folder is one of the system's own places, in which things of many lie."""
        return self._rules.of(path.key) is not None

    @cached_property
    def _holding_home(self) -> dict[object, Account]:
        """By the keys of all homes and of the folders above them: the first account whose home is there."""
        found: dict[object, Account] = {}
        for account in self._accounts:
            for key in account.home.line if account.ordinary else ():
                found.setdefault(key, account)
        return found

    def _homes(self, target: Target) -> Verdict:
        account = self._holding_home.get(target.path.key)
        if account is None:
            return OK
        what = "the home folder" if target.path.key == account.home.key else "a folder that holds the home folder"
        return Verdict("refused", f"it is {what} of {account.name}")

    def _system(self, target: Target) -> Verdict:
        if any(target.path.holds(own) or own.holds(target.path) for own in self._kleff):
            return Verdict("refused", "Kleff itself is installed there")
        if self._rules.of(target.path.key) is not None:
            return Verdict("refused", "it is one of the system's own folders or files")
        if any(self._there(*below) for below in self._rules.below(target.path.key)):
            return Verdict("refused", "it holds one of the system's own folders or files")
        depth, rule = self._rules.above(target.path.key)
        above = WPath(target.path.style, target.path.volume, target.path.parts[:depth])
        if rule == tables.NEVER:
            return Verdict("refused", f"it lies in {above}, which is the system's own")
        if any(name_matches(name, target.path.name, True) for name in self._own_files.get(target.path.parent.key, ())):
            return Verdict("refused", f"{target.path.name} in {above} is the system's own")
        if rule == tables.NAMED and target.literal_names <= depth:
            return Verdict("refused", f"what lies directly in {above} must be named in full, without a wildcard")
        if rule == tables.FILES or (rule == tables.MIXED and target.literal_names <= depth):
            return self._single_file(target, above, depth, "" if rule == tables.FILES else " with a wildcard")
        return OK

    def _there(self, volume: str, parts: tuple[str, ...]) -> bool:
        return self._workstation.files.look(WPath(self._workstation.style, volume, parts)) is not None

    def _single_file(self, target: Target, above: WPath, depth: int, how: str) -> Verdict:
        look = self._workstation.files.look(target.path)
        if len(target.path.parts) != depth + 1 or (look is not None and look.is_folder):
            return Verdict("refused", f"in {above} only single files may be named{how}, no folders")
        if look is not None and look.is_link and self._workstation.files.read_link(target.path).startswith(ALTERNATIVES):
            return Verdict("refused", "it stands for one of several programs, whose it is the system's to say; use  alternatives_to")
        own = self._own_files.get(above.key)
        if target.literal < (tables.LETTERS if own is None else tables.FEWER):
            letters = "four" if own is None else "three"
            return Verdict("refused", f"a file in {above} must be named by at least {letters} letters besides wildcards")
        return OK

    def _person(self, target: Target) -> Verdict:
        volume, parts = target.path.key
        held = self._holding_own.get((volume, parts))
        if held is not None:
            return Verdict("refused", f"it is, or holds, the {held}")
        for depth in () if target.named_in_full else range(len(parts)):
            folder = self._own.get((volume, parts[:depth]))
            if folder is not None:
                return Verdict("refused", f"it lies in the {folder}, where only an exact path without a wildcard may be named")
        return OK

    def _links(self, target: Target) -> Verdict:
        try:
            resolved = self._workstation.files.resolve(target.path)
        except LinkOnTheWay as error:
            return Verdict("refused", error.what)
        if resolved.path.key != target.path.key:
            return Verdict("refused", f"a folder on the way has become a link: {'; '.join(resolved.links)}")
        return OK

    def _mounts(self, target: Target) -> Verdict:
        try:
            mounts = self._workstation.files.mounts_in(target.path)
        except OSError as error:
            return Verdict("refused", f"it cannot be looked at: {error.strerror}", remedy_for(error, "run again"), unseen=True)
        return Verdict("refused", f"it is or holds a mount point: {mounts[0]}") if mounts else OK

    def _redirected(self, target: Target) -> Verdict:
        if target.account is None or target.base is None:
            return OK
        if not target.account.home.holds(target.base):
            return Verdict("kept", f"the folder {target.base} of {target.account.name} lies outside the home folder")
        if target.account.uid is not None:
            owner = self._workstation.files.look(target.base)
            if owner is not None and owner.uid != target.account.uid:
                return Verdict("kept", f"the folder {target.base} does not belong to {target.account.name}")
        return OK

    # -- what stays -------------------------------------------------------------------------------------------

    def removal(self, path: WPath) -> Removal:
        """Take apart what of `path` goes and what stays; a folder that holds something kept stays itself."""
        reason = self.stays(path)
        if reason:
            return Removal([], [(path, reason)])
        look = self._workstation.files.look(path)
        if look is None or not self._may_hold_kept(path, look):
            return Removal([path], [])
        removal = self._walk(path)
        return removal if removal.kept else Removal([path], [])

    def keeps(self, path: WPath) -> str:
        """Why somebody else needs a path, as far as that is known; "" if nobody does."""
        return self.stays(path) or self.kept.single.get(path.key, "")

    def stays(self, path: WPath) -> str:
        """Why a path stays, itself or with a folder above it; "" if it does not."""
        depths = range(1, len(path.parts) + 1)
        return next((r for n in depths if (r := self._stays_itself(WPath(path.style, path.volume, path.parts[:n])))), "")

    def _stays_itself(self, path: WPath) -> str:
        for place, reason in self.kept.places:
            if place.key == path.key:
                return reason
        folded = path.style.folded
        for volume, pattern, reason in self.kept.patterns:
            if volume == path.volume and parts_match(pattern, path.parts, folded):
                return reason
        return ""

    def _may_hold_kept(self, path: WPath, look: Look) -> bool:
        if path.key in self.kept.single:
            return True
        if not look.is_folder:
            return False
        volume, parts = path.key
        return (
            any(place.below(path) for place, _ in self.kept.places)
            or any(v == volume and p[: len(parts)] == parts for v, p in self.kept.single)
            or any(v == path.volume and could_hold(p, path.parts, path.style.folded) for v, p, _ in self.kept.patterns)
        )

    def _walk(self, top: WPath) -> Removal:
        """By one walk, not by recursion: a tree may be deeper than that allows."""
        kept: list[tuple[WPath, str]] = []
        seen: list[tuple[WPath, bool]] = []  # path, whether something stays there; folders before what is in them

        def enter(path: WPath, look: Look) -> bool:
            stays = self._stays_itself(path)
            goes_whole = not stays and not self._may_hold_kept(path, look)
            reason = stays or ("" if goes_whole else self.kept.single.get(path.key, ""))
            if reason:
                kept.append((path, reason))
            seen.append((path, bool(reason)))
            return not stays and not goes_whole

        for _ in self._workstation.files.walk(top, enter):
            pass
        holding = {parent for path, stays in seen if stays for parent in _lineage(path, top)}
        going = [path for path, _ in seen if path not in holding]
        return Removal([p for p in going if p == top or p.parent in holding], kept)

    # -- keys and names ---------------------------------------------------------------------------------------

    def check_key(self, key: KeyRef, value: bool = False) -> Verdict:
        """Whether a key (or a single value in it) may be removed."""
        return self._keys.check(key, value)

    def check_value(self, key: KeyRef, name: str) -> Verdict:
        """Whether a single value may be removed whole."""
        return self._keys.check_value(key, name)

    def check_item(self, key: KeyRef, name: str) -> Verdict:
        """Whether single items may be taken out of a list in a value."""
        return self._keys.check_item(key, name)

    def check_name(self, kind: str, name: str) -> Verdict:
        """Whether something of that name may be ended, stopped, taken away or removed."""
        return Verdict("refused", f"{name} is the system's own") if self._table.is_own(kind, name) else OK


def _lineage(path: WPath, top: WPath) -> Iterator[WPath]:
    """A path and the folders above it, up to `top`."""
    for depth in range(len(path.parts), len(top.parts) - 1, -1):
        yield WPath(path.style, path.volume, path.parts[:depth])


def kleff_folders() -> list[str]:
    """Where Kleff and the interpreter that runs it are installed, unless that is the system's own."""
    prefix = [sys.prefix] if sys.prefix != sys.base_prefix else []
    return [*prefix, str(Path(kleff.__file__).parent)]
