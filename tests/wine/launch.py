"""Starts Kleff on Wine: with what Wine cannot show answered in its place, and no unsafe call let through.

KLEFF_TEST_AS=account makes it one that is no administrator; KLEFF_TEST_BREAK=FILE raises Ctrl-Break once the file is there.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from pathlib import Path

sys.path.append(str(Path(__file__).parent.parent))

from kleff.__main__ import main
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native import here
from kleff.workstation.windows.native.caller import Answer, Call, number
from kleff.workstation.windows.native.local import LocalCaller, of_windows
from kleff.workstation.windows.native.structures import OBJECT_ATTRIBUTES
from wine.imitated import AdministratorsFiles

FAT = "\\??\\c:\\fat"
GIVEN = Path("C:\\given.txt")
NO_SECURITY = 0xC0000002  # STATUS_NOT_IMPLEMENTED


class Here(AdministratorsFiles):
    """What lies in `C:\\fat` is as on a volume that knows no rights. Who is given what is kept, as Wine does not."""

    def call(self, call: Call) -> Answer:
        handle = call.arguments[0] if call.arguments else None
        if call.function == "NtQuerySecurityObject" and isinstance(handle, int) and self.open.get(handle, "").lower().startswith(FAT):
            return Answer(NO_SECURITY, 0)
        if call.function == "NtSetSecurityObject" and isinstance(handle, int) and isinstance(call.arguments[2], bytes):
            _told(self.open[handle], call.arguments[2])
        answer = super().call(call)
        if call.function == "NtCreateFile" and call.arguments[7] == c.FILE_CREATE and answer.result == 0:
            wanted = call.arguments[2]
            assert isinstance(wanted, OBJECT_ATTRIBUTES)
            if wanted.SecurityDescriptor:
                assert isinstance(call.arguments[0], bytearray)
                _told(self.open[number(call.arguments[0])], _descriptor(self, wanted.SecurityDescriptor))
        return answer


def _told(name: str, rights: bytes) -> None:
    with GIVEN.open("a", encoding="utf-8") as told:
        told.write(f"{name} {rights.hex()}\n")


def _descriptor(caller: Here, at: int) -> bytes:
    """A self-relative one, whose access list stands last; as large as that says ([MS-DTYP] 2.4.5)."""
    entries = int.from_bytes(caller.read(at + 16, 4), "little")
    return caller.read(at, entries + int.from_bytes(caller.read(at + entries + 2, 2), "little"))


class Account(Here):
    """An account without an administrator's rights; Wine knows administrators alone."""

    def call(self, call: Call) -> Answer:
        if call.function == "MsiEnumProductsExW" and call.arguments[1] is not None:
            return Answer(c.ERROR_ACCESS_DENIED, 0)  # the products of others
        answer = super().call(call)
        if call.function == "CheckTokenMembership":
            member = call.arguments[2]
            assert isinstance(member, bytearray)
            member[:] = bytes(4)
        return answer


def _break_at(file: str) -> None:
    while not os.path.exists(file):
        time.sleep(0.1)
    os.unlink(file)
    signal.raise_signal(signal.SIGBREAK)  # type: ignore[attr-defined]


if __name__ == "__main__":
    kind = Account if os.environ.get("KLEFF_TEST_AS") == "account" else Here
    here.call_by(kind(LocalCaller(of_windows()), whole_paths=True))
    if "KLEFF_TEST_BREAK" in os.environ:
        threading.Thread(target=_break_at, args=(os.environ["KLEFF_TEST_BREAK"],), daemon=True).start()
    main()
