"""Packages that nothing needs: which, since when, for what; and how those that are chosen go, and come back."""

from __future__ import annotations

import gzip
import shutil
from pathlib import Path

import jsonschema
import pexpect
import pytest

from debs import NEEDED, build, dpkg, states
from kleff.errors import UsageError
from kleff.report.documents import schema
from kleff.report.unneeded import unneeded_page
from kleff.search.unneeded import chosen, unneeded
from memory import Bench
from support import IS_ROOT, Kleff, differences, linux_tree, tree, write

OLD = """
Start-Date: 2026-02-03  08:15:00
Commandline: apt-get install brindlewort-bridge
Install: libbrindle1:amd64 (1.3-1, automatic), brindlewort-bridge:amd64 (4.1.0-1)
End-Date: 2026-02-03  08:15:09
"""
NEW = """
Start-Date: 2026-05-06  10:20:30
Commandline: apt-get install brindlewort-bridge brindlewort-stocktake
Requested-By: mira (1001)
Install: libbrindle1:amd64 (1.4-2, automatic), brindlewort-bridge:amd64 (4.2.0-1), brindlewort-stocktake:amd64 (2.1.0-1)
Upgrade: libc6:amd64 (2.36-1, 2.36-2)
End-Date: 2026-05-06  10:20:39
"""


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    packages = bench.on.packages
    paths = {
        "rake": "/usr/bin/rake", "libhoe1": "/usr/lib/libhoe.so.1", "libhoe-data": "/usr/share/hoe/beds", "hoe-tools": "/usr/bin/hoe",
        "hoe-desk": "/usr/share/applications/hoe.desktop", "linux-image-6.1.0-9": "/boot/vmlinuz-6.1.0-9", "libneeded2": "/usr/lib/n.so",
    }  # fmt: skip
    for name, path in paths.items():
        packages.add(name, "1.0", [path])
    packages.needs = {"rake": ["libneeded2"]}
    packages.automatic = {"libhoe1", "libhoe-data", "hoe-tools", "hoe-desk", "linux-image-6.1.0-9", "libneeded2"}
    return bench


def test_what_somebody_starts_is_shown_only_on_request(folder: Path) -> None:
    workstation = shed(folder).on.open()
    assert [(p.number, p.name) for p in unneeded(workstation)] == [(1, "libhoe-data"), (2, "libhoe1")]
    everything = unneeded(workstation, everything=True)
    assert [p.name for p in everything] == ["hoe-desk", "hoe-tools", "libhoe-data", "libhoe1", "linux-image-6.1.0-9"]
    assert [p.sort for p in everything] == ["program", "program", "library", "library", "kernel"]
    page = unneeded_page(workstation, everything, True).text(width=80)
    assert "programs that somebody uses may be among them" in page
    assert max(map(len, page.splitlines())) <= 80


def test_a_selection(folder: Path) -> None:
    found = unneeded(shed(folder).on.open(), everything=True)

    def names(selection: str) -> list[str]:
        return [p.name for p in chosen(found, selection)]

    assert names("2-3, hoe-desk,3") == ["hoe-tools", "libhoe-data", "hoe-desk"]
    assert names("lib*") == ["libhoe-data", "libhoe1"]
    assert len(names("all")) == 5
    assert names("") == []
    for wrong in ("9", "7-8", "libneeded2", "z*", "2-", "-1", "1;2"):
        with pytest.raises(UsageError, match="is none of those that are listed"):
            names(wrong)


missing = [n for n in (*NEEDED, "apt-get") if shutil.which(n) is None]


@pytest.mark.skipif(not IS_ROOT, reason="works in another tree, which needs root")
@pytest.mark.skipif(bool(missing), reason=f"needs {', '.join(missing)}")
def test_by_real_dpkg_and_apt(kleff: Kleff, tmp_path: Path) -> None:
    """Listed with its history, removed as a case of its own, taken back."""
    top = linux_tree(tmp_path / "tree")
    dpkg(top, "-i", *build(tmp_path / "debs", scripts=False))
    write(top / "var/lib/apt/extended_states", "Package: libbrindle1\nArchitecture: all\nAuto-Installed: 1\n\n")
    write(top / "var/log/apt/history.log", NEW)
    write(top / "var/log/apt/history.log.1.gz", gzip.compress(OLD.encode()))
    on = ("--on", f"root:{top}")
    before = tree(top)
    assert "none" in kleff("unneeded", *on).out
    assert differences(before, tree(top)) == []
    dpkg(top, "--remove", "brindlewort-bridge")
    shown = kleff("unneeded", *on, "--json").json()
    jsonschema.validate(shown, schema("unneeded"))
    library, rest = shown["packages"]
    assert {k: library[k] for k in ("name", "sort", "since", "brought_by", "command")} == {
        "name": "libbrindle1", "sort": "library", "since": "2026-05-06T10:20:30",
        "brought_by": ["brindlewort-bridge", "brindlewort-stocktake"],
        "command": "apt-get install brindlewort-bridge brindlewort-stocktake",
    }  # fmt: skip
    assert (rest["name"], rest["sort"]) == ("brindlewort-bridge", "configuration")
    assert "libbrindle1" in kleff("unneeded", *on, "--all").out
    assert "brindlewort-bridge  " not in kleff("unneeded", *on, "--all").out
    assert "'hoe' is none of those that are listed" in kleff("unneeded", *on, "--remove", "hoe", "--yes", code=2).err
    terminal = [*map(str, on), "--cases", str(kleff.cases)]
    child = pexpect.spawn(str(kleff.program), ["unneeded", *terminal], encoding="utf-8", timeout=60, dimensions=(60, 160))
    child.expect("Remove which")
    child.sendline("1-2")
    child.expect(r"Purge[^\n]*unneeded packages")
    child.expect(r"Do this on .*\[y/N\] ")
    child.sendline("y")
    child.expect("The selection of unneeded packages is gone")
    child.expect(pexpect.EOF)
    assert states(top) == {"brindlewort-stocktake": "ii"}
    kleff("undo", kleff.case(), "--yes")
    assert states(top) == {"libbrindle1": "ii", "brindlewort-bridge": "rc", "brindlewort-stocktake": "ii"}
    assert "libbrindle1" in kleff("unneeded", *on).out
    assert "unneeded-packages" in (kleff.case().name)
