"""A source of packages goes, by real apt in a tree: what was downloaded of it too; what it had replaced is changed if that is chosen."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
from pathlib import Path

import pytest

from debs import NEEDED, build_one, dpkg, states
from memory import Bench, each_kill
from support import IS_ROOT, Kleff, linux_tree, procedure, write

missing = [n for n in (*NEEDED, "apt-get") if shutil.which(n) is None]
real = pytest.mark.skipif(not IS_ROOT or bool(missing), reason=f"needs root and {', '.join(missing) or 'apt'}")

GOES = "[[delete]]\nsource = 'extra.list'\n"
CHANGES = "[[purge]]\nshadowed_by = 'extra.list'\n"


class Apt:
    """A tree with a source of the system and one of the product, which has newer packages."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.top = folder, linux_tree(folder / "tree")
        for place in (
            "var/lib/apt/lists/partial",
            "var/cache/apt/archives/partial",
            "var/log/apt",
            "etc/apt/apt.conf.d",
            "etc/apt/preferences.d",
        ):
            (self.top / place).mkdir(parents=True)
        self.offer("main", "1.2", "1.1")
        self.offer("extra", "2.0")
        self.update()

    def package(self, name: str, version: str, more: str = "") -> Path:
        source = self.folder / f"of-{version}" / name
        write(source / f"opt/{name}/program", f"version {version}\n")
        write(source / f"opt/{name}/only-in-{version}", "x")
        write(source / f"etc/{name}.conf", "beds = 4\n")
        write(source / "DEBIAN/conffiles", f"/etc/{name}.conf\n")
        return build_one(source, name, version, more)

    def offer(self, source: str, *versions: str) -> None:
        folder, index = self.top / "srv" / source, ""
        for version in versions:
            for name, more in (("hoe-tool", ""), ("hoe-client", f"Depends: hoe-tool (= {version})\n")):
                made = self.package(name, version, more)
                file = write(folder / f"{name}_{version}.deb", made.read_bytes())
                control = subprocess.run(["dpkg-deb", "-f", file], capture_output=True, text=True, check=True).stdout
                digest = hashlib.sha256(file.read_bytes()).hexdigest()
                index += f"{control}Filename: ./{file.name}\nSize: {file.stat().st_size}\nSHA256: {digest}\n\n"
        write(folder / "Packages", index)
        write(self.top / f"etc/apt/sources.list.d/{source}.list", f"deb [trusted=yes] file:{folder} ./\n")

    def update(self) -> None:
        options = (f"Dir={self.top}", f"Dir::State::status={self.top}/var/lib/dpkg/status", "APT::Sandbox::User=root")
        subprocess.run(["apt-get", *(w for o in options for w in ("-o", o)), "update"], check=True, capture_output=True)

    def lists(self) -> list[str]:
        return sorted(p.name.rpartition("_srv_")[2] for p in (self.top / "var/lib/apt/lists").iterdir() if p.is_file() and p.name != "lock")

    def versions(self) -> dict[str, str]:
        form = "-f=${Package} ${Version} ${db:Status-Abbrev}\n"
        said = subprocess.run(["dpkg-query", f"--root={self.top}", "-W", form], capture_output=True, text=True, check=True).stdout
        return {line.split()[0]: " ".join(line.split()[1:]) for line in said.splitlines()}

    def used(self) -> dict[str, str]:
        return {
            str(p.relative_to(self.top)): p.read_text()
            for top in ("opt", "etc/apt")
            for p in sorted((self.top / top).rglob("*"))
            if p.is_file()
        }


@pytest.fixture
def apt(tmp_path: Path) -> Apt:
    return Apt(tmp_path)


@real
def test_what_was_downloaded_goes_with_it(kleff: Kleff, tmp_path: Path, apt: Apt) -> None:
    """At once and without network; back by undo. What another source names too stays."""
    dpkg(apt.top, "-i", *(apt.top / "srv/extra").glob("*.deb"))
    lists, on = apt.lists(), f"root:{apt.top}"
    file = procedure(tmp_path / "p.toml", GOES)
    shown = kleff("preview", file, "--on", on).out
    assert "1 list that was downloaded of it" in shown
    assert "packages of it stay, and are not renewed any more: hoe-client 2.0, hoe-tool 2.0" in shown
    assert "other sources have hoe-client 1.2, hoe-tool 1.2; to change to that:  [[purge]] shadowed_by = 'extra.list'" in shown
    kleff("run", file, "--on", on, "--yes")
    assert [name for name in lists if name not in apt.lists()] == [name for name in lists if name.startswith("extra")] != []
    kleff("undo", kleff.case(), "--yes")
    assert apt.lists() == lists
    shutil.copy(apt.top / "etc/apt/sources.list.d/extra.list", apt.top / "etc/apt/sources.list.d/again.list")
    kleff("run", file, "--on", on, "--yes")
    assert apt.lists() == lists


@real
def test_changed_to_what_the_others_have(kleff: Kleff, tmp_path: Path, apt: Apt) -> None:
    """All of them together; its settings stay. Undo brings the newer ones back, also after the lists have moved on."""
    dpkg(apt.top, "-i", *(apt.top / "srv/extra").glob("*.deb"))
    (apt.top / "etc/hoe-client.conf").write_text("beds = 7\n")
    before, used, on = apt.versions(), apt.used(), f"root:{apt.top}"
    file = procedure(tmp_path / "p.toml", CHANGES + GOES)
    shown = kleff("preview", file, "--on", on).out
    assert "hoe-client 2.0 to 1.2, hoe-tool 2.0 to 1.2" in shown
    assert "to change to that" not in shown  # a step does
    dpkg(apt.top, "--set-selections", said="hoe-tool hold\n")
    assert "put on hold by an administrator" in kleff("run", file, "--on", on, "--yes", code=3).err
    held = procedure(tmp_path / "h.toml", CHANGES + "even_if_held = true\n")
    kleff("run", held, "--on", on, "--yes")
    assert apt.versions()["hoe-tool"] == "1.2 hi"
    kleff("undo", kleff.case(), "--yes")
    dpkg(apt.top, "--set-selections", said="hoe-tool install\n")
    assert (apt.versions(), apt.used()) == (before, used)
    alone = procedure(tmp_path / "a.toml", CHANGES + "packages = ['hoe-tool']\n")
    assert "apt says" in kleff("run", alone, "--on", on, "--yes", code=3).err
    done = kleff("run", file, "--on", on, "--yes").out
    assert "changed    hoe-client 2.0 to 1.2, hoe-tool 2.0 to 1.2" in done
    assert "removed" not in done
    assert "Changed to another version" in kleff("report", kleff.case()).out
    assert apt.versions() == {"hoe-client": "1.2 ii", "hoe-tool": "1.2 ii"}
    assert not (apt.top / "opt/hoe-tool/only-in-2.0").exists()
    assert (apt.top / "etc/hoe-client.conf").read_text() == "beds = 7\n"
    kleff("undo", kleff.case(), "--yes")
    assert (apt.versions(), apt.used()) == (before, used)
    assert (apt.top / "etc/hoe-client.conf").read_text() == "beds = 7\n"
    kleff("run", file, "--on", on, "--yes")
    apt.offer("main", "1.3", "1.2")
    shutil.rmtree(apt.top / "srv/extra")
    apt.update()
    kleff("undo", kleff.case(), "--yes")
    assert (apt.versions(), apt.used()) == (before, used)
    assert dpkg(apt.top, "--audit") == ""


@real
def test_undo_of_a_removal_after_the_lists_have_moved_on(kleff: Kleff, tmp_path: Path, apt: Apt) -> None:
    """What needs another goes by an earlier step. The very versions come back, though no source has them any more."""
    dpkg(apt.top, "-i", *(apt.top / "srv/main").glob("*_1.2.deb"))
    before = apt.versions()
    file = procedure(tmp_path / "p.toml", "[[purge]]\npackage = 'hoe-client'\n[[purge]]\npackage = 'hoe-tool'\n")
    kleff("run", file, "--on", f"root:{apt.top}", "--yes")
    assert states(apt.top, "hoe") == {}
    shutil.rmtree(apt.top / "srv/main")
    apt.offer("main", "1.3")
    apt.update()
    kleff("undo", kleff.case(), "--yes")
    assert apt.versions() == before


def shelf(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    bench.on.files.add("/etc/apt/sources.list.d/extra.list", "deb https://hoe.example ./\n")
    for name in ("hoe-tool", "hoe-client"):
        bench.on.packages.add(name, "2.0", [f"/opt/{name}/program"])
    bench.on.packages.sources = {"extra.list": ["hoe-tool", "hoe-client"]}
    bench.on.packages.elsewhere = {"hoe-tool": "1.2", "hoe-client": "1.2"}
    return bench


def test_killed_anywhere(folder: Path) -> None:
    for bench, job, _ in each_kill(folder, shelf, CHANGES + GOES):
        assert job.undo().stays == []
        assert {p.name: p.version for p in bench.on.packages.all()} == {"hoe-tool": "2.0", "hoe-client": "2.0"}
