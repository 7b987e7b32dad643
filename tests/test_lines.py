"""Lines in files that others use too: taken out, and put back where they stood, whatever else was written since."""

from __future__ import annotations

import os
import stat
from contextlib import suppress
from pathlib import Path
from typing import Any, ClassVar

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.case.effects.lines_changed import LinesChanged, change_lines
from kleff.case.guard.guard import Guard, Target
from kleff.case.hands import Hands
from kleff.case.record.folder import open_case
from kleff.errors import Refused, Stopped
from kleff.progress import Silent
from kleff.workstation.files.lines import apply, decode, encode, put_back, taking_out
from memory import Bench, each_kill
from support import Kleff, linux_tree, procedure, write

LINE = st.sampled_from(
    ["", "root: mira", "10.0.0.5 hoe.example", "# hoe.example", "10.0.0.6 xhoe.example", "hoe.example", "a\udcff hoe.example", "tail"]
)
HOSTS = "127.0.0.1 localhost\n# hoe.example\n10.0.0.5 hoe.example\n10.0.0.6 bed.example\n"
STEP = "[[delete]]\nlines = 'hoe.example'\nin_file = '/etc/hosts'\n"


@given(st.lists(LINE), st.sampled_from(["\n", "\r\n"]), st.booleans(), st.lists(LINE), st.integers(0, 9))
def test_there_and_back(found: list[str], end: str, ends: bool, added: list[str], where: int) -> None:
    """Taken back at once it is byte for byte what it was; after others have written to it, theirs is there too; twice is once."""
    text = end.join(found) + (end if ends else "")
    codec, lines = decode(text.encode("utf-8", "surrogateescape"))
    made = taking_out(lines, ["hoe.example"])
    without = apply(lines, made)
    assert not taking_out(without, ["hoe.example"])
    assert [line for line in lines if line not in [e.old for e in made]] == without
    assert encode(codec, put_back(without, made)[0]) == text.encode("utf-8", "surrogateescape")
    since = [*without[:where], *(f"{line}{end}" for line in added if "hoe" not in line), *without[where:]]
    back, left = put_back(since, made)
    assert left == []
    bare = [line.rstrip("\r\n") for line in back]
    assert sorted(bare) == sorted([line.rstrip("\r\n") for line in since] + [e.old.rstrip("\r\n") for e in made])
    assert put_back(back, made)[0] == back


@pytest.mark.parametrize(
    ("line", "between", "left"),
    [
        ('PATH="/usr/bin:/opt/hoe/bin:/sbin"', ":", 'PATH="/usr/bin:/sbin"'),
        ("PATH=/opt/hoe/bin:/usr/bin # of /opt/hoe", ":", "PATH=/usr/bin # of /opt/hoe"),
        ("export PATH=$PATH:/opt/hoe/bin", ":", "export PATH=$PATH"),
        ("export PATH=/opt/hoe/bin", ":", None),
        ("export PATH=$PATH:/opt/hoe-old/bin", ":", "export PATH=$PATH:/opt/hoe-old/bin"),
        ("staff: mira, /opt/hoe , till", ",", "staff: mira, till"),
        ("staff: mira, till, /opt/hoe", ",", "staff: mira, till"),
        ("rake /opt/hoe", "", None),
    ],
)
def test_an_entry_of_a_list(line: str, between: str, left: str | None) -> None:
    lines = [f"{line}\n"]
    made = taking_out(lines, ["/opt/hoe"], between)
    now = apply(lines, made)
    assert now == ([] if left is None else [f"{left}\n"])
    assert put_back(now, made) == (lines, [])
    if left is not None and left != line:
        changed = [now[0].replace("mira", "tomas, mira").replace("/usr/bin", "/usr/bin:/srv/bin")]
        back, _ = put_back(changed, made)
        assert "/opt/hoe" in back[0]
        assert put_back(back, made)[0] == back


@pytest.mark.parametrize("codec", ["utf-16-le", "utf-16-be"])
def test_other_encodings(codec: str) -> None:
    data = "\ufeffbed.example\r\nhoe.example\r\nödland".encode(codec)
    found, lines = decode(data)
    made = taking_out(lines, ["HOE.example"], folded=True)
    assert encode(found, apply(lines, made)) == "\ufeffbed.example\r\nödland".encode(codec)
    assert encode(found, put_back(apply(lines, made), made)[0]) == data


# -- a whole run ------------------------------------------------------------------------------------------------


def hosts(bench: Bench) -> tuple[str, Any]:
    path = bench.on.files.path("/etc/hosts")
    return bench.on.files.read(path).decode(), bench.on.files.look(path)


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    path = bench.on.files.add("/etc/hosts", HOSTS, uid=0)
    with bench.on.files.parent(path) as (parent, name), parent.file(name) as file:
        file.set_mode(0o640)
        file.set_owner(0, 42)
        file.set_attribute("user.note", b"shed")
    return bench


def test_a_run_and_its_undo(folder: Path) -> None:
    bench = shed(folder)
    before = bench.files
    job, ended = bench.run(STEP + "[[verify]]\nlines = 'hoe.example'\nin_file = '/etc/hosts'\n")
    assert ended.clean, ended
    text, look = hosts(bench)
    assert text == "127.0.0.1 localhost\n10.0.0.6 bed.example\n"
    assert (stat.S_IMODE(look.mode), look.gid) == (0o640, 42)
    undone = job.undo()
    assert undone.stays == []
    assert bench.files == before


def test_undo_after_others_wrote(folder: Path) -> None:
    bench = shed(folder)
    job, _ = bench.run(STEP)
    with bench.on.files.parent(bench.on.files.path("/etc/hosts")) as (parent, name), parent.file(name) as file:
        file.truncate(0)
        file.write(b"10.0.0.9 barn.example\n127.0.0.1 localhost\n10.0.0.6 bed.example\n10.0.0.7 pond.example")
    assert job.undo().stays == []
    text, _ = hosts(bench)
    assert text == (
        "10.0.0.9 barn.example\n127.0.0.1 localhost\n# hoe.example\n10.0.0.5 hoe.example\n10.0.0.6 bed.example\n10.0.0.7 pond.example"
    )


def test_killed_anywhere(folder: Path) -> None:
    """Before and after every write of the journal: resumed it is done, taken back it is as it was."""
    for bench, job, before in each_kill(folder, shed, STEP):
        if len(bench.folder.name) % 2:
            with suppress(Refused):  # it had ended by then
                job.resume()
            assert "hoe.example" not in hosts(bench)[0]
        assert job.undo().stays == []
        assert bench.files == before


def test_what_is_written_in_that_instant_is_not_lost(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Another program saves the file between the look and the exchange: its version stands, and the run says so."""
    from kleff.workstation.memory.handles import MemoryFolder

    bench, original = shed(folder), MemoryFolder.exchange

    def late(self: MemoryFolder, name: str, other: Any, other_name: str) -> None:
        if not done:
            done.append(1)
            with other.file(other_name) as file:
                file.truncate(0)
                file.write(b"10.0.0.1 new.example\n")
        original(self, name, other, other_name)

    done: list[int] = []
    monkeypatch.setattr(MemoryFolder, "exchange", late)
    with pytest.raises(Stopped, match="was changed by another program a moment ago"):
        bench.run(STEP)
    assert hosts(bench)[0] == "10.0.0.1 new.example\n"


def test_another_file_in_its_place(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Somebody puts another file there once it was read: nothing is made with that one's owner and rights."""
    import kleff.case.effects.lines_changed as effect

    bench, original = shed(folder), effect.rewrite

    def late(hands: Any, place: Any, *more: Any) -> None:
        with bench.on.files.parent(place) as (parent, name):
            parent.remove(name)
        with bench.on.files.parent(bench.on.files.add("/etc/hosts", HOSTS, uid=0)) as (parent, name), parent.file(name) as file:
            file.set_mode(0o4755)
        original(hands, place, *more)

    monkeypatch.setattr(effect, "rewrite", late)
    with pytest.raises(Stopped, match="was changed by another program a moment ago"):
        bench.run(STEP)
    assert hosts(bench)[0] == HOSTS
    monkeypatch.undo()
    (action,) = bench.plan(STEP, phase="delete")
    assert (action.state, "with its owner's rights" in action.reason) == ("unreadable", True)


@pytest.mark.parametrize("file", ["/etc/passwd", "/etc/pam.d/login", "/usr/bin/hoe", "/var/lib/dpkg/status", "/etc/sudoers"])
def test_the_systems_own_files(folder: Path, file: str) -> None:
    bench = shed(folder)
    if file != "/etc/passwd":  # which is there, without such a line
        bench.on.files.add(file, "hoe.example\n")
    with pytest.raises(Refused):
        bench.run(f"[[delete]]\nlines = 'hoe.example'\nin_file = '{file}'\n")


def test_links_and_second_names(folder: Path) -> None:
    bench = shed(folder)
    bench.on.files.add("/home/mira/real", HOSTS, uid=1001)
    with bench.on.files.folder(bench.on.files.path("/home/mira")) as home:
        home.make_link("alias", "/etc/hosts")
        home.link("real", home, "second")
    for name in ("alias", "real"):
        (action,) = bench.plan(f"[[delete]]\nlines = 'hoe.example'\nin_file = '/home/mira/{name}'\n", phase="delete")
        assert action.state == "unreadable"


def test_the_program(kleff: Kleff, tmp_path: Path) -> None:
    """Every account's file, a timetable, a search path; an error in the file is told with its place."""
    top = linux_tree(tmp_path / "tree")
    for account, uid in (("mira", 1001), ("tomas", 1002)):
        write(top / f"home/{account}/.profile", "umask 022\nexport PATH=$PATH:/opt/hoe/bin\n. /opt/hoe/env\n")
        write(top / f"var/spool/cron/crontabs/{account}", f"# of {account}\n0 5 * * * /opt/hoe/bin/hoe --water\n0 6 * * * true\n")
        if os.geteuid() == 0:
            os.chown(top / f"home/{account}/.profile", uid, uid)
    write(top / "opt/hoe/bin/hoe", "x")
    text = """[[evidence]]
path = "/opt/hoe"
[[delete]]
label = "search path"
lines = "/opt/hoe/bin"
in_file = "{user.home}/.profile"
in_list = ":"
[[delete]]
lines = "/opt/hoe"
in_file = "{user.home}/.profile"
[[delete]]
label = "timetable"
lines = "/opt/hoe/bin/hoe"
in_file = "/var/spool/cron/crontabs/*"
[[delete]]
paths = ["/opt/hoe"]
"""
    file = procedure(tmp_path / "hoe.toml", text)
    before = {p: p.read_text() for p in top.rglob("*") if p.is_file() and (".profile" in p.name or "crontabs" in str(p))}
    shown = kleff("preview", file, "--on", f"root:{top}").out
    assert "export PATH=$PATH:/opt/hoe/bin  ->  export PATH=$PATH" in shown
    assert "0 5 * * * /opt/hoe/bin/hoe --water" in shown
    kleff("run", file, "--on", f"root:{top}", "--yes")
    for account in ("mira", "tomas"):
        assert (top / f"home/{account}/.profile").read_text() == "umask 022\nexport PATH=$PATH\n"
        assert (top / f"var/spool/cron/crontabs/{account}").read_text() == f"# of {account}\n0 6 * * * true\n"
    if os.geteuid() == 0:
        assert (top / "home/tomas/.profile").stat().st_uid == 1002
    kleff("undo", next(kleff.cases.iterdir()).name, "--yes")
    assert {p: p.read_text() for p in before} == before
    bad = procedure(tmp_path / "bad.toml", text.replace('lines = "/opt/hoe"', 'lines = "hoe"'))
    assert "bad.toml:14" in kleff("check", bad, code=2).out


class BedLinesChanged(LinesChanged, kw_only=True, frozen=True, omit_defaults=True):
    """Lines of beds, and which bed."""

    kind: ClassVar[str] = "bed lines changed"
    bed: str


def test_another_effect_changes_lines(folder: Path) -> None:
    """By the same act, journaled and taken back as its own kind."""
    bench = Bench(folder, "linux")
    bench.on.files.add("/etc/beds", "one\nhoe-bed seven\nlast\n")
    bench.on.files.add("/srv/x", "x")
    before = bench.files
    job, _ = bench.run("[[delete]]\npaths = ['/srv/x']\n")
    workstation = bench.on.open()
    with open_case(job.folder(), writable=True) as case:
        hands = Hands(workstation, case, Guard(workstation), Silent())
        path = workstation.files.path("/etc/beds")
        assert path is not None
        target = Target(path, 2, 4)
        assert change_lines(hands, 1, target, lambda lines: taking_out(lines, ["hoe-bed"], folded=False), BedLinesChanged, bed="seven") == 1
        assert case.journal.effects()[-1].kind == "bed lines changed"
    assert bench.on.files.read(path) == b"one\nlast\n"
    assert bench.undo(bench.again(job, job.folder())).stays == []
    assert bench.files == before
