"""The registry of a running Windows, as far as Wine can show it: hives of accounts that are not signed in, and how fast it is read."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import pytest

from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import text_value
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Answer, Call
from kleff.workstation.windows.system.hives import OURS, PROFILES, Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.rights import BACKUP, RESTORE, is_admin, switch_on
from wine.fixtures import on_wine
from wine.remote import RemoteCaller

pytestmark = on_wine

MIRA = "S-1-5-21-1004336348-1177238915-682003330-1107"
GONE = "S-1-5-21-1004336348-1177238915-682003330-1108"


class Recording:
    """Passes calls on, and keeps which were made of those that load and unload."""

    def __init__(self, under: RemoteCaller) -> None:
        self._under = under
        self.made: list[tuple[str, str]] = []

    def call(self, call: Call) -> Answer:
        if call.function in ("RegLoadKeyW", "RegUnLoadKeyW"):
            self.made.append((call.function, str(call.arguments[1])))
        return self._under.call(call)

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        return self._under.batch(calls)


@pytest.fixture
def profile(caller: RemoteCaller, prefix: Path) -> None:
    """A profile that is not signed in, whose hive Wine itself has written; and one whose folder is gone."""
    registry = WindowsRegistry(Api(caller), Hives(Api(caller), str))
    for sid, folder in ((MIRA, r"C:\users\mira"), (GONE, r"C:\users\gone")):
        registry.set("HKLM", f"{PROFILES}\\{sid}", text_value("ProfileImagePath", folder))
    (prefix / "drive_c/users/mira").mkdir(exist_ok=True)
    registry.set("HKU", r".DEFAULT\Made\Software\Brindlewort", text_value("who", "mira"))
    key = bytearray(8)
    assert is_admin(Api(caller))
    assert switch_on(Api(caller), BACKUP, RESTORE, "SeNoSuchPrivilege") == ["SeNoSuchPrivilege"]
    Api(caller).RegOpenKeyExW(c.HKEY_USERS, r".DEFAULT\Made", 0, c.KEY_READ, key)
    caller.call(Call("advapi32", "RegSaveKeyW", (int.from_bytes(key, "little"), r"C:\users\mira\NTUSER.DAT", None)))
    Api(caller).RegCloseKey(int.from_bytes(key, "little"))


@pytest.mark.usefixtures("profile")
def test_hives_of_accounts_that_are_not_signed_in(caller: RemoteCaller) -> None:
    """Loaded when first asked for, once, and unloaded; what a killed run has left is unloaded by the next. Wine keeps no change of them."""
    recording = Recording(caller)
    api = Api(recording)  # type: ignore[arg-type]
    hives = Hives(api, str)
    registry = Registry(WindowsRegistry(api, hives))
    assert {MIRA, GONE} <= set(registry.api.hives())
    assert recording.made == []
    key = KeyRef("HKU", f"{MIRA}\\Software\\Brindlewort")
    assert registry.text(key, "who") == "mira"
    assert registry.text(key, "who") == "mira"
    assert recording.made == [("RegLoadKeyW", OURS + MIRA)]
    registry.api.set("HKU", f"{MIRA}\\Software\\Brindlewort\\Beds", text_value("x", "y"))
    assert registry.subkeys(key) == ["Beds"]
    assert not registry.exists(KeyRef("HKU", f"{GONE}\\Software"))
    recording.made.clear()
    again = Hives(api, str)  # the one above has been killed
    assert recording.made == [("RegUnLoadKeyW", OURS + MIRA)]
    assert [name for name in again.sids() if name.startswith(OURS)] == []
    again.place("HKU", f"{MIRA}\\Software")
    again.close()
    assert recording.made[1:] == [("RegLoadKeyW", OURS + MIRA), ("RegUnLoadKeyW", OURS + MIRA)]
    again.close()
    assert len(recording.made) == 3
