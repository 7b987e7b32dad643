"""What Kleff adds to bare calls of Windows functions, on Wine, paired in one run: a walk through the registry, a folder set aside.

    python benchmarks/windows_calls.py [PAIRS] [PREFIX]

PREFIX is one as the tests make it, in which nothing runs (default: a new one). Needs what the tests on Wine need. Bare: the same
functions called one by one, with nothing made of what they give.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import KeyRef, Registry
from kleff.workstation.paths import WPath
from kleff.workstation.windows.native import constants as c
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import Answer, Call, number
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.registry import WindowsRegistry
from wine.prefix import HERE, compiled, end, make
from wine.remote import RemoteCaller

TOP = r"SOFTWARE\Classes"


def bare(caller: RemoteCaller, path: str) -> int:
    """Open, count, list names and values, close: each a call of its own. Returns how many keys there are."""
    handle = bytearray(8)
    access = c.KEY_READ | c.KEY_WOW64_64KEY
    caller.call(Call("advapi32", "RegOpenKeyExW", (c.HKEY_LOCAL_MACHINE, path, c.REG_OPTION_OPEN_LINK, access, handle)))
    key, sizes = number(handle), [bytearray(4) for _ in range(5)]
    counts = (None, None, None, sizes[0], sizes[1], None, sizes[2], sizes[3], sizes[4], None, None)
    caller.call(Call("advapi32", "RegQueryInfoKeyW", (key, *counts)))
    names = []
    for at in range(number(sizes[0])):
        name = bytearray(2 * number(sizes[1]) + 2)
        length = bytearray((number(sizes[1]) + 1).to_bytes(4, "little"))
        caller.call(Call("advapi32", "RegEnumKeyExW", (key, at, name, length, None, None, None, None)))
        names.append(name[: 2 * number(length)].decode("utf-16-le"))
    for at in range(number(sizes[2])):
        name, data = bytearray(2 * number(sizes[3]) + 2), bytearray(max(number(sizes[4]), 1))
        length, size = (bytearray(n.to_bytes(4, "little")) for n in (number(sizes[3]) + 1, number(sizes[4])))
        caller.call(Call("advapi32", "RegEnumValueW", (key, at, name, length, None, bytearray(4), data, size)))
    caller.call(Call("advapi32", "RegCloseKey", (key,)))
    return 1 + sum(bare(caller, f"{path}\\{name}") for name in names)


class Counting:
    """Passes calls on, and counts them."""

    def __init__(self, under: RemoteCaller) -> None:
        self.under, self.made = under, Counter[str]()

    def __getattr__(self, name: str) -> object:
        return getattr(self.under, name)

    def call(self, call: Call) -> Answer:
        self.made[call.function] += 1
        return self.under.call(call)

    def batch(self, calls: Sequence[Call]) -> list[Answer]:
        self.made.update(call.function for call in calls)
        return self.under.batch(calls)


def timed(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def main() -> None:
    pairs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as folder:
        helper = compiled(HERE / "callhost.c", Path(folder) / "callhost.exe")
        prefix = Path(sys.argv[2]) if len(sys.argv) > 2 else Path(folder) / "prefix"
        if not prefix.exists():
            make(prefix, helper)
        caller = RemoteCaller(helper, prefix)
        try:
            measure(caller, prefix, pairs)
        finally:
            caller.close()
            end(prefix)


def measure(caller: RemoteCaller, prefix: Path, pairs: int) -> None:
    api = Api(caller)
    registry = Registry(WindowsRegistry(api, Hives(api, str)))
    key, keys = KeyRef("HKLM", TOP), bare(caller, TOP)
    found = [(timed(lambda: registry.tree(key)), timed(lambda: bare(caller, TOP))) for _ in range(pairs)]
    ours, peer = (statistics.median(column) for column in zip(*found, strict=True))
    ratios = sorted(a / b for a, b in found)
    print("| what | ours, s | bare calls, s | ratio |\n|---|---|---|---|")
    print(f"| {keys:,} keys with their values | {ours:.2f} | {peer:.2f} | {ours / peer:.2f} ({ratios[0]:.2f}..{ratios[-1]:.2f}) |")
    top = prefix / "drive_c/many"
    top.mkdir()
    for at in range(1000):
        (top / f"{at}.txt").write_text("x")
    counting = Counting(caller)
    files = NtTree(Api(counting), {"C:": prefix / "drive_c"})  # type: ignore[arg-type]
    with files.folder(WPath(WINDOWS, "C:", ())) as drive:
        drive.make_folder("aside")
        with drive.folder("aside") as aside:
            counting.made.clear()
            drive.rename("many", aside, "many")
    calls, renames = sum(counting.made.values()), counting.made["NtSetInformationFile"]
    print(f"\n1,000 files set aside as one folder: {calls} calls, {renames} of them a rename")


if __name__ == "__main__":
    main()
