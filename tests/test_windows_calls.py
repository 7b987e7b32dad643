"""Calls of Windows functions: the tables as the compiler's headers have them, and how a call is made in this process."""

from __future__ import annotations

import ctypes
import ctypes.util
import errno
import re
import shutil
from pathlib import Path

import pytest

import kleff.workstation.windows
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.native.caller import Call, allocated, narrow, number, wide
from kleff.workstation.windows.native.constants import CONSTANTS
from kleff.workstation.windows.native.functions import FUNCTIONS, Function
from kleff.workstation.windows.native.interfaces import METHODS
from kleff.workstation.windows.native.local import Loading, LocalCaller
from kleff.workstation.windows.native.structures import STRUCTURES, U32, P
from wine.headers import COMPILER, complaints

headers = pytest.mark.skipif(shutil.which(COMPILER) is None, reason=f"needs {COMPILER}, for its headers")


@headers
def test_the_tables_are_as_the_headers_have_them() -> None:
    assert complaints(FUNCTIONS, STRUCTURES, CONSTANTS, METHODS) == []


def test_every_function_of_the_table_is_called() -> None:
    """So that nothing stands in it which no test can show to be right."""
    top = Path(kleff.workstation.windows.__file__).parent
    text = "\n".join(file.read_text() for file in top.rglob("*.py") if file.name != "functions.py")
    assert [name for name in FUNCTIONS if not re.search(rf"""(?:api\.|"){name}\b""", text)] == []
    assert [name for name in CONSTANTS if len(re.findall(rf"\b{name}\b", text)) < 2] == []
    assert [name for name in STRUCTURES if len(re.findall(rf"\b{name}\b", text)) < 2] == []


class FILETIME(ctypes.Structure):
    """Its fields the other way round."""

    _fields_ = (("dwHighDateTime", U32), ("dwLowDateTime", U32))


class LUID(ctypes.Structure):
    _fields_ = (("LowPart", U32), ("HighPart", P))


@headers
def test_a_planted_mistake_is_found() -> None:
    """Of each sort; else the test above might hold whatever the tables say."""
    flush = FUNCTIONS["RegFlushKey"]
    planted = [
        flush._replace(arguments="pp"),
        FUNCTIONS["RegCloseKey"]._replace(arguments="d"),
        Function("advapi32", "RegFlushKeys", "status", "p", True),
        FUNCTIONS["RegLoadKeyW"]._replace(in_headers=False),
    ]
    made = {"FILETIME": FILETIME, "LUID": LUID}
    found = complaints({f.name: f for f in planted}, made, {"KEY_READ": 0x20018}, {"ITaskService": {"Connect": 9}})
    for expected in (
        "RegFlushKey: 2 arguments, the headers have 1", "argument 0 of RegCloseKey", "RegFlushKeys: the headers lack it",
        "RegLoadKeyW: the headers have it", "place of FILETIME.dwLowDateTime", "size of LUID", "value of KEY_READ",
        "place of ITaskService::Connect",
    ):  # fmt: skip
        assert any(expected in line for line in found), expected


@pytest.fixture
def local() -> LocalCaller:
    """What calls on a real Windows, with the C library of this machine in its place."""
    library = ctypes.CDLL(ctypes.util.find_library("c"), use_errno=True)
    return LocalCaller(Loading(lambda name: library, ctypes.get_errno, ctypes.set_errno))


def test_calls_in_this_process(local: LocalCaller) -> None:
    """Every sort of argument arrives, what is written comes back, and the error is the call's own."""
    assert local.call(Call("c", "abs", (-7 & 0xFFFFFFFF,))).result & 0xFFFFFFFF == 7
    assert local.call(Call("c", "strlen", (b"beds\0",))).result == 4
    target = bytearray(8)
    local.call(Call("c", "memcpy", (target, b"\x07\x01", 2)))
    assert number(target) == 0x107
    assert narrow(local.read(local.call(Call("c", "memchr", (wide("täg"), ord("t"), 8))).result, 0)) == ""
    opened = local.call(Call("c", "open", (b"/nowhere/at/all\0", 0)))
    assert (opened.result & 0xFFFFFFFF, opened.error) == (0xFFFFFFFF, errno.ENOENT)
    assert local.call(Call("c", "abs", (1,))).error == 0
    with allocated(local, b"shed\0") as address:
        assert local.call(Call("c", "strlen", (address,))).result == 4
        local.write(address, b"hoe\0")
        assert local.read(address, 4) == b"hoe\0"
        assert local.call_at(local.address_of("c", "strlen"), address).result == 3
    assert local.address_of("c", "no_such_function") == 0
    with pytest.raises(NotImplementedError, match="no_such_function"):
        local.call(Call("c", "no_such_function", ()))


class Says:
    """A caller that says what it is told to."""

    def __init__(self, result: int, error: int = 0) -> None:
        self.answer, self.made = (result, error), list[Call]()

    def __getattr__(self, name: str) -> object:
        raise AssertionError(name)

    def call(self, call: Call) -> object:
        from kleff.workstation.windows.native.caller import Answer

        self.made.append(call)
        return Answer(*self.answer)


def test_results_are_judged_by_what_they_mean() -> None:
    """What stands above a 32-bit result does not count; 0x80000000 and above is a failure only of an NTSTATUS."""
    rows = (
        ("RegCloseKey", (1,), 0xDEAD_0000_0000, 0, None), ("RegCloseKey", (1,), 5, 0, (5, errno.EACCES)),
        ("RegCloseKey", (1,), 2, 0, (2, errno.ENOENT)), ("NtDeleteKey", (1,), 0x103, 0, None),
        ("NtDeleteKey", (1,), 0xC0000022, 0, (0xC0000022, errno.EACCES)),
    )  # fmt: skip
    for name, arguments, result, error, expected in rows:
        api = Api(Says(result, error))  # type: ignore[arg-type]
        if expected is None:
            getattr(api, name)(*arguments)
            continue
        with pytest.raises(Failed) as caught:
            getattr(api, name)(*arguments)
        assert (caught.value.code, caught.value.errno) == expected
        assert name in str(caught.value)
    with pytest.raises(TypeError, match="takes 1 arguments"):
        Api(Says(0)).RegCloseKey(1, 2)  # type: ignore[arg-type]
