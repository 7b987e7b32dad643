"""Hostile input: what reads procedures, bags, journals, `lab.toml` and `.reg` text, fed with anything.

Each target takes bytes. Whatever they are, the only thing that may come out is an error for a person (KleffError, or an
OSError, which the command line turns into one line too), and nothing but the target's own folder may change.
"""

from __future__ import annotations

import hashlib
import io
import random
import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from pathlib import Path

import zstandard

from kleff.case.bag.archive import MemberSource, check_archive, write_archive
from kleff.case.bag.harmless import check_harmless
from kleff.case.bag.opened import open_bag
from kleff.case.guard.guard import Guard
from kleff.case.hands import Hands
from kleff.case.record.folder import create_case, open_case
from kleff.case.undo import undo_case
from kleff.engine.cases.restore import Wanted, plan_restore
from kleff.engine.cases.rows import record_plan, rows
from kleff.engine.cases.run import Runner
from kleff.engine.checking.advice import advice
from kleff.engine.context import make_context
from kleff.engine.library import parse
from kleff.engine.plan import Planning
from kleff.errors import KleffError
from kleff.objects.base.restoring import Restoring
from kleff.progress import Silent
from kleff.registry import regfile
from kleff.registry.values import number_value, text_value
from kleff.report.case_report import report_document, report_markdown, report_page
from kleff.report.documents import encode
from kleff.report.making import preview_document
from kleff.workstation.open import open_workstation
from support import linux_tree, write

CORPUS = Path(__file__).parent / "corpus"
STEPS = b"""format = 1
[product]
id = "press"
name = "Brindlewort Press"
[[evidence]]
path = '/opt/brindlewort'
[[backup]]
label = "settings"
paths = ['{user.home}/.brindlewort']
[[delete]]
paths = ['/opt/brindlewort/**', '{user.home}/.brindlewort']
"""
ALLOWED = (KleffError, OSError)


def _every_windows_has() -> regfile.RegKey:
    """A registry that has nothing but the system's variables."""
    top, current = regfile.RegKey("HKLM"), ["Microsoft", "Windows", "CurrentVersion"]
    for node, ending in (([], ""), (["WOW6432Node"], " (x86)")):
        key = top.make(["SOFTWARE", *node, *current])
        key.set(text_value("ProgramFilesDir", f"C:\\Program Files{ending}"))
        key.set(text_value("CommonFilesDir", f"C:\\Program Files{ending}\\Common Files"))
    profiles = top.make(["SOFTWARE", "Microsoft", "Windows NT", "CurrentVersion", "ProfileList"])
    profiles.set(text_value("ProgramData", r"C:\ProgramData"))
    profiles.set(text_value("Public", r"C:\Users\Public"))
    return top


class Bench:
    """A small tree with a finished case, and a lab; made once, copied where a target changes them."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="kleff-fuzz-"))
        self.tree = linux_tree(self.folder / "tree")
        for name in ("one", "sub/two", "sub/three"):
            write(self.tree / "opt/brindlewort" / name, name * 20)
        write(self.tree / "home/mira/.brindlewort/x.ini", "x = 1\n")
        self.spec = f"root:{self.tree}"
        self._finish()
        self.outside = write(self.folder / "outside/precious", "precious")
        self.lab = self.folder / "lab"
        for name in ("files/C", "registry"):
            (self.lab / name).mkdir(parents=True)
        write(self.lab / "registry/HKLM.reg", regfile.encode(regfile.format_hive("HKLM", _every_windows_has())))

    def _finish(self) -> None:
        workstation = open_workstation(self.spec)
        here = make_context(workstation, parse(STEPS, "p.toml"))
        plan = Planning.whole(here).plan()
        case = create_case(self.folder / "cases", workstation, STEPS, "press", procedure_name="p.toml", product="Brindlewort Press")
        record_plan(case, plan)
        Runner(here, case, Silent()).run()
        case.close()
        self.case = case.folder
        self.journal = (self.case / "case.db").read_bytes()

    def close(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)


def feed_procedure(bench: Bench, data: bytes) -> None:
    """Loaded, advised on, planned on a tree and on a lab; nothing is changed by that."""
    procedure = parse(data, "p.toml")
    advice(procedure)
    for spec in (bench.spec, f"lab:{bench.lab}"):
        if spec.startswith("lab:"):
            write(bench.lab / "lab.toml", 'format = 1\nname = "B"\nid = "b"\n')
        here = make_context(open_workstation(spec), procedure)
        encode(preview_document(here, Planning.whole(here).plan(), []))


def feed_reg(bench: Bench, data: bytes) -> None:
    """Parsed; what was understood is written and understood again."""
    tree = regfile.parse(regfile.decode(data, "x.reg"), "x.reg")
    for key in tree.keys.values():
        text = regfile.format_hive(key.name, key)
        again = regfile.parse(regfile.decode(regfile.encode(text), "y.reg"), "y.reg")
        assert again.count()[1] == key.count()[1], "values are lost on the way"


def feed_lab(bench: Bench, data: bytes) -> None:
    """Opened, and a procedure previewed on it."""
    write(bench.lab / "lab.toml", data)
    Planning.whole(make_context(open_workstation(f"lab:{bench.lab}"), parse(STEPS, "p.toml"))).plan()


def feed_journal(bench: Bench, data: bytes) -> None:
    """Reported and taken back: from a journal that is a file of bytes, or the good one with some cells changed."""
    folder = bench.folder / "copy"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(bench.case, folder)
    if data.startswith(b"SQLite"):
        (folder / "case.db").write_bytes(data)
    else:
        _change_cells(folder / "case.db", data)
    try:
        with open_case(folder) as case:
            encode(report_document(case))
            report_markdown(case)
            report_page(case).text()
            rows(case)
        with open_case(folder, writable=True) as case:
            workstation = open_workstation(bench.spec)
            undo_case(Hands(workstation, case, Guard(workstation), Silent()))
    finally:
        _stands_again(bench)


def _stands_again(bench: Bench) -> None:
    """Whatever an undo by a changed journal did, it did it to this tree; a fresh one for the next."""
    assert bench.outside.read_bytes() == b"precious"
    if (bench.tree / "opt/brindlewort/one").exists() or not any((bench.tree / ".kleff").rglob("*")):
        shutil.rmtree(bench.folder / "cases")
        shutil.rmtree(bench.tree)
        linux_tree(bench.tree)
        for name in ("one", "sub/two", "sub/three"):
            write(bench.tree / "opt/brindlewort" / name, name * 20)
        write(bench.tree / "home/mira/.brindlewort/x.ini", "x = 1\n")
        bench._finish()


CELLS = [
    ("effects", "data"), ("effects", "place"), ("effects", "kind"), ("effects", "state"), ("effects", "action"), ("actions", "plan"),
    ("actions", "state"), ("actions", "note"), ("actions", "items"), ("meta", "value"), ("events", "text"), ("bag", "sha256"),
]  # fmt: skip


def _change_cells(file: Path, data: bytes) -> None:
    """Change a cell for every stretch of the data: its first byte chooses where, the second how, the rest is put in."""
    with sqlite3.connect(file) as db:
        for piece in data.split(b"\xff\xff")[:4]:
            if len(piece) < 3:
                continue
            table, column = CELLS[piece[0] % len(CELLS)]
            found = db.execute(
                f"SELECT rowid, {column} FROM {table}" if table not in ("meta", "bag") else f"SELECT 0, {column} FROM {table}"
            )
            cells = found.fetchall()
            if not cells:
                continue
            old = cells[piece[1] % len(cells)][1]
            raw = old.encode() if isinstance(old, str) else bytes(old) if isinstance(old, bytes) else str(old).encode()
            at = piece[2] % (len(raw) + 1)
            new = raw[:at] + piece[3:] + raw[at + (piece[1] >> 4) :]
            value = new.decode("utf-8", "replace") if isinstance(old, str) else new
            try:
                db.execute(f"UPDATE {table} SET {column}=? WHERE {column} IS ?", (value, old))
            except sqlite3.IntegrityError:
                continue
    db.close()


def feed_bag(bench: Bench, data: bytes) -> None:
    """Checked as before a removal: one file of it is the data, chosen by its first byte."""
    folder = bench.folder / "bag"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(bench.case / "bag", folder)
    files = sorted(p for p in folder.rglob("*") if p.is_file())
    target = files[data[0] % len(files)] if data else files[0]
    was = target.read_bytes()
    target.write_bytes(data[1:])
    open_bag(folder)
    assert data[1:] == was or target.name == "tagmanifest-sha256.txt", f"a changed {target.name} passed"


def feed_archive(bench: Bench, data: bytes) -> None:
    """An archive with an index that fits the good one."""
    source, good = bench.tree / "opt/brindlewort", bench.folder / "good.tar.zst"
    files = open_workstation(bench.spec).files
    place = files.path("/home/mira") if not source.exists() else files.path("/opt")
    assert place is not None
    if not good.exists():
        bench.index = write_archive(good, [MemberSource(place)], files, True, Silent())  # type: ignore[attr-defined]
    (bench.folder / "bad.tar.zst").write_bytes(data)
    check_archive(bench.folder / "bad.tar.zst", bench.index, Silent())  # type: ignore[attr-defined]


def feed_restore(bench: Bench, data: bytes) -> None:
    """A carried bag with checksums that fit: one index is the data, or one archive is what it says uncompressed; planned to the end."""
    folder = bench.folder / "carried"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(bench.case / "bag", folder)
    ending = ".index.json" if data[:1] < b"\x80" else ".tar.zst"
    target = sorted((folder / "data").glob(f"*{ending}"))[0]
    target.write_bytes(data[1:] if ending == ".index.json" else zstandard.ZstdCompressor().compress(data[1:]))
    payload = sorted(p for p in (folder / "data").rglob("*") if p.is_file())
    tags = [folder / n for n in ("bagit.txt", "bag-info.txt", "manifest-sha256.txt")]
    for name, files in (("manifest-sha256.txt", payload), ("tagmanifest-sha256.txt", tags)):
        sums = (f"{hashlib.sha256(p.read_bytes()).hexdigest()}  {p.relative_to(folder)}\n" for p in files)
        (folder / name).write_text("".join(sums))
    bag = open_bag(folder)
    check_harmless(bag)
    workstation = open_workstation(bench.spec)
    here = make_context(workstation, parse(STEPS, "p.toml"))
    plan_restore(Restoring(here, bag, own=False), Wanted())


TARGETS: dict[str, Callable[[Bench, bytes], None]] = {
    "procedure": feed_procedure,
    "reg": feed_reg,
    "lab": feed_lab,
    "journal": feed_journal,
    "bag": feed_bag,
    "archive": feed_archive,
    "restore": feed_restore,
}


def fed(target: str, bench: Bench, data: bytes) -> bool:
    """Feed once. Returns whether it was accepted; anything but an error for a person is raised."""
    try:
        TARGETS[target](bench, data)
    except ALLOWED:
        return False
    return True


def seeds(target: str, bench: Bench) -> list[bytes]:
    """What to begin with: the corpus, and what the program itself writes."""
    corpus = [p.read_bytes() for p in sorted((CORPUS / target).glob("*"))] if (CORPUS / target).is_dir() else []
    cells = [b"\x00\x00\x05x", b"\x05\x01\x09{}"] if target == "journal" else []
    return [*corpus, *cells, *own(target, bench)]


def own(target: str, bench: Bench) -> list[bytes]:
    """What the program itself writes, or ships: every reader has to accept it."""
    found: list[bytes] = []
    samples = Path(__file__).parent.parent / "src/kleff/samples"
    if target == "procedure":
        found += [STEPS, *(p.read_bytes() for p in sorted(samples.glob("*.toml")))]
    elif target == "journal":
        found.append(bench.journal)
    elif target == "bag":
        found += [bytes([n]) + p.read_bytes() for n, p in enumerate(sorted(q for q in (bench.case / "bag").rglob("*") if q.is_file()))]
    elif target == "restore":
        data = bench.case / "bag/data"
        found += [b"\x00" + p.read_bytes() for p in sorted(data.glob("*.index.json"))]
        found += [
            b"\xff" + zstandard.ZstdDecompressor().stream_reader(io.BytesIO(p.read_bytes())).read() for p in sorted(data.glob("*.zst"))
        ]
    elif target == "reg":
        key = regfile.RegKey("HKLM")
        key.make(["SOFTWARE", "Brindlewort"]).set(number_value("Rows", 3))
        found.append(regfile.encode(regfile.format_hive("HKLM", key)))
    elif target == "lab":
        found.append(b'format = 1\nname = "B"\nid = "b"\n')
    elif target == "archive":
        feed_first = b""
        fed("archive", bench, feed_first)
        found.append((bench.folder / "good.tar.zst").read_bytes())
    return found


TOKENS: dict[str, list[bytes]] = {
    "procedure": [
        b"[[delete]]\n",
        b"[[backup]]\n",
        b"paths = ['",
        b"key = 'HKLM\\Software\\",
        b"{user.home}",
        b"**",
        b"{",
        b"}}",
        b"%ProgramFiles%",
        b"..",
        b"\\\\?\\",
        b"at_most = 1\n",
        b'versions = ">=4"\n',
        b"when = ",
        b"[product]\n",
        b"entry = ",
        b"[a-",
        b"{{",
        b"\x00",
        b"\xff",
        b"1e999",
    ],
    "reg": [
        b"[HKEY_LOCAL_MACHINE\\",
        b"]",
        b'"a"="b"\r\n',
        b"dword:",
        b"hex(7):",
        b"\\\r\n",
        b"@=",
        b"-",
        b"\xff\xfe",
        b"Windows Registry Editor Version 5.00",
    ],
    "lab": [
        b"[[program]]\n",
        b"[[process]]\n",
        b"path = 'C:\\",
        b"takes = inf\n",
        b"bits = ",
        b"name = ",
        b"{ a = 1 }",
        b"\x00",
        b"id = '..'\n",
    ],
    "journal": [
        b"\xff\xff",
        b"..",
        b"\x00",
        b'"',
        b"{}",
        b"[]",
        b"null",
        b"-1",
        b"99999999999999999999",
        b"/etc",
        b"moved",
        b"done",
        b"undone",
    ],
    "bag": [b"  data/../", b"/", b"\n", b"BagIt-Version: ", b"\x00", b"data/"],
    "restore": [
        b'"..',
        b'"Li4A',
        b'"mode": 4095',
        b'"type": "link"',
        b'"hard link"',
        b"\x00" * 512,
        b"11 path=/x\n",
        b"null",
        b"[]",
        b'"user.home"',
    ],
    "archive": [b"\x28\xb5\x2f\xfd", b"ustar\x00", b"\x00" * 512, b"path=../../x", b"99999999999"],
}


def mutated(chance: random.Random, known: list[bytes], tokens: list[bytes]) -> bytes:
    """A few random edits of something known."""
    data = bytearray(chance.choice(known))
    for _ in range(chance.choice((1, 1, 2, 3, 6))):
        at = chance.randrange(len(data) + 1)
        how = chance.randrange(7)
        if how == 0:
            data[at:at] = chance.choice(tokens)
        elif how == 1:
            del data[at : at + chance.choice((1, 2, 8, 64, 400))]
        elif how == 2 and at < len(data):
            data[at] ^= 1 << chance.randrange(8)
        elif how == 3:
            data[at:at] = bytes(chance.randrange(256) for _ in range(chance.randrange(1, 9)))
        elif how == 4:
            other = chance.choice(known)
            begin = chance.randrange(len(other) + 1)
            data[at:at] = other[begin : begin + chance.randrange(1, 200)]
        elif how == 5:
            data[at : at + 200] = data[at : at + 200] * 2
        else:
            data[at : at + chance.randrange(1, 9)] = chance.choice(tokens)
    return bytes(data)
