"""Working for some accounts alone."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from support import Kleff, differences, hives, linux_tree, procedure, tree, write


def test_one_account_of_three(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """What is of the others is as it was, and the verdict says for whom it is given."""
    users, before = lab / "files/C/Users", hives(lab)
    theirs = {name: tree(users / name) for name in ("tomas", "till")}
    on = ("--on", f"lab:{lab}")
    assert "did you mean mira?" in kleff("run", tag_studio, *on, "--account", "mirra", "--yes", code=2).err
    assert "(tomas)" not in kleff("survey", tag_studio, *on, "--account", "mira").out
    said = kleff("preview", tag_studio, *on, "--account", "MIRA").out
    assert "ONLY FOR mira: 2 accounts left out" in said
    assert "tomas" not in said
    done = kleff("run", tag_studio, *on, "--account", "mira", "--yes")
    assert "Brindlewort Tag Studio is gone for mira" in done.out
    assert "2 accounts were not looked at" in done.out
    assert {name: tree(users / name) for name in theirs} == theirs
    after = hives(lab)
    for hive in (h for h in before if h.endswith(("1002", "1003"))):
        assert before[hive] == after[hive]
    assert "gone for mira" in kleff("verify", kleff.case()).out
    found = kleff("verify", kleff.case(), "--json").json()
    assert (found["accounts"], found["left_out"]) == (["mira"], 2)
    assert "only for" in kleff("report", kleff.case()).out
    everybody = kleff("verify", tag_studio, *on, code=4)
    assert "is not gone from" in everybody.out
    assert "tomas" in everybody.out


def test_nothing_in_the_home_of_the_others(kleff: Kleff, tmp_path: Path) -> None:
    """Not even what is named by its own path, and what has to stay of theirs stays."""
    top = linux_tree(tmp_path / "tree", {"mira": 1001, "tomas": 1002})
    for name in ("mira", "tomas"):
        write(top / f"home/{name}/.hoe/seeds", name)
    write(top / "srv/hoe/tomas/beds", "x")
    body = "[keep]\npaths = ['{user.home}/.hoe/seeds']\n[[delete]]\npaths = ['/home/tomas/.hoe', '{user.home}/.hoe', '/srv/hoe']\n"
    file = procedure(tmp_path / "p.toml", body)
    before = tree(top / "home/tomas")
    done = kleff("run", file, "--on", f"root:{top}", "--account", "mira", "--yes", code=None)
    assert differences(before, tree(top / "home/tomas")) == []
    assert (top / "home/mira/.hoe/seeds").exists()
    assert not (top / "srv/hoe").exists()
    assert "not named with --account" in done.out
    kleff("undo", kleff.case(), "--yes")


@pytest.mark.parametrize("in_place", ["folder", "pipe", "link"])
@pytest.mark.parametrize("file", ["passwd", "login.defs"])
def test_accounts_that_cannot_be_told_are_not_none(kleff: Kleff, tmp_path: Path, file: str, in_place: str) -> None:
    """What is in two homes is not gone because nobody can tell whose they are: refused, with the file, and nothing is changed."""
    top = linux_tree(tmp_path / "tree")
    write(top / "home/mira/.config/beds/plan", "mine")
    (top / "etc" / file).unlink(missing_ok=True)
    if in_place == "folder":
        (top / "etc" / file).mkdir()
    elif in_place == "pipe":
        os.mkfifo(top / "etc" / file)
    else:
        (top / "etc" / file).symlink_to(file)  # a ring
    steps = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['{user.roaming}/beds']\n")
    on, before = ("--on", f"root:{top}"), tree(top)
    for command in ("survey", "preview", "verify", "run"):
        done = kleff(command, steps, *on, *(["--yes"] if command == "run" else []), code=3, cases=command == "run")
        assert f"etc/{file}" in done.err
        assert "gone" not in done.out
    assert differences(before, tree(top)) == []
