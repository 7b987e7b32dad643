"""What a system must have and lacks is not known, and never the same as absent; what it cannot have is absent, and is not counted."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from kleff.errors import Refused
from kleff.registry.registry import KeyRef
from memory import Bench, delete
from support import IS_ROOT, Kleff, linux_tree, procedure, write

NT = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion"
MIRA = r"HKU\S-1-5-21-1-2-3-1001"
SHELL = r"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
VARIABLES = {
    "%ProgramFiles%": (r"SOFTWARE\Microsoft\Windows\CurrentVersion", "ProgramFilesDir", 64),
    "%CommonProgramFiles%": (r"SOFTWARE\Microsoft\Windows\CurrentVersion", "CommonFilesDir", 64),
    "%CommonProgramFiles(x86)%": (r"SOFTWARE\Microsoft\Windows\CurrentVersion", "CommonFilesDir", 32),
    "%ProgramData%": (r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList", "ProgramData", 0),
    "%PUBLIC%": (r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList", "Public", 0),
}


@pytest.mark.parametrize("variable", list(VARIABLES))
def test_a_variable_that_every_windows_has(folder: Path, variable: str) -> None:
    """Set it is looked at and counted; unset nobody knows where that would be."""
    bench, (key, name, view) = Bench(folder), VARIABLES[variable]
    job = bench.job(f"[[delete]]\npaths = ['{variable}\\Hoe']\n")
    assert (job.verify().clean, job.verify().looked) == (True, 1)
    bench.on.api.delete_value("HKLM", KeyRef("HKLM", key, view).physical, name)
    told = bench.job(f"[[delete]]\npaths = ['{variable}\\Hoe']\n").verify()
    assert not told.clean
    assert [f.state for f in told.findings] == ["unreadable"]
    assert "is not set here, and every such system has it" in told.findings[0].reason
    with pytest.raises(Refused, match="what it protects cannot be known"):
        bench.job(f"[keep]\npaths = ['{variable}\\Hoe\\beds']\n" + delete(r"C:\Hoe")).preview()


def test_what_such_a_system_cannot_have(folder: Path) -> None:
    """It is absent, and no place: that nothing was found in no place proves nothing."""
    bench = Bench(folder, "linux")
    both = bench.job("[[delete]]\npaths = ['/opt/hoe']\n[[delete]]\nkey = 'HKCU\\Software\\Hoe'\n").verify()
    assert (both.clean, both.looked) == (True, 1)
    none = bench.job("[[delete]]\nkey = 'HKCU\\Software\\Hoe'\n").verify()
    assert (none.clean, none.looked) == (False, 0)
    assert none.findings[0].reason == "nothing was looked at"


@pytest.mark.parametrize("where", [r"\\server\home\mira", r"Z:\mira", "%NOWHERE%\\mira"])
def test_a_folder_of_an_account_that_is_elsewhere(folder: Path, where: str) -> None:
    """Of that account it is not known; of the others it is looked at."""
    bench = Bench(folder)
    bench.on.api.add(rf"{MIRA}\{SHELL}", Personal=where)
    actions = bench.plan("[[delete]]\npaths = ['{user.documents}\\Hoe']\n", phase="delete")
    assert {a.account: a.state for a in actions} == {"mira": "unreadable", "tomas": "absent"}
    assert where in actions[0].reason


@pytest.mark.parametrize(
    "step",
    [
        "[[delete]]\nshortcuts_to = 'C:\\Hoe\\**'\n", "[[delete]]\nrecent = 'C:\\Hoe\\**'\n", "[[delete]]\ntemp = 'hoe-beds-*'\n",
        "[[stop]]\nstartup = 'hoetray*'\n",
    ],
)  # fmt: skip
def test_what_is_odd_in_one_account_is_that_account_s(folder: Path, step: str) -> None:
    """The others' places are looked at, the run goes on, is not clean, and leaves no case that blocks."""
    bench = Bench(folder)
    for name in ("AppData", "Local AppData", "Programs", "Desktop"):
        bench.on.api.add(rf"{MIRA}\{SHELL}", **{name: r"\\server\home\mira"})
    bench.on.files.add(r"C:\Hoe\x", "x")
    planned = bench.plan(step)
    assert {a.account for a in planned if a.state == "unreadable"} == {"mira"}
    job, ended = bench.run(step + delete(r"C:\Hoe"))
    assert not ended.clean
    assert bench.names(r"C:\Hoe") == []
    assert job.undo().stays == []
    assert bench.names(r"C:\Hoe") == ["x"]


def test_settings_of_an_account_that_are_missing(kleff: Kleff, tmp_path: Path) -> None:
    """With its profile there they must be; without, nothing of it is."""
    lab, file = tmp_path / "lab", procedure(tmp_path / "p.toml", "[[delete]]\nkey = 'HKCU\\Software\\Hoe'\n")
    kleff("lab", "make", lab, "--plain", cases=False)
    assert "is gone" in kleff("verify", file, "--on", f"lab:{lab}").out
    hive = next(path for path in (lab / "registry/users").glob("*.reg"))
    hive.rename(tmp_path / "away.reg")
    told = kleff("verify", file, "--on", f"lab:{lab}", code=4).out
    assert "are not where they have to be" in told
    for home in (lab / "files/C/Users").iterdir():
        home.rename(tmp_path / home.name)
    assert "is gone" in kleff("verify", file, "--on", f"lab:{lab}").out


@pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")
class TestOnATree:
    """Traps that once were called gone."""

    def told(self, kleff: Kleff, top: Path, tmp_path: Path, body: str, code: int = 4) -> str:
        file = procedure(tmp_path / "p.toml", body)
        return kleff("verify", file, "--on", f"root:{top}", code=code).out

    @pytest.mark.parametrize("place", ["etc/systemd/system", "usr/lib/systemd/system"])
    def test_a_service_is_told_by_its_files(self, kleff: Kleff, tmp_path: Path, place: str) -> None:
        top, body = linux_tree(tmp_path / "tree"), "[[verify]]\nservice = 'hoed'\n"
        assert "is gone" in self.told(kleff, top, tmp_path, body, 0)
        write(top / place / "hoed.service", "[Service]\n")
        assert "service hoed" in self.told(kleff, top, tmp_path, body)

    def test_units_behind_a_link(self, kleff: Kleff, tmp_path: Path) -> None:
        top, body = linux_tree(tmp_path / "tree"), "[[delete]]\nunits_of = 'hoed'\n"
        write(top / "opt/units/hoed.service", "[Service]\n")
        (top / "etc/systemd").mkdir()
        (top / "etc/systemd/system").symlink_to("/opt/units")
        assert "what belongs to the units hoed" in self.told(kleff, top, tmp_path, body)
        config = top / "home/mira/.config"
        write(top / "home/mira/other/user/hoed.service", "[Service]\n")
        config.mkdir()
        (config / "systemd").symlink_to("/home/mira/other")
        assert "a link to /home/mira/other" in self.told(kleff, top, tmp_path, body)

    def test_a_package_database_that_is_not_there(self, kleff: Kleff, tmp_path: Path) -> None:
        top = linux_tree(tmp_path / "tree")
        (top / "var/lib/dpkg/status").unlink()
        file = procedure(tmp_path / "p.toml", "[[purge]]\npackage = 'hoe'\n")
        assert "which packages there are cannot be told" in kleff("verify", file, "--on", f"root:{top}", code=None).err

    def test_programs_of_the_system_are_not_looked_for_by_a_path_of_somebody_s(self, kleff: Kleff, tmp_path: Path) -> None:
        top = linux_tree(tmp_path / "tree")
        write(top / "var/lib/dpkg/status", "Package: hoe\nStatus: install ok installed\nArchitecture: all\nVersion: 1\nDescription: x\n")
        write(top / "var/lib/dpkg/info/hoe.list", "/.\n")
        file = procedure(tmp_path / "p.toml", "[[purge]]\npackage = 'hoe'\n")
        assert "hoe 1" in kleff("verify", file, "--on", f"root:{top}", code=4, env={"PATH": str(tmp_path)}).out

    @pytest.mark.parametrize("shared", [True, False])
    def test_the_trash_of_a_volume(self, kleff: Kleff, tmp_path: Path, shared: bool) -> None:
        """Of its topmost folder, whose places are told without it; that of another account is not its."""
        top = linux_tree(tmp_path / "tree")
        body = "[[delete]]\ntrash_of = ['/opt/hoe']\n"
        trash = top / (".Trash/1001" if shared else ".Trash-1001")
        write(trash / "info/beds.trashinfo", "[Trash Info]\nPath=opt/hoe/beds\n")
        write(trash / "files/beds")
        if shared:
            (top / ".Trash").chmod(0o1777)
        assert "is gone" in self.told(kleff, top, tmp_path, body, 0)
        for path in (trash, *trash.rglob("*")):
            os.chown(path, 1001, 1001)
        assert "to the trash" in self.told(kleff, top, tmp_path, body)
        file = procedure(tmp_path / "p.toml", body)
        kleff("run", file, "--on", f"root:{top}", "--yes")
        assert not (trash / "files/beds").exists()
        kleff("undo", kleff.case(), "--yes")
        assert (trash / "files/beds").exists()

    def test_a_place_in_the_home_s_own_trash_is_whole(self, kleff: Kleff, tmp_path: Path) -> None:
        """One that is not is no place of the product's, wherever it might lead."""
        top, trash = linux_tree(tmp_path / "tree"), tmp_path / "tree/home/mira/.local/share/Trash"
        write(trash / "info/beds.trashinfo", "[Trash Info]\nPath=hoe/beds\n")
        write(trash / "files/beds")
        assert "is gone" in self.told(kleff, top, tmp_path, "[[delete]]\ntrash_of = ['{user.local}/hoe']\n", 0)

    def test_a_command_of_an_account_s_own(self, kleff: Kleff, tmp_path: Path) -> None:
        top, body = linux_tree(tmp_path / "tree"), "[[verify]]\ncommand_missing = 'hoe'\n"
        assert "is gone" in self.told(kleff, top, tmp_path, body, 0)
        write(top / "home/tomas/.local/bin/hoe", "#!/bin/sh\n", 0o755)
        assert "found as /home/tomas/.local/bin/hoe" in self.told(kleff, top, tmp_path, body)

    def test_a_name_for_one_of_several_programs(self, kleff: Kleff, tmp_path: Path) -> None:
        """It stays, whoever names it: which program it stands for is the system's to say."""
        top = linux_tree(tmp_path / "tree")
        (top / "etc/alternatives").mkdir()
        (top / "etc/alternatives/pager").symlink_to("/opt/hoe/pager")
        (top / "usr/bin/pager").symlink_to("/etc/alternatives/pager")
        file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/usr/bin/pager']\n")
        assert "use  alternatives_to" in kleff("preview", file, "--on", f"root:{top}", code=3).out
