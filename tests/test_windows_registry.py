"""The registry of a running Windows, as far as Wine can show it: hives of accounts that are not signed in, and how fast it is read."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from kleff.registry.regfile import RegKey, decode, encode, format_tree, parse
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.shared import SHARED
from kleff.registry.values import RegValue, text_value
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Answer, Call
from kleff.workstation.windows.profiles import PROFILES
from kleff.workstation.windows.system.hives import OURS, Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.rights import BACKUP, RESTORE, is_admin, switch_on
from wine.fixtures import on_wine
from wine.remote import WINE, RemoteCaller, environment

pytestmark = on_wine

MIRA = "S-1-5-21-1004336348-1177238915-682003330-1107"
GONE = "S-1-5-21-1004336348-1177238915-682003330-1108"


DEAD = (0x7FFFFFF0, 13_000_000_000)  # number and start of a process that there is none of
LEFT = f"{OURS}{DEAD[0]}-{DEAD[1]}-"


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
    hives = Hives(api, str, DEAD)
    registry = Registry(WindowsRegistry(api, hives))
    assert {MIRA, GONE} <= set(registry.api.hives())
    assert recording.made == []
    key = KeyRef("HKU", f"{MIRA}\\Software\\Brindlewort")
    assert registry.text(key, "who") == "mira"
    assert registry.text(key, "who") == "mira"
    assert recording.made == [("RegLoadKeyW", LEFT + MIRA)]
    registry.api.set("HKU", f"{MIRA}\\Software\\Brindlewort\\Beds", text_value("x", "y"))
    assert registry.subkeys(key) == ["Beds"]
    assert not registry.exists(KeyRef("HKU", f"{GONE}\\Software"))
    recording.made.clear()
    again = Hives(api, str)  # the one above has been killed
    assert recording.made == [("RegUnLoadKeyW", LEFT + MIRA)]
    assert [name for name in again.sids() if name.startswith(OURS)] == []
    again.place("HKU", f"{MIRA}\\Software")
    (loaded,) = recording.made[1:]
    assert loaded[0] == "RegLoadKeyW"
    assert loaded[1].startswith(OURS)
    assert loaded[1].endswith(MIRA)
    Hives(api, str)  # another Kleff, while this one is at work
    assert recording.made[1:] == [loaded]
    again.close()
    assert recording.made[2:] == [("RegUnLoadKeyW", loaded[1])]
    again.close()
    assert len(recording.made) == 3


PLAIN = {  # what every program that writes such files agrees on
    "text": (1, "Gänseblümchen \U0001f33c"), "quoted": (1, r'a "b" \ c'), "empty": (1, ""), "expand": (2, r"%ProgramFiles%\x"),
    "": (1, "the default"), "with ] and [": (1, "x"),
}  # fmt: skip
RAW = {
    "none": (0, b""), "bytes": (3, bytes(range(256))), "number": (4, b"\1\2\3\4"), "big end": (5, b"\1\2\3\4"), "link": (6, b"x\0"),
    "list": (7, "one\0\0two\0\0".encode("utf-16-le")), "empty list": (7, b"\0\0"), "resources": (8, b"\1\2\3"),
    "long": (11, b"\1\2\3\4\5\6\7\x08"), "odd": (0x1234, b"odd"), "broken text": (1, "a\r\nb\0".encode("utf-16-le")),
}  # fmt: skip

OWN_WAY = "broken text"  # Wine writes a line break by an escape of its own, which Windows does not know


def test_reg_files_both_ways(caller: RemoteCaller, prefix: Path) -> None:
    """What Kleff writes, Wine's own program reads, and the other way round: every type, in both views."""
    registry = Registry(WindowsRegistry(Api(caller), Hives(Api(caller), str)))
    values = [text_value(name, text, expand=kind == 2) for name, (kind, text) in PLAIN.items()]
    values += [RegValue(name, kind, raw) for name, (kind, raw) in RAW.items()]
    for view in (64, 32):
        key = KeyRef("HKLM", r"SOFTWARE\Brindlewort\Both ways", view)
        for at in (key, key.child("below ü"), key.child("empty")):
            registry.api.create(at.hive, at.physical)
            for value in () if at.path.endswith("empty") else values:
                registry.api.set(at.hive, at.physical, value)
        before = registry.tree(key)
        assert before is not None
        exported = prefix / "drive_c/both.reg"
        exported.unlink(missing_ok=True)
        _reg(prefix, "export", r"HKLM\SOFTWARE\Brindlewort\Both ways", r"C:\both.reg", "/y", f"/reg:{view}")
        read = parse(decode(exported.read_bytes(), "both.reg"), "both.reg").find(["HKLM", "SOFTWARE", "Brindlewort", "Both ways"])
        assert _told(read, OWN_WAY) == _told(before, OWN_WAY)
        registry.delete_tree(key)
        exported.unlink()
        exported.write_bytes(encode(format_tree(r"HKLM\SOFTWARE\Brindlewort\Both ways", before)))
        _reg(prefix, "import", r"C:\both.reg", f"/reg:{view}")
        assert _told(registry.tree(key)) == _told(before)
        other = registry.tree(KeyRef(key.hive, key.path, 96 - view))
        assert view == 32 or other is None


def _reg(prefix: Path, *words: str) -> None:
    subprocess.run([WINE, "reg", *words], env=environment(prefix), check=True, capture_output=True, timeout=60)


def _told(tree: RegKey | None, but: str = "-") -> object:
    """Without the order of values, which Wine sorts, and without one of them."""
    assert tree is not None
    return {v.name: (v.type, v.raw) for v in tree.values.values() if v.name != but}, {k.name: _told(k, but) for k in tree.keys.values()}


def test_what_a_windows_shares_is_one_key(caller: RemoteCaller) -> None:
    """Its own links say so: of all that it has in the 32-bit view none is refused, or meant twice."""
    registry = Registry(WindowsRegistry(Api(caller), Hives(Api(caller), str)))
    known = 0
    for parts in SHARED:
        path = "\\".join(parts)
        there = registry.api.link("HKLM", KeyRef("HKLM", path, 32).physical) is not None
        known += there
        assert [key.view for key in registry.canonical(f"HKLM\\{path}")] == [0]
    assert known > 40
    (beds,) = registry.canonical(r"HKLM\Software\Wow6432Node\Microsoft\Windows\CurrentVersion\App Paths\beds.exe")
    registry.api.create(beds.hive, beds.physical)
    assert "beds.exe" in registry.subkeys(KeyRef("HKLM", r"SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths"))
    registry.delete_tree(beds)
    linked = KeyRef("HKLM", r"SOFTWARE\Wine\Ports", 32)  # which no table has
    assert registry.link(linked) is not None
    assert [key.view for key in registry.canonical(r"HKLM\Software\Wine\Ports")] == [0]
