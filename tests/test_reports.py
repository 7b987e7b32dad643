"""What a technician reads: advice, lists of cases, reports in every state and form."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from kleff.registry.registry import Registry
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.linux.packages.dpkg import Dpkg
from kleff.workstation.linux.packages.policy import POLICY
from kleff.workstation.linux.workstation import open_root
from support import Kleff, linux_tree, procedure, write
from test_entries import STEP, bench


def test_advice(kleff: Kleff, tmp_path: Path) -> None:
    steps = "[[uninstall]]\nentry = \"X\"\n[[delete]]\npaths = ['C:\\X\\**']\n"
    out = kleff("check", procedure(tmp_path / "p.toml", steps)).out
    for text in (
        "saves nothing",
        "no [[verify]]",
        "when it was reviewed",
        "touches every version",
        "names no publisher",
        "deletes by '**'",
    ):
        assert text in out
    lines = [int(m) for m in re.findall(r"p\.toml:(\d+): advice", out)]
    assert lines == sorted(lines)
    assert "valid" in out
    labelled = "[[backup]]\npaths = ['C:\\X']\n"
    assert "has no label" in kleff("check", procedure(tmp_path / "q.toml", labelled)).out


def test_cases_in_every_state(kleff: Kleff, tmp_path: Path) -> None:
    """The list names the commands that finish what is unfinished."""
    broken = bench(tmp_path / "broken", exit=1603, deletes=[], deletes_keys=[])
    waiting = bench(tmp_path / "waiting", exit=3010)
    good = bench(tmp_path / "good")
    file = procedure(tmp_path / "p.toml", STEP)
    kleff("run", file, "--on", f"lab:{broken}", "--yes", "--ticket", "T-open", code=1)
    kleff("run", file, "--on", f"lab:{waiting}", "--yes", "--ticket", "T-waiting", code=5)
    kleff("run", file, "--on", f"lab:{good}", "--yes", "--ticket", "T-done")
    found = {c["ticket"]: c for c in kleff("cases", "--json").json()["cases"]}
    assert {t: c["state"] for t, c in found.items()} == {"T-open": "open", "T-waiting": "waiting", "T-done": "finished"}
    out = kleff("cases").out
    for ticket in ("T-open", "T-waiting"):
        assert f"finish it: {kleff.program} resume {found[ticket]['folder']}" in out
    assert f"resume {found['T-done']['folder']}" not in out
    texts = {t: kleff("report", c["folder"]).out for t, c in found.items()}
    assert (
        "stopped: the case is open; failed: the uninstaller of Hoe 2 (2.0) ended with exit code 1603 (fatal error during removal)"
        in texts["T-open"]
    )
    assert "waiting for a restart" in texts["T-waiting"]
    assert "asks for a restart; it removed" in texts["T-waiting"]
    assert "gone: looked at" in texts["T-done"]
    kleff("undo", found["T-done"]["id"], "--yes")
    assert "taken back" in kleff("report", found["T-done"]["id"]).out.splitlines()[0]


def test_a_report_for_the_ticket(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--ticket", "AR-17 | *urgent*", "--technician", "Ida `x`")
    text = kleff("report", kleff.case(), "--format", "markdown").out
    assert text.startswith("# Case ")
    assert "| Ticket | `AR-17 \\| *urgent*` |" in text
    assert "| Technician | `` Ida `x` `` |" in text
    assert "## Saved in the bag" in text
    assert r"`4  licence: C:\ProgramData\Brindlewort\licence.bwl, 1 file, 83 B" in text
    kleff("report", kleff.case(), "--format", "markdown", "--output", tmp_path / "r.md")
    assert (tmp_path / "r.md").read_text().rstrip() == text.rstrip()
    kleff("report", kleff.case(), "--output", tmp_path / "r.txt")
    assert "\x1b" not in (tmp_path / "r.txt").read_text()


def test_quiet_is_quiet(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    assert kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--quiet").err == ""
    assert kleff("undo", kleff.case(), "--yes", "--quiet").err == ""


def test_procedures_by_their_id(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    library = tmp_path / "library"
    library.mkdir()
    shutil.copy(tag_studio, library)
    write(library / "broken.toml", "format = 1\n[product")
    on = ("--library", library, "--on", f"lab:{lab}")
    assert "is on this workstation" in kleff("survey", "tag-studio", *on).out
    found = kleff("list", *on, "--json").json()["procedures"]
    assert [(p["id"], p["valid"], p["present"]) for p in found] == [("broken", False, None), ("tag-studio", True, True)]
    out = kleff("list", *on).out
    assert "not valid" in out
    assert "here" in out


def test_our_policy_file_goes_and_a_foreign_one_stays(tmp_path: Path) -> None:
    """A killed removal may have left ours in a tree; what an administrator put there is not touched."""
    top = linux_tree(tmp_path / "tree")
    policy = write(top / "usr/sbin/policy-rc.d", POLICY, 0o755)
    before = (top / "usr/sbin").stat().st_mtime_ns
    packages = open_root(top).packages
    assert isinstance(packages, Dpkg)
    packages.clear_up()
    assert not policy.exists()
    assert (top / "usr/sbin").stat().st_mtime_ns == before
    write(policy, "#!/bin/sh\nexit 0\n", 0o755)
    packages.clear_up()
    assert policy.exists()


def test_a_32_bit_system_has_one_view(lab: Path) -> None:
    found = open_lab(lab).registry
    assert found is not None
    narrow = Registry(found.api, bits=32)
    assert [str(k) for k in narrow.canonical(r"HKLM\Software\Brindlewort")] == [r"HKLM\Software\Brindlewort"]
    assert narrow.canonical(r"HKLM\Software\Wow6432Node\X") == []


@pytest.mark.parametrize(
    ("text", "folder"),
    [
        (r"{program_files}\Brindlewort", [r"C:\Program Files\Brindlewort", r"C:\Program Files (x86)\Brindlewort"]),
        (r"%ProgramFiles(x86)%\Brindlewort", [r"C:\Program Files (x86)\Brindlewort"]),
        (r"%ProgramData%\Brindlewort", [r"C:\ProgramData\Brindlewort"]),
        (r"{system}\notepad.exe", [r"C:\Windows\System32\notepad.exe"]),
        (r"{temp}\setup.log", [r"C:\Windows\Temp\setup.log"]),
        (r"%AppData%\Brindlewort", [rf"C:\Users\{n}\AppData\Roaming\Brindlewort" for n in ("mira", "till", "tomas")]),
        (
            r"{user.menu}\X.lnk",
            [rf"C:\Users\{n}\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\X.lnk" for n in ("mira", "till", "tomas")],
        ),
        (r"{public}\X", [r"C:\Users\Public\X"]),
        (r"%SystemDrive%\X", [r"C:\X"]),
    ],
)
def test_what_variables_mean_on_a_windows_workstation(kleff: Kleff, lab: Path, tmp_path: Path, text: str, folder: list[str]) -> None:
    file = procedure(tmp_path / "p.toml", f"[[backup]]\nlabel = 'x'\npaths = ['{text}']\n")
    actions = kleff("preview", file, "--on", f"lab:{lab}", "--json").json()["actions"]
    assert [a["target"] for a in actions] == folder
