"""Uninstallers as they really behave: exit codes, hand-over, installer products, refusals, restarts, no quiet way."""

from __future__ import annotations

import json
import signal
import subprocess
from pathlib import Path
from typing import Any

import pytest

from kleff.engine.library import parse
from kleff.workstation.lab.build import LabBuilder
from support import Kleff, differences, hives, procedure, program_started, tree, until, write

UNINSTALL = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
FOLDER = r"C:\Program Files\Rakeworks\Hoe"
STEP = '[[uninstall]]\nentry = "Hoe*"\npatience = "10s"\n[[evidence]]\nentry = "Hoe*"\n'


def bench(
    top: Path, entry: dict[str, Any] | None = None, processes: list[str] | None = None, also: dict[str, dict[str, str]] | None = None,
    **behaviour: Any,
) -> Path:  # fmt: skip
    """A small lab with one product, `also` other keys, and an uninstaller that behaves as told."""
    build = LabBuilder(top, start=1_700_000_000)
    build.file(r"C:\Windows\System32\msiexec.exe", "MZ")
    for name in ("hoe.exe", "un.exe", r"data\soil.txt"):
        build.file(rf"{FOLDER}\{name}", name)
    build.file(r"C:\Users\mira\Documents\plan.txt", "mine")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", SystemRoot=r"C:\Windows")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion", ProgramFilesDir=r"C:\Program Files")
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    build.key(profiles, ProgramData=r"C:\ProgramData")
    build.key(rf"{profiles}\S-1-5-21-1-2-3-1001", ProfileImagePath=r"C:\Users\mira")
    build.key(r"HKU\S-1-5-21-1-2-3-1001\Software\Rakeworks", Own=1)
    build.key(r"HKLM\SYSTEM\Select", Current=1)
    values = {"DisplayName": "Hoe 2", "DisplayVersion": "2.0", "QuietUninstallString": rf"{FOLDER}\un.exe /s", **(entry or {})}
    build.values(rf"{UNINSTALL}\Hoe", {k: v for k, v in values.items() if v is not None})
    build.program(**{"path": rf"{FOLDER}\un.exe", "deletes": [FOLDER], "deletes_keys": [rf"{UNINSTALL}\Hoe"], **behaviour})
    for key, others in (also or {}).items():
        build.values(key, others)
    for name in processes or []:
        build.process(name=name, path=rf"{FOLDER}\{name}", account="mira")
    build.finish("BENCH-01", "bench-01", "a bench", [])
    return top


def test_zero_and_gone(kleff: Kleff, tmp_path: Path) -> None:
    """An unquoted program path with spaces in its registered command is understood."""
    lab = bench(tmp_path / "lab", prints="bye")
    done = kleff("run", procedure(tmp_path / "p.toml", STEP), "--on", f"lab:{lab}", "--yes")
    assert "nothing is left" in done.out
    assert not (lab / "files/C/Program Files/Rakeworks/Hoe").exists()
    assert any("bye" in p.read_text() for p in (kleff.case() / "output").iterdir())


@pytest.mark.parametrize(
    ("code", "meaning"), [(1603, "fatal error"), (1602, "asked a question"), (1618, "another installation"), (7, "exit code 7")]
)
def test_failures_stop_the_run_and_can_be_gone_past(kleff: Kleff, tmp_path: Path, code: int, meaning: str) -> None:
    lab = bench(tmp_path / "lab", exit=code, deletes=[], deletes_keys=[], prints="soil too wet")
    file = procedure(tmp_path / "p.toml", STEP + "[[delete]]\npaths = ['C:\\Program Files\\Rakeworks']\n")
    done = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1)
    assert meaning in done.err
    assert "soil too wet" in done.err
    assert f"kleff resume {kleff.case()}" in done.err
    assert (lab / "files/C/Program Files/Rakeworks/Hoe/hoe.exe").exists()
    blocked = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=3)
    assert "is unfinished" in blocked.err
    assert f"kleff undo {kleff.case()}" in blocked.err
    assert meaning in kleff("resume", kleff.case(), code=1).err
    assert "not one that could be skipped" in kleff("resume", kleff.case(), "--skip", 9, "--because", "x", code=2).err
    done = kleff("resume", kleff.case(), "--skip", 1, "--because", "vendor says so", code=4)
    assert "Hoe 2" in done.out  # still registered, so it is not gone
    assert "vendor says so" in kleff("report", kleff.case()).out


@pytest.mark.parametrize("code", [1605, 1614])
def test_not_there_is_told_apart(kleff: Kleff, tmp_path: Path, code: int) -> None:
    lab = bench(tmp_path / "lab", exit=code)
    kleff("run", procedure(tmp_path / "p.toml", STEP), "--on", f"lab:{lab}", "--yes")
    assert f"was not there (exit code {code})" in kleff("report", kleff.case()).out
    stubborn = bench(tmp_path / "lab2", exit=code, deletes_keys=[])
    kleff.cases = tmp_path / "cases2"
    assert "is still registered" in kleff("run", procedure(tmp_path / "q.toml", STEP), "--on", f"lab:{stubborn}", "--yes", code=1).err


def test_restart(kleff: Kleff, tmp_path: Path) -> None:
    """3010: the case waits; resume goes on only once the lab was really restarted, then does what was waiting."""
    lab = bench(tmp_path / "lab", exit=3010)
    steps = STEP + "[[delete]]\npaths = ['C:\\ProgramData\\Rakeworks']\nafter_restart = true\n"
    write(lab / "files/C/ProgramData/Rakeworks/late.txt")
    file = procedure(tmp_path / "p.toml", steps)
    done = kleff("run", file, "--on", f"lab:{lab}", "--yes", code=5)
    assert "a restart is needed" in done.err
    assert (lab / "files/C/ProgramData/Rakeworks/late.txt").exists()
    assert "not been restarted since" in kleff("resume", kleff.case(), code=5).err
    assert kleff("cases", "--json").json()["cases"][0]["state"] == "waiting"
    kleff("lab", "restart", lab)
    kleff("resume", kleff.case())
    assert not (lab / "files/C/ProgramData/Rakeworks").exists()
    assert kleff("cases", "--json").json()["cases"][0]["state"] == "finished"


def test_hand_over_is_followed_until_the_entry_is_gone(kleff: Kleff, tmp_path: Path) -> None:
    lab = bench(tmp_path / "lab", hands_over=True, takes=1.0)
    done = kleff("run", procedure(tmp_path / "p.toml", STEP), "--on", f"lab:{lab}", "--yes")
    assert "waiting until the product is no longer registered" in done.err
    assert "nothing is left" in done.out


def test_refuses_while_running_so_stop_comes_first(kleff: Kleff, tmp_path: Path) -> None:
    lab = bench(tmp_path / "lab", refuses_while=["hoe.exe"], refusal=9, processes=["hoe.exe"])
    file = procedure(tmp_path / "p.toml", STEP)
    assert "hoe.exe is running" in kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1).err
    kleff("undo", kleff.case(), "--yes")
    kleff("run", procedure(tmp_path / "q.toml", STEP + '[[stop]]\nprocess = "HOE.EXE"\n'), "--on", f"lab:{lab}", "--yes")


def test_installer_products_are_removed_by_their_code(kleff: Kleff, tmp_path: Path) -> None:
    """Never by the registered string, which would repair instead of remove."""
    code = "{11111111-2222-3333-4444-555555555555}"
    entry = {"QuietUninstallString": None, "UninstallString": f"MsiExec.exe /I{code}", "WindowsInstaller": 1}
    lab = bench(tmp_path / "lab", entry=entry, path="", product_code=code, needs="/x")
    file = procedure(tmp_path / "p.toml", STEP)
    assert f"runs: C:\\Windows\\System32\\msiexec.exe /x {code} /qn /norestart" in kleff("preview", file, "--on", f"lab:{lab}").out
    kleff("run", file, "--on", f"lab:{lab}", "--yes")


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        ({"QuietUninstallString": None, "UninstallString": rf"{FOLDER}\un.exe"}, "no quiet way is known"),
        ({"QuietUninstallString": r'"C:\Users\mira\un.exe" /s'}, "others than an administrator can change"),
        ({"QuietUninstallString": r"un.exe /s"}, "is not a path"),
        ({"QuietUninstallString": r'"C:\Nowhere\un.exe" /s'}, "is not there"),
    ],
)
def test_what_only_a_person_can_do(kleff: Kleff, tmp_path: Path, entry: dict[str, Any], why: str) -> None:
    lab = bench(tmp_path / "lab", entry=entry)
    write(lab / "files/C/Users/mira/un.exe", "MZ")
    file = procedure(tmp_path / "p.toml", STEP)
    action = next(a for a in kleff("preview", file, "--on", f"lab:{lab}", "--json").json()["actions"] if a["phase"] == "uninstall")
    assert (action["state"], why in action["reason"]) == ("manual", True)
    assert "by hand" in kleff("run", file, "--on", f"lab:{lab}", "--yes", code=1).err
    subprocess.run(["sed", "-i", "/^path = /d", lab / "lab.toml"], check=True)
    text = (lab / "registry/HKLM.reg").read_bytes().decode("utf-16-le")[1:]
    head, _, rest = text.partition(r"[HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe]")
    (lab / "registry/HKLM.reg").write_bytes(b"\xff\xfe" + (head + rest[rest.index("\r\n[") :]).encode("utf-16-le"))
    kleff("resume", kleff.case())  # done by hand meanwhile
    assert "done by hand" in kleff("report", kleff.case()).out


def test_an_entry_of_an_account_is_never_run_as_administrator(kleff: Kleff, lab: Path) -> None:
    key = r"[HKEY_USERS\S-1-5-21-2604417713-1180660424-3370910822-1001\Software\Microsoft\Windows\CurrentVersion\Uninstall\Sneaky]"
    file = next((lab / "registry/users").glob("*-1001.reg"))
    values = f'"DisplayName"="Sneaky"\r\n"QuietUninstallString"="{FOLDER}"\r\n'.replace("\\", "\\\\")
    file.write_bytes(file.read_bytes() + f"\r\n{key}\r\n{values}".encode("utf-16-le"))
    step = procedure(lab.parent / "p.toml", '[[uninstall]]\nentry = "Sneaky"\n')
    assert "registered by the account mira itself" in kleff("preview", step, "--on", f"lab:{lab}").out


def test_a_killed_run_waits_for_the_uninstaller_it_started(kleff: Kleff, tmp_path: Path) -> None:
    """It is not started twice."""
    lab = bench(tmp_path / "lab", takes=6.0, prints="only once")
    file = procedure(tmp_path / "p.toml", STEP)
    words = [str(kleff.program), "run", str(file), "--on", f"lab:{lab}", "--yes", "--cases", str(kleff.cases)]
    child = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert until(lambda: program_started(kleff.cases))
    child.send_signal(signal.SIGKILL)
    child.communicate()
    done = kleff("resume", kleff.case())
    assert "still at work: waiting for it" in done.err
    outputs = list((kleff.case() / "output").glob("*.txt"))
    assert [p.read_text().count("only once") for p in outputs] == [1]


def test_versions_outside_the_range_are_kept(kleff: Kleff, tmp_path: Path) -> None:
    lab = bench(tmp_path / "lab")
    before, keys = tree(lab / "files"), hives(lab)
    file = procedure(tmp_path / "p.toml", STEP, versions=">=3")
    found = kleff("survey", file, "--on", f"lab:{lab}", "--json").json()
    assert (found["present"], found["others"][0]["version"]) == (False, "2.0")
    assert "no case was made" in kleff("run", file, "--on", f"lab:{lab}", "--yes").err
    assert differences(before, tree(lab / "files")) == []
    assert differences(keys, hives(lab)) == []


def test_the_export_by_a_command(kleff: Kleff, tmp_path: Path) -> None:
    """Its listing is shown before; an empty one means that there is nothing to save; a failing export stops all."""
    for number, (listing, code, says) in enumerate((("a\nb\n", 0, "holds 2 things\n"), ("", 0, "nothing in it"))):
        lab = bench(tmp_path / f"lab{number}", answers={"list": listing, "export": "DUMP"})
        words = json.dumps([FOLDER + "\\un.exe", "export"])
        lists = json.dumps([FOLDER + "\\un.exe", "list"])
        file = procedure(tmp_path / "p.toml", f'{STEP}[[backup]]\nlabel="db"\ncommand={words}\nlists={lists}\nsaves_as="db.txt"\n')
        kleff.cases = tmp_path / f"cases{number}"
        assert says in kleff("preview", file, "--on", f"lab:{lab}").out
        assert ("holds 2 things: a, b" in kleff("preview", file, "--on", f"lab:{lab}", "--show-items").out) == bool(listing)
        kleff("run", file, "--on", f"lab:{lab}", "--yes", code=code)
        assert [p.read_text() for p in kleff.case().glob("bag/data/*/db.txt")] == (["DUMP"] if listing else [])


@pytest.mark.parametrize(
    ("step", "said"),
    [
        ("entry = '*'", "means every product"), ("entry = '?*'", "means every product"),
        ("entry = '*'\npublisher = '*'", "means every product"),
        ("publisher = '*'", "means every product"), ("entry = '*'\npublisher = 'Rakeworks'", ""), ("entry = 'Hoe*'", ""),
    ],
)  # fmt: skip
def test_a_name_that_means_everything(kleff: Kleff, tmp_path: Path, step: str, said: str) -> None:
    """A case that was begun when it was allowed goes on."""
    file = procedure(tmp_path / "p.toml", f"[[uninstall]]\n{step}\n")
    assert said in kleff("check", file, code=2 if said else 0, cases=False).out
    assert parse(file.read_bytes(), "p.toml", 2).steps
