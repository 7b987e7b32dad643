"""Rescue: a person's own documents inside places that will be deleted, copied to where that person will find them."""

from __future__ import annotations

import os
import re
from base64 import b64decode
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec

from kleff.case.guard.guard import Target
from kleff.errors import ActionFailed, LinkOnTheWay, NotTold, remedy_for
from kleff.objects.base.action import ABSENT, TO_DO, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.restoring import owner_of
from kleff.objects.paths.steps import PathsBackup, found_paths
from kleff.procedure.globs import fold, name_matches
from kleff.procedure.loaded import LoadedStep
from kleff.texts import plain, plural, size
from kleff.workstation.identity import packed, path_id
from kleff.workstation.paths import Look, WPath
from kleff.workstation.things import Account

if TYPE_CHECKING:
    from kleff.case.effects.placed import Staging

DOCUMENTS = {
    "document": "pdf doc docx odt rtf xls xlsx ods csv ppt pptx odp",
    "picture": "jpg jpeg png gif tif tiff bmp webp heic svg psd xcf raw",
    "drawing": "dwg dxf vsd vsdx odg ai eps",
    "recording": "wav mp3 flac ogg m4a mp4 mov avi mkv webm",
    "archive": "zip 7z rar tar gz tgz xz zst",
    "mail": "eml msg mbox pst ost",
}
KIND_OF_ENDING = {ending: kind for kind, endings in DOCUMENTS.items() for ending in endings.split()}
ONLY_LISTED = ("lnk", "url", "desktop")
PROGRAMS = ("exe", "dll", "so", "msi", "sys")
MATTERS = re.compile(rf"\.(?:{'|'.join((*KIND_OF_ENDING, *ONLY_LISTED, *PROGRAMS))})\Z", re.IGNORECASE).search
INDEX = "Where these files came from.txt"
PLACEHOLDER = 1 << 16  # bytes from which a file without a single block on the disk has its content elsewhere
SHOWN = 10
LONGEST = 255  # bytes of a name, on common file systems
SHORTCUT = "a shortcut"


@dataclass
class Found:
    """What is rescued for one account: files, and what can only be listed."""

    account: Account
    files: dict[object, tuple[WPath, Look]] = field(default_factory=dict)
    listed: dict[object, tuple[WPath, str]] = field(default_factory=dict)


def _ending(name: str) -> str:
    return name.rpartition(".")[2].lower() if "." in name else ""


def belongs(look: Look, account: Account) -> bool:
    """Whether a file is an account's own: with an administrator's rights nobody else's is read for it, whatever its name leads to."""
    return account.uid is None or look.uid == account.uid


class Rescuer:
    """Finds what has to be rescued before a plan is carried out."""

    def __init__(self, here: Here) -> None:
        self._here = here
        self._files = here.workstation.files
        self._people = [a for a in here.workstation.accounts.all() if a.ordinary and a.uid != 0]
        self._public = next((a for a in here.workstation.accounts.all() if fold(a.name) == "PUBLIC"), None)
        self._found: dict[str, Found] = {}

    def actions(self, planned: Sequence[Action]) -> list[Action]:
        """One action for each account that has something to be rescued."""
        for action in planned:
            path = action.path(self._files.style)
            if action.phase == "delete" and action.state == TO_DO and path is not None:
                self._look_through(path)
        for step in self._here.procedure.phase("backup"):
            if isinstance(step.model, PathsBackup) and step.model.rescue and not self._here.not_wanted(step.model):
                self._named(step.model)
        told = (found for found in self._found.values() if found.files or any(why != SHORTCUT for _, why in found.listed.values()))
        return [self._action(found) for found in told]

    def _look_through(self, top: WPath) -> None:
        installed = 0  # when the product's own files were last written: what is of that time or before came with it
        candidates = []
        for going in self._here.guard.removal(top).paths:
            for path, look in self._files.find(going, lambda name: MATTERS(name) or self._is_own(name)):
                if not look.is_file:
                    continue
                if _ending(path.name) in PROGRAMS:
                    installed = max(installed, look.times[1])
                elif path != top:  # what is named by a step itself is no find inside a place
                    candidates.append((path, look))
        candidates.sort(key=lambda found: found[0].parts)
        packages = self._here.workstation.packages
        owned = packages.owners([p for p, _ in candidates], below=False) if packages and candidates else {}
        for path, look in candidates:
            account = self._whose(path, look)
            if account is not None and str(path) not in owned and self._is_persons(path, look, installed):
                self._add(account, path, look)

    def _is_own(self, name: str) -> bool:
        return any(name_matches(text, name, self._files.style.folded) for text in self._here.procedure.product.documents)

    def _is_persons(self, path: WPath, look: Look, installed: int) -> bool:
        """By who made it: in a home it is that person's; elsewhere by its owner, or it is younger than the installation."""
        if any(a.home.holds(path) for a in self._people):
            return _ending(path.name) not in ONLY_LISTED or not installed
        if not self._here.workstation.style.drives:
            return any(a.uid == look.uid for a in self._people)
        return look.times[1] > installed > 0 or (installed == 0 and _ending(path.name) not in ONLY_LISTED)

    def _whose(self, path: WPath, look: Look) -> Account | None:
        for account in self._people:
            if account.home.holds(path):
                return account
        by_owner = next((a for a in self._people if a.uid is not None and a.uid == look.uid), None)
        return by_owner or (self._public if self._here.workstation.style.drives else None)

    def _named(self, model: PathsBackup) -> None:
        for text in model.paths:
            for expanded in self._here.resolver.expand(text, model.accounts):
                try:
                    tops = found_paths(expanded, self._here)
                except (OSError, LinkOnTheWay):
                    continue  # the step that saves it says so
                for top in tops:
                    for path, look in self._files.walk(top):
                        account = expanded.account or self._whose(path, look)
                        if look.is_file and account is not None and not model.leaves_out(path, look):
                            self._add(account, path, look)

    def _add(self, account: Account, path: WPath, look: Look) -> None:
        found = self._found.setdefault(account.id, Found(account))
        if _ending(path.name) in ONLY_LISTED:
            found.listed[path.key] = path, SHORTCUT
        elif look.size >= PLACEHOLDER and not look.room:
            found.listed[path.key] = path, "a placeholder, its content is not on this workstation"
        elif not belongs(look, account):
            found.listed[path.key] = path, "belongs to another account"
        else:
            found.files[path.key] = path, look

    def _action(self, found: Found) -> Action:
        place = self._place(found.account)
        paths = [p for p, _ in found.files.values()]
        action = Action(
            phase="rescue", step=0, line=0, kind="rescue", label="people's own documents", verb="rescue", target=str(place),
            about=[path_id(place)],
            account=found.account.name, because="they lie in places that will be deleted", undo="taken away again, if unchanged",
            items=len(paths), size=sum(look.size for _, look in found.files.values()),
        )  # fmt: skip
        action.set_details(Rescuing(
            account=found.account.id, place=packed(place), paths=[packed(p) for p in paths],
            listed=[(str(p), why) for p, why in found.listed.values()],
        ))  # fmt: skip
        first = list(found.files.values())[:SHOWN]
        action.shows = [f"{KIND_OF_ENDING.get(_ending(p.name), 'own file')}: {p}, {size(look.size)}" for p, look in first]
        if len(paths) > SHOWN:
            action.shows.append(f"and {plural(len(paths) - SHOWN, 'more file')}")
        action.shows += [f"only listed: {p}, {why}" for p, why in found.listed.values()][:SHOWN]
        if not paths:
            action.state, action.reason, action.items = ABSENT, "nothing that can be copied", len(found.listed)
        return action

    def _place(self, account: Account) -> WPath:
        """A new folder on the desktop, in the documents, or in the home: the first that is there and the account's own."""
        name = f"Rescued from {self._here.procedure.product.name} {datetime.now():%Y-%m-%d}"
        for variable in ("user.desktop", "user.documents", "user.home"):
            try:
                folder = self._here.workstation.accounts.folder(account, variable)
            except NotTold:
                continue  # there is another
            look = self._files.look(folder) if folder is not None else None
            if folder is None or look is None or not look.is_folder:
                continue
            place = next(p for n in range(1, 1000) if self._files.look(p := folder.child(name if n == 1 else f"{name} ({n})")) is None)
            if self._here.guard.check_placing(Target(place, len(place.parts), 9, account, folder)).ok:
                return place
        return account.home.child(name)


class Rescuing(msgspec.Struct, kw_only=True):
    """What rescuing for one account needs: where to, what, and what can only be listed, with why."""

    account: str
    place: str
    paths: list[str]
    listed: list[tuple[str, str]]


class RescueKind(Kind):
    """Planned by `Rescuer`, not by a step of its own."""

    names = ("rescue",)
    ahead_of = ("uninstall", "purge", "delete", "verify", "after")

    def words(self, phase: str) -> Words:
        return Words("Rescued", ("file", "files"), sized=True, total="rescued")

    def add(self, planned: list[Action], here: Here) -> list[Action]:
        return Rescuer(here).actions(planned)

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.bag.unpacking import make_folder
        from kleff.case.effects.placed import Placed, Ready, Staging, put_in_place

        files, told = work.here.workstation.files, action.details_as(Rescuing)
        account = work.here.resolver.account(told.account)
        place = files.from_raw(b64decode(told.place))
        if account is None:
            raise ActionFailed(f"the account {action.account} is not here any more", remedy="resume with --skip")
        if any(isinstance(e.effect, Placed) and e.state == "done" for e in work.hands.case.journal.effects(action.number)):
            return Outcome(items=action.items, size=action.size, note="rescued before the run was cut off")
        owner = owner_of(account, work.here)
        staging = Staging(work.hands, action.number)
        work.progress.start("rescuing people's own documents", items=action.items, size=action.size)
        try:
            top = place  # with the folders above it that are not there
            while len(top.parts) > 1 and files.look(top.parent) is None:
                top = top.parent
            staging.begin([top])
            staged = staging.room(top)
            below = place.parts[len(top.parts) :]
            for depth in range(len(below) + 1):
                make_folder(files, staged.child(*below[:depth]), owner, account.id)
            room = staged.child(*below)
            lines = list(self._copied(action, account, staging, room, work))
            staging.write_in(room, INDEX, self._index(action, room, lines, work), owner, account.id)
            put_in_place(work.hands, action.number, [Ready(top, staged)])
            staging.end()
        except OSError as error:
            raise ActionFailed(f"{error.filename or action.target} cannot be rescued: {error.strerror}", remedy=remedy_for(error)) from None
        return Outcome(items=action.items, size=action.size, note=plural(action.items, "file"))

    def _copied(self, action: Action, account: Account, staging: Staging, room: WPath, work: Work) -> Iterator[tuple[str, WPath]]:
        """Copy each under a name of its own, read it back, and say where it came from."""
        files, taken, owner = work.here.workstation.files, {fold(INDEX)}, owner_of(account, work.here)
        for raw in action.details_as(Rescuing).paths:
            source = files.from_raw(b64decode(raw))
            look = files.look(source)
            if look is None or not look.is_file or not belongs(look, account):
                raise ActionFailed(f"{source} is gone or replaced since the preview", remedy="look what took it; then resume")
            name = _free(source.name, taken)
            sha256 = staging.copy_in(source, room, name, look, owner, account.id)
            if files.sha256(room.child(name)) != sha256:
                raise ActionFailed(f"{source} is not what was copied when it is read back", remedy="check the disk; then resume")
            work.progress.step(1, look.size)
            yield name, source

    def _index(self, action: Action, room: WPath, lines: list[tuple[str, WPath]], work: Work) -> bytes:
        product = work.here.procedure.product.name
        text = [f"These files lay in places that were deleted with {product} on {datetime.now():%Y-%m-%d}.", ""]
        text += [f"{plain(name)}\n    from {plain(str(source))}" for name, source in lines]
        listed = action.details_as(Rescuing).listed
        if listed:
            text += ["", "Not copied:", *(f"{plain(path)}\n    {why}" for path, why in listed)]
        end = "\r\n" if room.style.drives else "\n"
        return "".join(f"{line}{end}" for line in "\n".join(text).split("\n")).encode("utf-8", "backslashreplace")


def _free(name: str, taken: set[str]) -> str:
    """A name that is not taken yet, numbered before its ending."""
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    number, result = 1, name
    while fold(result) in taken:
        number += 1
        result = f"{stem} ({number}){dot}{ending}"
        while len(os.fsencode(result)) > LONGEST:
            stem = stem[:-1]
            result = f"{stem} ({number}){dot}{ending}"
    taken.add(fold(result))
    return result


KINDS = (RescueKind(),)
