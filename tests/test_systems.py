"""A procedure on the wrong system proves nothing, and one without evidence is not begun unseen."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.engine.library import parse
from kleff.engine.systems import elsewhere, meant_for
from kleff.errors import Refused
from memory import Bench, delete
from support import Kleff, linux_tree, procedure, write

HEAD = 'format = 1\n[product]\nid = "sample"\nname = "Sample"\n'
SHOWN = {
    "[[evidence]]\npath = '{temp}/x'\n": set(), "[[evidence]]\nkey = 'HKLM\\Software\\x'\n": {"windows"},
    "[[evidence]]\nentry = 'x*'\n": {"windows"}, "[[evidence]]\npath = '%ProgramFiles%\\x'\n": {"windows"},
    "[[evidence]]\npath = 'D:\\x'\n": {"windows"}, "[[evidence]]\npath = '/opt/x'\n": {"linux", "macos"},
    "[[evidence]]\npackage = 'x'\n": {"linux"}, "[places]\nprogram = ['C:\\x']\n[[evidence]]\npath = '{program}'\n": {"windows"},
    "[[evidence]]\npath = '{user.home}\\x'\n": {"windows"}, "[[evidence]]\npath = '{user.home}/x'\n": set(),
    "[[evidence]]\npath = '/opt/x'\n[[evidence]]\nentry = 'x'\n": {"windows", "linux", "macos"},
    "[[evidence]]\npath = '{temp}/x'\non = 'linux'\n": {"linux"},
    "[[evidence]]\npath = '{temp}/x'\n[[backup]]\nlabel = 'x'\ncommand = ['/usr/bin/x']\nsaves_as = 'x'\n": {"linux", "macos"},
    "[[evidence]]\npath = '{temp}/x'\n[[backup]]\nlabel = 'x'\ncommand = ['x']\nsaves_as = 'x'\n": set(),
}  # fmt: skip


@pytest.mark.parametrize("body", SHOWN)
def test_what_shows_the_system(body: str) -> None:
    assert meant_for(parse((HEAD + body).encode(), "p.toml")) == SHOWN[body]
    said = HEAD + 'on = ["windows"]\n' + body
    assert meant_for(parse(said.encode(), "p.toml")) == {"windows"}


def test_steps_that_cannot_apply(folder: Path) -> None:
    """A procedure for both: told in one line, not planned, not looked at by verify."""
    body = (
        "[[evidence]]\npath = '/opt/x'\n"
        + delete("/opt/x")
        + "[[delete]]\nkey = 'HKLM\\Software\\x'\n"
        + delete("C:\\x", more="on = 'windows'\n")
    )
    bench = Bench(folder, "linux")
    bench.on.files.add("/opt/x/y")
    made = bench.preview(body)
    assert [a.target for a in made.plan.actions] == ["/opt/x"]
    assert made.plan.elsewhere == elsewhere(made.here.procedure, "linux") != []
    assert [made.here.procedure.raw.decode().splitlines()[n - 1] for n in made.plan.elsewhere] == ["[[delete]]"] * 2
    _, ended = bench.run(body)
    assert ended.clean


def test_every_command_says_so(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """One line, exit code 3, and nothing is looked at or begun."""
    top = linux_tree(tmp_path / "tree")
    windows = procedure(tmp_path / "w.toml", "[[delete]]\npaths = ['C:\\nothing']\n")
    linux = procedure(tmp_path / "l.toml", "[[delete]]\npaths = ['/opt/nothing']\n")
    for file, on, words in (
        (windows, f"root:{top}", "written for Windows; this workstation"),
        (linux, f"lab:{lab}", "written for Linux and macOS"),
    ):
        for command in ("survey", "preview", "verify"):
            said = kleff(command, file, "--on", on, code=3)
            assert words in said.err
            assert not said.out
        said = kleff("run", file, "--on", on, "--yes", "--without-evidence", code=3)
        assert words in said.err
        assert said.err.count("\n") <= 3
    assert not kleff.cases.exists()
    assert "other system" in kleff("list", "--library", tmp_path, "--on", f"root:{top}").out


def test_without_evidence_nothing_is_begun_unseen(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Said first of all; with --yes it needs a word more."""
    there = lab / "files/C/Program Files/Rakeworks/x"
    write(there)
    body = "[[evidence]]\npath = 'C:\\nowhere'\n" + delete(r"C:\Program Files\Rakeworks")
    file, on = procedure(tmp_path / "p.toml", body), ("--on", f"lab:{lab}")
    shown = kleff("preview", file, *on).out.splitlines()
    assert "NOTHING SHOWS IT" in shown[1]
    assert kleff("preview", file, *on, "--json").json()["present"] is False
    said = kleff("run", file, *on, "--yes", code=3, looked=True).err
    assert "no evidence of Sample was found" in said
    assert "--without-evidence" in said
    assert there.exists()
    kleff("run", file, *on, "--yes", "--without-evidence")
    assert not there.exists()


def test_the_engine_refuses_too(folder: Path) -> None:
    from kleff.engine.systems import check_meant_for

    with pytest.raises(Refused, match="written for Windows"):
        check_meant_for(parse((HEAD + "[[evidence]]\nentry = 'x'\n").encode(), "p.toml"), Bench(folder, "linux").on.open())
