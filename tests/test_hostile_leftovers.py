"""A workstation that is against it: links that lead out, lists and files beyond all measure. Nothing outside is touched, a line each."""

from __future__ import annotations

import os
from pathlib import Path

from kleff.registry.values import REG_LINK, RegValue, text_value
from memory import Bench, states
from needs.lab import put
from support import Kleff, differences, hives, procedure, tree
from test_shortcuts import made

STUDIO = r"C:\Program Files\Brindlewort\Tag Studio"
MENU = r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs"


def test_links_that_lead_out(tmp_path: Path) -> None:
    """A junction to the system's folder goes as a link; one in the way of a path is refused; a key that is a link stays a leaf."""
    bench = Bench(tmp_path)
    add, api = bench.on.files.add, bench.on.api
    add(rf"{STUDIO}\studio.exe", "MZ")
    add(rf"{STUDIO}\system", target=r"C:\Windows")
    add(r"C:\Windows\System32\drivers\etc\hosts", "127.0.0.1 bridge.brindlewort.example\r\n")
    add(r"C:\ProgramData\Brindlewort\etc", target=r"C:\Windows\System32\drivers\etc")
    add(rf"{MENU}\loop", target=MENU)
    add(rf"{MENU}\itself.lnk", made(rf"{MENU}\itself.lnk"))
    add(rf"{MENU}\studio.lnk", made(rf"{STUDIO}\studio.exe"))
    target = RegValue("SymbolicLinkValue", REG_LINK, r"\Registry\Machine\SOFTWARE\Classes".encode("utf-16-le"))
    api.create("HKLM", r"SOFTWARE\Brindlewort\Own")
    api.make_link("HKLM", r"SOFTWARE\Brindlewort\Link", target)
    api.create("HKLM", r"SOFTWARE\Classes\Stays")
    steps = f"""
[[delete]]
paths = ['{STUDIO}']
[[delete]]
shortcuts_to = '{STUDIO}\\**'
[[delete]]
key_glob = 'HKLM\\SOFTWARE\\Brindlewort\\*'
value_contains = {{ name = "any", text = "thing" }}
[[delete]]
key = 'HKLM\\SOFTWARE\\Brindlewort'
"""
    before = bench.files
    job, ended = bench.run(steps)
    assert ended.clean
    assert bench.on.files.look(bench.on.files.path(r"C:\Windows\System32\drivers\etc\hosts")) is not None
    assert "itself.lnk" in bench.names(MENU)
    assert "studio.lnk" not in bench.names(MENU)
    assert api.subkeys("HKLM", r"SOFTWARE\Classes") == ["Stays"]
    assert job.undo().stays == []
    assert bench.files == before


def test_a_file_reached_by_a_link_of_somebody(tmp_path: Path) -> None:
    """A folder in a home that leads to the system's: lines are taken out of nothing through it."""
    bench = Bench(tmp_path)
    bench.on.files.add(r"C:\Windows\System32\drivers\etc\hosts", "10.0.0.5 bridge.brindlewort.example\r\n")
    bench.on.files.add(r"C:\Users\mira\AppData\Roaming\Brindlewort", target=r"C:\Windows\System32\drivers\etc")
    step = "[[delete]]\nlines = 'bridge.brindlewort.example'\nin_file = '{user.roaming}\\Brindlewort\\hosts'\n"
    before = bench.files
    found = [a for a in bench.plan(step) if a.account == "mira"]
    assert [(a.state, "link" in a.reason) for a in found] == [("unreadable", True)] or [a.state for a in found] == ["refused"]
    assert bench.files == before


def test_a_list_of_ten_thousand_items(tmp_path: Path) -> None:
    bench = Bench(tmp_path)
    place = r"SYSTEM\ControlSet001\Control\Session Manager\Environment"
    items = [rf"C:\Tools\{n}" for n in range(10_000)]
    items[5_000:5_000] = [rf"{STUDIO}\bin"]
    bench.on.api.create("HKLM", place)
    bench.on.api.set("HKLM", place, text_value("Path", ";".join(items)))
    before = bench.on.api.values("HKLM", place)[0].raw
    key = place.replace("ControlSet001", "CurrentControlSet")
    step = f"[[delete]]\nlist_item = '{STUDIO}\\bin'\nin_value = 'Path'\nin_key = 'HKLM\\{key}'\n"
    job, ended = bench.run(step)
    assert ended.clean
    assert bench.on.api.values("HKLM", place)[0].text.count(";") == 9_999
    job.undo()
    assert bench.on.api.values("HKLM", place)[0].raw == before


def test_a_text_file_of_500_mb(kleff: Kleff, tmp_path: Path) -> None:
    """Told in a line, without being read; so is one that is no text."""
    lab = tmp_path / "lab"
    put(lab, {"file": [{"path": r"C:\ProgramData\Shared\big.ini"}, {"path": r"C:\ProgramData\Shared\odd.ini"}]})
    os.truncate(lab / "files/C/ProgramData/Shared/big.ini", 500 << 20)
    (lab / "files/C/ProgramData/Shared/odd.ini").write_bytes("[Brindlewort]\r\n".encode("utf-16-le"))
    before = hives(lab)
    steps = "".join(f"[[delete]]\nsection = 'Brindlewort'\nin_file = 'C:\\ProgramData\\Shared\\{name}.ini'\n" for name in ("big", "odd"))
    own = procedure(tmp_path / "p.toml", steps)
    shown = kleff("preview", own, "--on", f"lab:{lab}").out
    assert shown.count("is longer than 8 MiB") == 1
    assert shown.count("is no text in an encoding that is known here") == 1
    ended = kleff("run", own, "--on", f"lab:{lab}", "--yes", code=None)
    assert ended.code in (1, 3, 4)
    assert hives(lab) == before
    assert (lab / "files/C/ProgramData/Shared/big.ini").stat().st_size == 500 << 20


def test_a_bin_and_a_registry_full_of_nonsense(tmp_path: Path) -> None:
    """What lies in bins and in the register of classes is whatever programs have left there."""
    bench = Bench(tmp_path)
    for number in range(200):
        bench.on.files.add(rf"C:\$Recycle.Bin\S-1-5-21-1-2-3-1001\$I{number:06d}", os.urandom(number))
        bench.on.files.add(rf"C:\$Recycle.Bin\S-1-5-21-1-2-3-1001\$R{number:06d}", b"x")
        key = rf"SOFTWARE\Classes\CLSID\{{{number}}}\InprocServer32"
        bench.on.api.create("HKLM", key)
        bench.on.api.set("HKLM", key, RegValue("", number % 12, os.urandom(number)))
    rules = r"SYSTEM\ControlSet001\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules"
    bench.on.api.create("HKLM", rules)
    bench.on.api.set("HKLM", rules, RegValue("odd", 1, b"|=|App=\0"))
    steps = f"[[delete]]\ntrash_of = ['{STUDIO}']\n[[delete]]\ncom_class = '{STUDIO}\\**'\n[[delete]]\nfirewall = '{STUDIO}\\**'\n"
    before = bench.files
    assert {state for state, _ in states(bench.plan(steps)).values()} == {"absent"}
    assert bench.files == before


def test_a_folder_and_its_lock_end_in_a_line_each(kleff: Kleff, tmp_path: Path) -> None:
    """Held, with the restart refused by the procedure: one line that names who holds it, and nothing outside is touched."""
    lab = tmp_path / "lab"
    program = r"C:\Program Files\Stocktake\Stocktake\stocktake.exe"
    held = r"C:\ProgramData\Brindlewort\beds.db"
    put(lab, {"file": [{"path": held}], "process": [{"name": "stocktake.exe", "path": program, "locks": [held]}]})
    before = tree(lab / "files")
    own = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['%ProgramData%\\Brindlewort']\n", restart="never")
    said = kleff("run", own, "--on", f"lab:{lab}", "--yes", code=1).err
    assert said.count(r"beds.db is in use by stocktake.exe, number") == 1
    assert differences(before, tree(lab / "files")) == []
