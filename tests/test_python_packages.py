"""Packages of Python environments, installed by a real installer: removed by their own records, and there again after undo."""

from __future__ import annotations

import errno
import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from kleff.workstation.memory.tree import MemoryTree
from kleff.workstation.paths import WPath
from memory import Bench
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write
from test_growth import python_package

SITE = f"lib/python{sys.version_info[0]}.{sys.version_info[1]}/site-packages"
pip = subprocess.run([sys.executable, "-m", "pip", "--version"], capture_output=True).returncode == 0
pytestmark = [
    pytest.mark.skipif(not IS_ROOT, reason="needs root: homes of accounts"),
    pytest.mark.skipif(not pip, reason="needs pip"),
]
# name: what it needs
PROJECTS = {
    "hoe-labels": ["hoe_core", "beds>=1"],
    "hoe_core": ["Soil.Data"],
    "soil-data": [],
    "beds": [],
    "rake": ["beds"],
    "hoe-plugin": ["hoe-labels"],
}


def wheels(folder: Path) -> Path:
    """Made-up packages, each with a module, a package, data, and a program (PyPA specifications, Binary distribution format)."""
    folder.mkdir()
    for name, needs in PROJECTS.items():
        plain = name.replace("-", "_")
        info = f"{plain}-1.2.dist-info"
        files = {
            f"{plain}/__init__.py": "def main():\n    print('beds')\n", f"{plain}/data/soil.csv": "ph\n7\n", f"{plain}_extra.py": "x = 1\n",
            f"{info}/METADATA": f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.2\n" + "".join(f"Requires-Dist: {n}\n" for n in needs),
            f"{info}/WHEEL": "Wheel-Version: 1.0\nGenerator: made up\nRoot-Is-Purelib: true\nTag: py3-none-any\n",
            f"{info}/entry_points.txt": f"[console_scripts]\n{name}-run = {plain}:main\n",
        }  # fmt: skip
        record = "".join(f"{path},,\n" for path in (*files, f"{info}/RECORD"))
        with zipfile.ZipFile(folder / f"{plain}-1.2-py3-none-any.whl", "w") as made:
            for path, text in {**files, f"{info}/RECORD": record}.items():
                made.writestr(path, text)
    return folder


def install(base: Path, links: Path, *names: str) -> None:
    words = [sys.executable, "-m", "pip", "install", "-q", "--no-index", "--no-warn-script-location", "--ignore-installed"]
    subprocess.run([*words, "--prefix", base, "--find-links", links, *names], check=True, capture_output=True)


def listed(base: Path) -> set[str]:
    words = [sys.executable, "-m", "pip", "list", "--path", base / SITE, "--format", "json"]
    return {one["name"] for one in json.loads(subprocess.run(words, capture_output=True, check=True).stdout)}


@pytest.fixture
def top(tmp_path: Path) -> Path:
    """Mira has the package with what it needs, and another that needs part of it; Tomas has it as a tool with an environment of its own."""
    top, links = linux_tree(tmp_path / "tree"), wheels(tmp_path / "wheels")
    install(top / "home/mira/.local", links, "hoe-labels", "rake")
    venv = top / "home/tomas/.local/share/pipx/venvs/hoe-labels"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", venv], check=True)
    write(venv / SITE / "hoe_labels-1.2.dist-info/METADATA", "Name: hoe-labels\nVersion: 1.2\n")
    write(venv / "bin/hoe-labels-run", "#!/bin/sh\n", 0o755)
    bin_folder = top / "home/tomas/.local/bin"
    bin_folder.mkdir(parents=True)
    (bin_folder / "hoe-labels-run").symlink_to("/home/tomas/.local/share/pipx/venvs/hoe-labels/bin/hoe-labels-run")
    (bin_folder / "other").symlink_to("/home/tomas/other")
    for account, uid in (("mira", 1001), ("tomas", 1002)):
        for path in [top / "home" / account, *(top / "home" / account).rglob("*")]:
            os.chown(path, uid, uid, follow_symlinks=False)
    return top


def test_removed_by_its_record_and_back(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    body = (
        "[[evidence]]\npython = 'Hoe_Labels'\n[[purge]]\npython = 'hoe-labels'\ncame_along = 'these'\n[[verify]]\npython = 'hoe-labels'\n"
    )
    file, base, before = procedure(tmp_path / "p.toml", body), top / "home/mira/.local", tree(top)
    assert listed(base) == {"hoe-labels", "hoe_core", "soil-data", "beds", "rake"}
    survey = kleff("survey", file, "--on", f"root:{top}").out
    assert "hoe-labels (1.2)" in survey
    assert "mira" in survey
    shown = kleff("preview", file, "--on", f"root:{top}").out
    assert "hoe_core 1.2, soil-data 1.2" in shown
    assert "hoe-labels 1.2, with its environment" in shown
    assert "is gone" in kleff("run", file, "--on", f"root:{top}", "--yes").out
    assert listed(base) == {"beds", "rake"}
    assert not [p for p in base.rglob("*") if "hoe" in p.name or "soil_data" in p.name]
    assert (base / "bin/rake-run").exists()
    assert sorted(p.name for p in (top / "home/tomas/.local/bin").iterdir()) == ["other"]
    assert not (top / "home/tomas/.local/share/pipx/venvs/hoe-labels").exists()
    kleff("undo", next(kleff.cases.iterdir()).name, "--yes")
    assert [d for d in differences(before, tree(top)) if "kleff" not in d] == []
    assert listed(base) == {"hoe-labels", "hoe_core", "soil-data", "beds", "rake"}


def test_what_needs_it_and_what_stays(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """Refused with what needs it; allowed, it goes too; what came along is told, and stays where nobody says that it goes."""
    install(top / "home/mira/.local", tmp_path / "wheels", "hoe-plugin")
    base, body = top / "home/mira/.local", "[[purge]]\npython = 'hoe-labels'\naccounts = ['mira']\n"
    file = procedure(tmp_path / "p.toml", body)
    assert "hoe-plugin needs it and would go too" in kleff("run", file, "--on", f"root:{top}", "--yes", code=3).err
    file = procedure(tmp_path / "p.toml", body + "allows = ['hoe-plugin']\n")
    assert 'came_along = "these"' in kleff("preview", file, "--on", f"root:{top}").out
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert listed(base) == {"beds", "rake", "hoe_core", "soil-data"}
    assert (top / "home/tomas/.local/share/pipx/venvs/hoe-labels").exists()
    wide = procedure(tmp_path / "w.toml", "[[purge]]\npython = '*'\n")
    assert "at least 4 letters" in kleff("check", wide, code=2).out


def test_what_a_package_of_the_system_owns_stays(folder: Path) -> None:
    """A Python package that the system's package manager has installed is not taken off beside it."""
    bench = Bench(folder, "linux")
    site, files = "/usr/lib/python3/dist-packages", ("hoe_labels/__init__.py", "hoe_labels-1.2.dist-info/METADATA")
    bench.on.packages.add("python3-hoe-labels", "1.2", [f"{site}/{name}" for name in files])
    for name, text in (("METADATA", "Name: hoe-labels\nVersion: 1.2\n"), ("RECORD", "".join(f"{name},,\n" for name in files))):
        path = bench.on.files.path(f"{site}/hoe_labels-1.2.dist-info/{name}")
        if bench.on.files.look(path) is not None:
            bench.on.files.remove_single(path)
        bench.on.files.add(str(path), text)
    before = bench.files
    (action,) = bench.plan("[[purge]]\npython = 'hoe-labels'\nin_environment = '/usr'\n", phase="purge")
    assert (action.state, "python3-hoe-labels, which stays" in action.reason) == ("kept", True)
    bench.run("[[purge]]\npython = 'hoe-labels'\nin_environment = '/usr'\n")
    assert {k: v for k, v in bench.files.items() if "dist-packages" in k} == {k: v for k, v in before.items() if "dist-packages" in k}


def test_a_record_that_leads_elsewhere(kleff: Kleff, top: Path, tmp_path: Path) -> None:
    """A record is no order: what lies outside its environment, or is another's, is not touched."""
    base = top / "home/mira/.local"
    (record,) = base.glob("lib/python3*/site-packages/hoe_labels-1.2.dist-info/RECORD")
    notes = write(top / "home/mira/Documents/notes.txt", "mira's own")
    record.write_text(
        record.read_text() + "../../../../Documents/notes.txt,,\n/home/mira/Documents/notes.txt,,\n../../../..,,\n/etc/passwd,,\n"
    )
    file = procedure(tmp_path / "p.toml", "[[purge]]\npython = 'hoe-labels'\naccounts = ['mira']\n")
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert "hoe-labels" not in listed(base)
    assert notes.read_text() == "mira's own"
    assert listed(base) >= {"beds", "rake"}
    assert (base / "bin/rake-run").exists()
    assert (top / "etc/passwd").exists()


def test_a_tool_where_pipx_puts_it_by_itself(kleff: Kleff, tmp_path: Path) -> None:
    """In a folder of its own directly below .local, where the system's own folders stand too."""
    top = linux_tree(tmp_path / "tree")
    venv = top / "home/mira/.local/pipx/venvs/hoe-labels"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", venv], check=True)
    write(venv / SITE / "hoe_labels-1.2.dist-info/METADATA", "Name: hoe-labels\nVersion: 1.2\n")
    write(top / "home/mira/.local/share/other/kept", "kept")
    for path in [top / "home/mira", *(top / "home/mira").rglob("*")]:
        os.chown(path, 1001, 1001, follow_symlinks=False)
    before, on = tree(top), f"root:{top}"
    file = procedure(tmp_path / "p.toml", "[[purge]]\npython = 'hoe-labels'\n")
    kleff("run", file, "--on", on, "--yes")
    assert not venv.exists()
    kleff("undo", kleff.case(), "--yes")
    assert [d for d in differences(before, tree(top)) if "var/lib/kleff" not in d] == []
    for path in (".local", ".local/share", ".local/pi*"):
        own = procedure(tmp_path / "q.toml", f"[[delete]]\npaths = ['{{user.home}}/{path}']\n")
        kleff("run", own, "--on", on, "--yes", code=3)


def test_a_folder_that_cannot_be_looked_into_does_not_go(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is not taken for one in which nothing of others lies."""
    bench = Bench(folder, "linux")
    step = python_package(bench, 3)
    before, names = bench.files, MemoryTree.names

    def broken(self: MemoryTree, path: WPath) -> list[str]:
        if path.name == "hoe_labels":
            raise OSError(errno.EIO, "Input/output error", str(path))
        return names(self, path)

    monkeypatch.setattr(MemoryTree, "names", broken)
    assert {a.state for a in bench.plan(step, phase="purge")} == {"unreadable"}
    assert bench.files == before


def _pipe(file: Path) -> None:
    file.unlink()
    os.mkfifo(file)


def _folder(file: Path) -> None:
    file.unlink()
    file.mkdir()


ODD = {
    "a pipe as METADATA": ("METADATA", _pipe), "a folder as RECORD": ("RECORD", _folder),
    "a field without end": ("RECORD", lambda file: file.write_text('"' + "x" * 200_000 + '",,\n')),
    "a name with a NUL": ("RECORD", lambda file: file.write_text("a\0b,,\n")),
    "a ring of links": ("METADATA", lambda file: (file.unlink(), file.symlink_to(file.name))),
}  # fmt: skip


@pytest.mark.parametrize("case", ODD)
def test_what_cannot_be_read_is_not_absent(kleff: Kleff, top: Path, tmp_path: Path, case: str) -> None:
    """Neither the look before nor the one after takes it for gone; what is another account's goes all the same."""
    name, spoil = ODD[case]
    (info,) = (top / "home/mira/.local" / SITE).glob("hoe_labels*.dist-info")
    spoil(info / name)
    file = procedure(tmp_path / "p.toml", "[[evidence]]\npython = 'hoe-labels'\n[[verify]]\npython = 'hoe-labels'\n")
    on = ("--on", f"root:{top}")
    said = kleff("survey", file, *on, "--json").json()
    assert [one["account"] for one in said["unreadable"]] == ["mira"]
    done = kleff("verify", file, *on, code=4)
    assert "is gone" not in done.out
    assert "mira" in done.out
    steps = procedure(tmp_path / "purge.toml", "[[purge]]\npython = 'hoe-labels'\naccounts = ['tomas']\n")
    assert kleff("preview", steps, *on, "--json").json()["refused"] is False
