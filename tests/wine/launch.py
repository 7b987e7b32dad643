"""Starts Kleff on Wine: with what Wine cannot show answered in its place, and no unsafe call let through.

KLEFF_TEST_AS=account makes it one that is no administrator.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent.parent))

from kleff.__main__ import main
from kleff.workstation.windows.native import here
from kleff.workstation.windows.native.caller import Answer, Call
from kleff.workstation.windows.native.local import LocalCaller, of_windows
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
            with GIVEN.open("a", encoding="utf-8") as told:
                told.write(f"{self.open[handle]} {call.arguments[2].hex()}\n")
        return super().call(call)


class Account(Here):
    """An account without an administrator's rights; Wine knows administrators alone."""

    def call(self, call: Call) -> Answer:
        answer = super().call(call)
        if call.function == "CheckTokenMembership":
            member = call.arguments[2]
            assert isinstance(member, bytearray)
            member[:] = bytes(4)
        return answer


if __name__ == "__main__":
    kind = Account if os.environ.get("KLEFF_TEST_AS") == "account" else Here
    here.call_by(kind(LocalCaller(of_windows()), whole_paths=True))
    main()
