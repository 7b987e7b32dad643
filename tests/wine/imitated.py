"""What Wine cannot show, answered in its place: who may change files, and junctions."""

from __future__ import annotations

from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.caller import Answer, Call
from kleff.workstation.windows.native.structures import FILE_ATTRIBUTE_TAG_INFO
from kleff.workstation.windows.system.files.links import junction
from kleff.workstation.windows.system.files.security import for_admins_alone
from wine.policy import Guarded

SECURITY = for_admins_alone()
DONE = Answer(0, 0)


class AdministratorsFiles(Guarded):
    """Every file is an administrator's, and nobody else may change it: Wine knows no owners and keeps no access lists."""

    def call(self, call: Call) -> Answer:
        if call.function == "NtQuerySecurityObject":
            data, size = call.arguments[2], call.arguments[4]
            assert isinstance(data, bytearray)
            assert isinstance(size, bytearray)
            data[: len(SECURITY)] = SECURITY
            size[:] = len(SECURITY).to_bytes(4, "little")
            return DONE
        return DONE if call.function == "NtSetSecurityObject" else super().call(call)


class Junctions(AdministratorsFiles):
    """Folders of some names are junctions; where each leads.

    Attributes:
        entered: those in which something was opened or listed, which nothing may do.
    """

    leads: dict[str, str]

    def __init__(self, under: Guarded, leads: dict[str, str]) -> None:
        super().__init__(under)
        self.leads = leads
        self.entered: list[str] = []

    def batch(self, calls: list[Call]) -> list[Answer]:  # type: ignore[override]
        return [self.call(call) for call in calls]

    def call(self, call: Call) -> Answer:
        handle = call.arguments[0] if call.arguments else None
        name = self.open.get(handle, "") if isinstance(handle, int) else ""
        if call.function == "NtCreateFile":
            above = self.open.get(call.arguments[2].RootDirectory, "")  # type: ignore[union-attr]
            self.entered += [above] if above in self.leads else []
        if name not in self.leads:
            return super().call(call)
        if call.function == "GetFileInformationByHandleEx" and call.arguments[1] == c.FileAttributeTagInfo:
            answer, told = super().call(call), call.arguments[2]
            assert isinstance(told, FILE_ATTRIBUTE_TAG_INFO)
            told.FileAttributes |= c.FILE_ATTRIBUTE_REPARSE_POINT
            told.ReparseTag = c.IO_REPARSE_TAG_MOUNT_POINT
            return answer
        if call.function == "GetFileInformationByHandleEx" and call.arguments[1] in (10, 11):
            self.entered.append(name)
        if call.function == "DeviceIoControl":
            data, size = call.arguments[4], call.arguments[6]
            assert isinstance(data, bytearray)
            assert isinstance(size, bytearray)
            made = junction(self.leads[name])
            data[: len(made)], size[:] = made, len(made).to_bytes(4, "little")
            return Answer(1, 0)
        return super().call(call)
