"""Flatpaks, by the real program on a tree with sources of its own: uninstalled, and installed again as they were without their source."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from killing import KILLED, run_until
from support import IS_ROOT, Kleff, linux_tree, procedure, tree, until, write

pytestmark = pytest.mark.skipif(not IS_ROOT or shutil.which("flatpak") is None, reason="needs root and flatpak")

BEDS, GROUND, SOIL = "org.brindlewort.Beds", "org.brindlewort.Ground", "org.brindlewort.Soil"
STEP = f"[[evidence]]\nflatpak = '{BEDS}'\n[[purge]]\nflatpak = '{BEDS}'\ncame_along = 'these'\n"
ACCOUNT = 4711
BUS = Path("/run/dbus/system_bus_socket")
# Empty folders without its name, which the first of all flatpaks makes.
NOISE = {
    "app",
    "exports/share/applications",
    "exports/share",
    "exports/bin",
    "exports",
    *(f"repo/refs/{of}/app" for of in ("remotes/garden", "heads/deploy")),
}


class Shelf:
    """A tree, and a source of flatpaks beside it."""

    def __init__(self, folder: Path) -> None:
        self.top = linux_tree(folder, {"mira": ACCOUNT})
        shutil.rmtree(self.top / "home/mira", ignore_errors=True)
        write(self.top / "home/mira/note")
        for path in (self.top / "home/mira", self.top / "home/mira/note"):
            os.chown(path, ACCOUNT, ACCOUNT)
        folder.chmod(0o755)
        self.source, self.made = folder / "source", folder / "made"
        processor = self.say("--default-arch").strip()
        for name in (GROUND, SOIL, f"{GROUND}.Locale"):
            self.build(name, f"[Runtime]\nname={name}\n", "1", "usr/share/ground")
        self.build(BEDS, f"[Application]\nname={BEDS}\nruntime={GROUND}/{processor}/1\ncommand=beds\n", "stable", "files/bin/beds")
        self.source.chmod(0o755)

    def build(self, name: str, metadata: str, branch: str, file: str) -> None:
        place = self.made / name
        write(place / "metadata", metadata)
        write(place / "files/x", name)
        write(place / file, "#!/bin/sh\necho beds\n", mode=0o755)
        write(place / f"export/share/applications/{name}.desktop", "[Desktop Entry]\nType=Application\nName=Beds\nExec=beds\n")
        kind = ["--runtime"] if metadata.startswith("[Runtime]") else []
        self.say("build-export", "--disable-sandbox", *kind, str(self.source), str(place), branch)

    def say(self, *words: str, mira: bool = False) -> str:
        where = {"FLATPAK_SYSTEM_DIR": str(self.top / "var/lib/flatpak"), "HOME": "/nonexistent"}
        if mira:
            where |= {"HOME": str(self.top / "home/mira"), "FLATPAK_USER_DIR": str(self.top / "home/mira/.local/share/flatpak")}
        who = {"user": ACCOUNT, "group": ACCOUNT, "extra_groups": []} if mira else {}
        environment = {**os.environ, **where, "GIO_USE_VFS": "local"}
        done = subprocess.run(["flatpak", *words], check=False, capture_output=True, text=True, env=environment, cwd="/", **who)
        assert done.returncode == 0, done.stderr
        return str(done.stdout)

    def install(self, *names: str, mira: bool = False) -> None:
        whose = "--user" if mira else "--system"
        self.say("remote-add", whose, "--if-not-exists", "--no-gpg-verify", "garden", f"file://{self.source}", mira=mira)
        self.say("install", whose, "-y", "--noninteractive", "garden", *names, mira=mira)

    def known(self, mira: bool = False) -> str:
        whose = "--user" if mira else "--system"
        asked = (("list", "--columns=ref,origin,active,options"), ("remotes", "-d"), ("pin",))
        return "\n".join(self.say(command, whose, *words, mira=mira) for command, *words in asked)

    def objects(self) -> set[str]:
        """What is stored, and by which names."""
        return {path for path in tree(self.top / "var/lib/flatpak") if not path.startswith(("repo/tmp", ".removed"))}


@pytest.fixture
def shelf() -> Iterator[Shelf]:
    """Where an ordinary account may go too."""
    with tempfile.TemporaryDirectory(prefix="kleff-test-") as folder:
        yield Shelf(Path(folder))


@pytest.fixture
def bus(tmp_path: Path) -> Iterator[None]:
    """An ordinary account's flatpak asks the system bus what the account may install; the bus must know the account."""
    known = write(tmp_path / "passwd", Path("/etc/passwd").read_text() + f"kleff-test:x:{ACCOUNT}:{ACCOUNT}::/nonexistent:/bin/false\n")
    if BUS.exists():
        pytest.skip("a system bus is at work, which does not know the test's account")
    BUS.parent.mkdir(exist_ok=True)
    script = f"mount --bind {known} /etc/passwd && exec dbus-daemon --system --nofork --nopidfile --address=unix:path={BUS}"
    with subprocess.Popen(["unshare", "--mount", "sh", "-c", script]) as daemon:
        assert until(BUS.exists)
        try:
            yield
        finally:
            daemon.terminate()
    BUS.unlink(missing_ok=True)


def test_there_and_back(kleff: Kleff, tmp_path: Path, shelf: Shelf) -> None:
    """With the runtime that came along and its extension; without the source undo needs no network; nothing of it stays stored."""
    shelf.install(SOIL)
    bare = shelf.objects()
    shelf.install(BEDS, f"{GROUND}.Locale")
    shelf.say("pin", "--system", "--remove", f"runtime/{GROUND}.Locale/{shelf.say('--default-arch').strip()}/1")
    before, stored, file, on = shelf.known(), shelf.objects(), procedure(tmp_path / "p.toml", STEP), f"root:{shelf.top}"
    shown = kleff("preview", file, "--on", on).out
    assert f"flatpak {BEDS}" in shown
    assert f"flatpak {GROUND}, {GROUND}.Locale" in shown
    kleff("run", file, "--on", on, "--yes")
    assert "org.brindlewort.Soil" in shelf.known()
    assert "Beds" not in shelf.known()
    assert "Ground" not in shelf.known()
    assert {path for path in shelf.objects() - bare if path.count("/") != 2 or not path.startswith("repo/objects")} <= NOISE
    kleff("verify", file, "--on", on)
    shelf.source.rename(tmp_path / "elsewhere")
    kleff("undo", kleff.case(), "--yes")
    assert shelf.known() == before
    assert shelf.objects() == stored
    (tmp_path / "elsewhere").rename(shelf.source)
    assert "Nothing to do" in shelf.say("update", "--system", "-y", "--noninteractive")
    kleff("run", file, "--on", on, "--yes")
    kleff("discard", kleff.case(), "--yes")
    assert list(kleff.case().glob("undo/*.flatpak")) == []


@pytest.mark.usefixtures("bus")
def test_of_an_account(kleff: Kleff, tmp_path: Path, shelf: Shelf) -> None:
    """With that account's own rights: nothing of it is root's; everybody's runtime that an account's application needs stays."""
    shelf.install(GROUND)
    shelf.say("pin", "--system", "--remove", f"runtime/{GROUND}/{shelf.say('--default-arch').strip()}/1")
    shelf.install(BEDS, mira=True)
    before, on = shelf.known(mira=True), f"root:{shelf.top}"
    refused = kleff("run", procedure(tmp_path / "g.toml", f"[[purge]]\nflatpak = '{GROUND}'\n"), "--on", on, "--yes", code=3)
    assert f"{BEDS} runs on it and would go too" in refused.err
    file = procedure(tmp_path / "p.toml", STEP)
    kleff("run", file, "--on", on, "--yes")
    assert "Beds" not in shelf.known(mira=True)
    passwd = shelf.top / "etc/passwd"
    known = passwd.read_text()
    passwd.write_text("".join(line for line in known.splitlines(True) if not line.startswith("mira:")))
    gone = kleff("undo", kleff.case(), "--yes", code=4)
    assert "there is no account mira here any more" in gone.out + gone.err
    assert "Beds" not in shelf.known()  # nor is it everybody's now
    passwd.write_text(known)
    kleff("undo", kleff.case(), "--yes")
    assert shelf.known(mira=True) == before
    home = shelf.top / "home/mira"
    assert {path.lstat().st_uid for path in (home, *home.rglob("*"))} == {ACCOUNT}


@pytest.mark.usefixtures("bus")
def test_of_everybody_and_of_an_account(kleff: Kleff, tmp_path: Path, shelf: Shelf) -> None:
    """The runtime that is everybody's goes once neither's application needs it; what was set for it goes too; Kleff's own questions make
    no installation where there was none.
    """
    shelf.install(BEDS)
    shelf.install(BEDS, mira=True)
    shelf.say("override", "--system", "--nofilesystem=home", BEDS)
    shelf.say("override", "--user", "--nosocket=x11", BEDS, mira=True)
    shelf.say("override", "--system", "--nosocket=x11", SOIL)
    set_for = [shelf.top / "var/lib/flatpak/overrides" / BEDS, shelf.top / "home/mira/.local/share/flatpak/overrides" / BEDS]
    before, mine, on, file = shelf.known(), shelf.known(mira=True), f"root:{shelf.top}", procedure(tmp_path / "p.toml", STEP)
    homes = {place: place.exists() for place in (Path("/root/.local/share/flatpak"), Path("/nonexistent"))}
    text = [place.read_text() for place in set_for]
    of_mira = STEP.replace("[[purge]]\n", "[[purge]]\naccounts = ['mira']\n")
    alone = kleff("preview", procedure(tmp_path / "m.toml", of_mira), "--on", on).out
    assert "Ground" not in alone  # everybody's own application needs it still
    kleff("run", file, "--on", on, "--yes")
    assert "Beds" not in shelf.known() + shelf.known(mira=True)
    assert "Ground" not in shelf.known()
    assert not any(place.exists() for place in set_for)
    assert (set_for[0].parent / SOIL).exists()
    kleff("verify", file, "--on", on)
    kleff("undo", kleff.case(), "--yes")
    assert (shelf.known(), shelf.known(mira=True)) == (before, mine)
    assert [place.read_text() for place in set_for] == text
    assert set_for[1].stat().st_uid == ACCOUNT
    assert {place: place.exists() for place in homes} == homes


def test_killed_at_every_write(kleff: Kleff, tmp_path: Path, shelf: Shelf) -> None:
    """Whenever it ends: resumed it is gone, taken back it is there; and taking back may be killed too."""
    shelf.install(BEDS)
    before, on, log = shelf.known(), f"root:{shelf.top}", tmp_path / "log"
    file, kept = procedure(tmp_path / "p.toml", STEP), tmp_path / "kept"
    shutil.copytree(shelf.top / "var/lib/flatpak", kept, symlinks=True)
    again = lambda *words: run_until([*map(str, words), "--quiet"], 0, False, log)[0]  # noqa: E731
    at, ended = 0, KILLED
    while ended == KILLED:
        at += 1
        cases = tmp_path / f"cases{at}"
        ended = run_until(["run", str(file), "--on", on, "--cases", str(cases), "--yes", "--quiet"], at, at % 2 == 0, log)[0]
        case = next((c for c in cases.iterdir() if c.is_dir()), None) if cases.exists() else None
        if case is not None and (case / "journal.db").exists():
            again("resume", case)
            assert "Beds" not in shelf.known(), log.read_text()
            run_until(["undo", str(case), "--yes", "--quiet"], at // 2 + 1, False, log)
            assert again("undo", case, "--yes") in (0, 3), log.read_text()
        assert shelf.known() == before, log.read_text()


def test_what_is_not_done(kleff: Kleff, tmp_path: Path, shelf: Shelf) -> None:
    """Another build since, a source that is gone, a folder that leads elsewhere, a name too wide: one line each, and nothing happens."""
    shelf.install(BEDS)
    on = f"root:{shelf.top}"
    wide = procedure(tmp_path / "w.toml", "[[purge]]\nflatpak = '*.B*'\n")
    assert "at least 4 letters" in kleff("run", wide, "--on", on, "--yes", code=3).err
    file = procedure(tmp_path / "p.toml", STEP)
    kleff("run", file, "--on", on, "--yes")
    shelf.say("remote-delete", "--system", "garden")
    undone = kleff("undo", kleff.case(), "--yes", code=4)
    assert "the source garden" in undone.out + undone.err
    shelf.say("remote-add", "--system", "--no-gpg-verify", "garden", f"file://{shelf.source}")
    kleff("undo", kleff.case(), "--yes")
    assert BEDS in shelf.known()
    place = shelf.top / "var/lib/flatpak/app"
    place.rename(tmp_path / "app")
    place.symlink_to(tmp_path / "app")
    told = kleff("run", file, "--on", on, "--yes", code=None)
    assert told.code != 0
    assert "is a link" in told.out + told.err
    assert (tmp_path / "app" / BEDS).is_dir()
