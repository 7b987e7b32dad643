"""Saving: what is left out, what is no file, what changes meanwhile, what was synchronised; archives and their reader."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import tarfile
import time
from base64 import b64decode
from pathlib import Path
from typing import Any

import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from kleff.case.bag import pax
from kleff.registry.values import number_value, text_value
from kleff.workstation.lab.workstation import open_lab
from support import IS_ROOT, Kleff, linux_tree, procedure, write

GARDEN = "[[delete]]\npaths = ['C:\\Garden']\n"


def items(case: Path) -> list[dict[str, Any]]:
    return [json.loads(p.read_text()) for p in sorted((case / "bag/data").glob("*.index.json"))]


def test_only_some_names(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """`only` chooses files, `not` leaves out files and whole folders; the preview counts the same."""
    for name in ("plan.pdf", "Plan.PDF.bak", "cache/thumb.pdf", "sub/beds.pdf", "sub/beds.tmp"):
        write(lab / "files/C/Garden" / name, "12345")
    body = "[[backup]]\nlabel = 'plans'\npaths = ['C:\\Garden']\nonly = ['*.pdf']\nnot = ['CACHE']\n"
    file = procedure(tmp_path / "p.toml", body + GARDEN)
    assert "2 files, 10 B" in kleff("preview", file, "--on", f"lab:{lab}").out
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    found = [m["path"] for m in items(kleff.case())[0]["members"] if m["type"] == "file"]
    assert found == [r"C:\Garden\plan.pdf", r"C:\Garden\sub\beds.pdf"]


def test_what_is_no_file(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Facts are in the report, private ones as dots and nowhere but in the bag; a service with its key."""
    body = r"""
[[backup]]
label = "facts"
fact = "licence key"
in_file = '%ProgramData%\Brindlewort\licence.bwl'
pattern = 'key = (\S+)'
private = true
[[backup]]
label = "facts"
fact = "version"
in_value = "DisplayVersion"
in_key = 'HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\Tag Studio 4'
[[backup]]
label = "facts"
fact = "last bed"
told_by = ['%ProgramFiles%\Brindlewort\Tag Studio 4\bin\tagdb.exe', 'list']
pattern = "Bed 40: .*"
[[backup]]
label = "facts"
fact = "changed by"
in_value = "By"
in_key = 'HKCU\Software\Brindlewort\Tag Studio'
[[backup]]
label = "probe driver"
driver = "Brindlewort soil probe*"
[[backup]]
label = "service"
service = "BrindlewortPrintBridge"
"""
    write(lab / "files/C/Garden/x")
    registry = open_lab(lab).registry
    assert registry is not None
    path = r"SYSTEM\ControlSet001\Services\bwprobe"
    registry.api.create("HKLM", path + r"\Parameters")
    for value in (number_value("Type", 1), number_value("Start", 3), text_value("DisplayName", "Brindlewort soil probe 4")):
        registry.api.set("HKLM", path, value)
    registry.api.flush()
    file = procedure(tmp_path / "p.toml", body + GARDEN)
    out = kleff("preview", file, "--on", f"lab:{lab}").out
    assert "7F2A-PLUM" not in out
    assert "••••••" in out
    assert "4.2.0" in out
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    case, report = kleff.case(), kleff("report", kleff.case()).out
    assert "version - 4.2.0" in report
    assert "last bed - Bed 40: " in report
    assert [f"changed by [{n}] - {n}" in report for n in ("mira", "tomas", "till")] == [True] * 3
    assert "licence key - ••••••" in report
    holding = [p.name for p in case.rglob("*") if p.is_file() and b"7F2A-PLUM" in p.read_bytes()]
    assert holding == ["001-facts.index.json"]
    saved = items(case)
    assert saved[0]["settings"] == {"value": "7F2A-PLUM-0049-FERN", "private": True}
    assert (saved[-2]["object"], saved[-2]["name"], saved[-2]["settings"]) == ("driver", "bwprobe", {"start": "manual"})
    assert saved[-1]["settings"] == {"title": "Brindlewort print bridge", "start": "automatic", "running": "yes"}
    exported = json.loads((case / f"bag/data/{saved[-1]['exports'][0]}.json").read_text())
    values = {v["name"]: b64decode(v["raw"]).decode("utf-16-le") for key in exported["keys"] for v in key["values"] if v["type"] in (1, 2)}
    assert values["ImagePath"].rstrip("\0").endswith('printbridge.exe"')
    shown = kleff("restore", case, "--dry-run").out
    assert "7F2A-PLUM" not in shown


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_packages_and_who_chose_them(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    from debs import build

    packages = build(tmp_path / "debs", scripts=False)
    subprocess.run(["dpkg", f"--root={top}", "--force-not-root", "--force-depends", "-i", *packages], check=True, capture_output=True)
    write(top / "var/lib/apt/extended_states", "Package: brindlewort-bridge\nArchitecture: all\nAuto-Installed: 1\n")
    body = "[[backup]]\nlabel = 'packages'\npackages = 'brindlewort*'\n[[delete]]\npaths = ['/opt/none']\n[[delete]]\npaths = ['/srv/x']\n"
    write(top / "srv/x")
    kleff("run", procedure(tmp_path / "p.toml", body), "--on", f"root:{top}", "--yes")
    item = items(kleff.case())[0]
    listed = {p["name"].partition(":")[0]: p["chosen"] for p in item["settings"]["packages"]}
    assert listed == {"brindlewort-bridge": "along", "brindlewort-stocktake": "by hand"}
    assert any(m["path"].startswith("/etc/brindlewort") for m in item["members"])
    assert "by hand" in kleff("restore", kleff.case(), "--dry-run").out


def test_what_is_in_the_persons_own_account_is_not_saved(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """If the synchronisation was at work lately: said for each account."""
    for name, age in (("mira", 1), ("tomas", 20)):
        done = write(lab / f"files/C/Users/{name}/Documents/Tag Studio/.synced")
        os.utime(done, (time.time() - age * 86400,) * 2)
    body = "[[backup]]\nlabel = 'designs'\npaths = ['{user.documents}\\Tag Studio\\**']\n"
    body += "unless_synced = { path = '{user.documents}\\Tag Studio\\.synced', newer_than = '7d' }\n"
    write(lab / "files/C/Garden/x")
    file = procedure(tmp_path / "p.toml", body + GARDEN)
    plan = kleff("preview", file, "--on", f"lab:{lab}", "--json").json()["actions"]
    assert {a["account"]: a["state"] for a in plan if a["phase"] == "backup"} == {"mira": "kept", "tomas": "to do", "till": "to do"}
    kleff("run", file, "--on", f"lab:{lab}", "--yes")
    assert {i["account"] for i in items(kleff.case())} == {"tomas", "till"}


def test_what_need_not_be_saved_does_not_stop_the_run(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """`required = false`: a failure is reported, and what can be removed is removed."""
    command = "command = ['%ProgramFiles%\\Brindlewort\\Tag Studio 4\\bin\\tagdb.exe', 'export']\nsaves_as = 'x.sql'\n"
    body = f"[[backup]]\nlabel = 'logs'\nrequired = {{}}\n{command}[[delete]]\npaths = ['C:\\Garden']\n"
    database = lab / "files/C/ProgramData/Brindlewort/Tag Studio/labels.db"
    database.write_text("")
    write(lab / "files/C/Garden/x")
    strict = procedure(tmp_path / "p.toml", body.replace("{}", "true"))
    assert "exported nothing" in kleff("run", strict, "--on", f"lab:{lab}", "--yes", code=1).err
    assert (lab / "files/C/Garden/x").exists()
    kleff("undo", kleff.case(), "--yes")
    kleff("run", procedure(tmp_path / "q.toml", body.replace("{}", "false")), "--on", f"lab:{lab}", "--yes", code=4)
    assert not (lab / "files/C/Garden/x").exists()


# -- archives -----------------------------------------------------------------------------------------------------

BYTES = st.binary(min_size=1, max_size=300).filter(lambda b: b"\0" not in b)
HEADS = st.builds(
    pax.Header,
    name=st.from_regex(rb"[a-z%.]([a-z/%.]{0,298}[a-z%.])?", fullmatch=True),
    kind=st.sampled_from([pax.FILE, pax.FOLDER, pax.LINK]),
    size=st.integers(0, 3000),
    mode=st.integers(0, 0o7777),
    uid=st.integers(0, 2**32 - 1),
    gid=st.integers(0, 2**32 - 1),
    mtime=st.integers(0, 2**62),
    link=BYTES,
    owner=st.from_regex(rb"[a-z]{0,40}", fullmatch=True),
    extended=st.dictionaries(st.just(b"SCHILY.xattr.user.x"), st.binary(max_size=200), max_size=1),
)


@given(st.lists(HEADS, max_size=6))
@settings(max_examples=80, deadline=None)
def test_archives_are_read_as_they_were_written(heads: list[pax.Header]) -> None:
    """By our reader exactly, and by the standard library's as far as that goes."""
    raw = b""
    for head in heads:
        if head.kind != pax.FILE:
            head.size = 0
        if head.kind != pax.LINK:
            head.link = b""
        raw += pax.pack(head) + b"x" * head.size + pax.fill(head.size)
    raw += pax.END
    reader = pax.Reader(io.BytesIO(raw).read)
    found = [(head, sum(map(len, reader.content()))) for head in reader.headers()]
    assert [h for h, _ in found] == heads
    assert [n for _, n in found] == [h.size for h in heads]
    with tarfile.open(fileobj=io.BytesIO(raw)) as archive:
        assert [m.name.encode("utf-8", "surrogateescape") for m in archive] == [h.name for h in heads]
        assert [(m.size, m.uid, m.gid, m.mode) for m in archive] == [(h.size, h.uid, h.gid, h.mode) for h in heads]


@given(st.binary(max_size=2000), st.integers(0, 3000))
@settings(max_examples=150, deadline=None)
def test_the_reader_takes_nothing_else(noise: bytes, at: int) -> None:
    """Damage is said, never followed; nothing but its own error comes out."""
    raw = bytearray(pax.pack(pax.Header(b"a/b", pax.FILE, 700)) + b"x" * 700 + pax.fill(700) + pax.END)
    assert [header.size for header in pax.Reader(io.BytesIO(bytes(raw)).read).headers()] == [700]
    raw[at : at + len(noise)] = noise
    reader = pax.Reader(io.BytesIO(bytes(raw)).read)
    try:
        for _ in reader.headers():
            for _ in reader.content():
                pass
    except pax.BadArchive:
        pass


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
def test_memory_is_flat(kleff: Kleff, tmp_path: Path) -> None:
    """10,000 small files and a large one (3 GiB where KLEFF_LARGE is set): under 150 MB."""
    top = linux_tree(tmp_path / "tree")
    for number in range(10_000):
        if number % 100 == 0:
            (top / f"opt/garden/{number}").mkdir(parents=True)
        (top / f"opt/garden/{number // 100 * 100}/{number}").write_bytes(b"x" * (number % 700))
    large = 3 << 30 if os.environ.get("KLEFF_LARGE") else 64 << 20
    with (top / "opt/garden/large").open("wb") as file:
        for start in range(0, large, 1 << 20):
            file.write(os.urandom(1 << 10) * 1024 if start % (16 << 20) == 0 else b"bed " * (1 << 18))
    body = "[[backup]]\nlabel = 'all'\npaths = ['/opt/garden']\n[[delete]]\npaths = ['/opt/garden']\n"

    def most(*words: object) -> float:
        """MiB that a command needs at most."""
        told = "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, stdout=2); "
        told += "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
        command = [sys.executable, "-c", told, kleff.program, *words, "--on", f"root:{top}", "--yes", "--quiet", "--cases", kleff.cases]
        done = subprocess.run([str(c) for c in command], capture_output=True, text=True, timeout=900)
        assert done.returncode == 0, done.stderr
        return int(done.stdout) / 1024

    assert most("run", procedure(tmp_path / "p.toml", body), "--without-evidence") < 150
    case = kleff.case()
    kleff("discard", case, "--yes")
    assert most("restore", case) < 150
    assert (top / "opt/garden/large").stat().st_size == large
    archive = next((case / "bag/data").glob("*.zst"))
    with archive.open("rb") as raw:
        assert zstandard.get_frame_parameters(raw.read(32)).has_checksum
