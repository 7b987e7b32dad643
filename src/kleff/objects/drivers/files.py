"""The settings and the signature of every driver that goes are saved in the bag: with them its maker's support can tell which it was."""

from __future__ import annotations

from base64 import b64decode
from typing import ClassVar

import msgspec

from kleff.objects.base.action import TO_DO, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.restoring import ShownOnly
from kleff.objects.drivers.kind import DriverUninstall, found
from kleff.procedure.loaded import LoadedStep, steps_of
from kleff.workstation.identity import packed, path_id


class Files(msgspec.Struct, kw_only=True):
    """Their raw paths, base64."""

    paths: list[str]
    name: str


class DriverFilesKind(ShownOnly, Kind):
    """Planned for every driver that goes, not by a step of its own."""

    names = ("driver_files",)
    ahead_of: ClassVar[tuple[str, ...]] = ("uninstall", "purge", "delete", "verify", "after")

    def words(self, phase: str) -> Words:
        return Words("Saved in the bag", ("file", "files"), sized=True, total="saved")

    def add(self, planned: list[Action], here: Here) -> list[Action]:
        """One for each driver of the plan."""
        going = {about for a in planned if a.kind == "driver" and a.phase == "uninstall" and a.state == TO_DO for about in a.about}
        made: list[Action] = []
        for step in steps_of(here.procedure.phase("uninstall"), DriverUninstall) if going else ():
            for package in found(step.model, here):
                paths = [path for path in (package.file, package.catalog) if path is not None]
                looks = [look for path in paths if (look := here.workstation.files.look(path)) is not None]
                action = Action(
                    phase="drivers", step=0, line=step.line, kind="driver_files", label="drivers", verb="save",
                    target=f"settings of driver {package.title}", about=[path_id(path) for path in paths], items=len(looks),
                    size=sum(look.size for look in looks), because=f"the step at line {step.line}", undo="stays in the bag",
                )  # fmt: skip
                action.set_details(Files(paths=[packed(path) for path in paths], name=package.original or package.inf))
                made.append(action)
        return made

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.bag.archive import MemberSource

        files, told = work.here.workstation.files, action.details_as(Files)
        if work.bag.sealed or work.bag.holds(action.number):
            return Outcome(note="saved before the run was cut off", items=action.items, size=action.size)
        paths = [files.from_raw(b64decode(raw)) for raw in told.paths]
        wanted = [MemberSource(path, None, "", None, lambda path, look: False) for path in paths if files.look(path) is not None]
        if not wanted:
            return Outcome(note="gone since the preview")
        item = work.item(action, "driver_files", name=told.name)
        item = work.bag.add_files(action.number, item, wanted, files, work.here.workstation.admin, work.progress, {})
        return Outcome(note=f"in bag/data/{item.archive}", items=item.files, size=item.size)


KINDS = (DriverFilesKind(),)
