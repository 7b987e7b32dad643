"""Accounts and groups of services: removed from all files that know them, made again by undo; never a person's, never with files left."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import pytest

from debs import dpkg
from kleff.errors import Refused
from memory import Bench, each_kill
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

FILES = {
    "passwd": "root:x:0:0::/root:/bin/sh\nhoe:x:105:110:Hoe,,,:/var/lib/hoe:/usr/sbin/nologin\nmira:x:1001:1001::/home/mira:/bin/sh\n",
    "shadow": "root:*:19000:0:99999:7:::\nhoe:!:19000::::::\nmira:$y$j9T$x:19000:0:99999:7:::\n",
    "group": "root:x:0:\nhoe:x:110:\nadmins:x:120:hoe,mira\nbeds:x:121:mira\nmira:x:1001:\n",
    "gshadow": "root:*::\nhoe:!::\nadmins:!:hoe:hoe,mira\nbeds:!::mira\nmira:!::\n",
    "subuid": "mira:100000:65536\n",
}
STEP = "[[delete]]\npaths = ['/var/lib/hoe']\n[[delete]]\naccount = 'hoe'\n"


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    for name, text in FILES.items():
        put(bench, name, text)
    bench.on.files.add("/var/lib/hoe/data", "data", uid=105)
    return bench


def put(bench: Bench, name: str, text: str) -> None:
    path = bench.on.files.path(f"/etc/{name}")
    if bench.on.files.look(path) is not None:
        bench.on.files.remove_single(path)
    bench.on.files.add(f"/etc/{name}", text)


def texts(bench: Bench) -> dict[str, str]:
    return {name: bench.on.files.read(bench.on.files.path(f"/etc/{name}")).decode() for name in FILES}


def test_gone_from_every_file(folder: Path) -> None:
    bench = shed(folder)
    before = bench.files
    job, ended = bench.run(STEP + "[[verify]]\naccount = 'hoe'\n")
    assert ended.clean, ended
    now = texts(bench)
    assert now == {
        "passwd": "root:x:0:0::/root:/bin/sh\nmira:x:1001:1001::/home/mira:/bin/sh\n",
        "shadow": "root:*:19000:0:99999:7:::\nmira:$y$j9T$x:19000:0:99999:7:::\n",
        "group": "root:x:0:\nadmins:x:120:mira\nbeds:x:121:mira\nmira:x:1001:\n",
        "gshadow": "root:*::\nadmins:!::mira\nbeds:!::mira\nmira:!::\n",
        "subuid": FILES["subuid"],
    }
    assert job.undo().stays == []
    assert texts(bench) == FILES
    assert bench.files == before


def test_its_number_was_given_away(folder: Path) -> None:
    """Made again under its name with a free number; its files are its again by name; what others wrote since stays."""
    bench = shed(folder)
    job, _ = bench.run(STEP)
    now = texts(bench)
    put(bench, "passwd", now["passwd"] + "rake:x:105:110::/var/lib/rake:/usr/sbin/nologin\n")
    put(bench, "group", now["group"].replace("admins:x:120:mira", "admins:x:120:mira,rake") + "rake:x:110:\n")
    undone = job.undo()
    assert undone.stays == []
    now = texts(bench)
    assert "hoe:x:100:100:Hoe,,,:/var/lib/hoe:/usr/sbin/nologin\n" in now["passwd"]
    assert "hoe:x:100:\n" in now["group"]
    assert "admins:x:120:mira,rake,hoe\n" in now["group"]
    look = bench.on.files.look(bench.on.files.path("/var/lib/hoe/data"))
    assert look.uid == 100


def test_killed_anywhere(folder: Path) -> None:
    for bench, job, before in each_kill(folder, shed, STEP):
        if len(bench.folder.name) % 2:
            with suppress(Refused):
                job.resume()
            assert "hoe" not in "".join(texts(bench).values())
        assert job.undo().stays == []
        assert bench.files == before


def test_what_is_still_used_stays(folder: Path) -> None:
    bench = shed(folder)
    bench.on.files.add("/srv/left", "x", uid=105)
    _, ended = bench.run(STEP)
    assert not ended.clean
    assert texts(bench) == FILES
    bench = shed(folder / "two")
    bench.on.processes.add("hoed", "/usr/bin/hoed", account="hoe")
    _, ended = bench.run(STEP)
    assert not ended.clean
    assert texts(bench) == FILES


def test_a_person_in_its_group(folder: Path) -> None:
    """The group goes with the account, its members are named; a step of its own for the group finds it gone."""
    bench = shed(folder)
    put(bench, "group", FILES["group"].replace("hoe:x:110:", "hoe:x:110:mira,tomas"))
    body = STEP + "[[delete]]\ngroup = 'hoe'\n"
    (account,) = [a for a in bench.plan(body, phase="delete") if a.kind == "account"]
    assert "with its own group; members: mira, tomas" in account.shows
    before = texts(bench)
    job, ended = bench.run(body)
    assert ended.clean
    assert "hoe" not in texts(bench)["group"]
    assert job.undo().stays == []
    assert texts(bench) == before


@pytest.mark.parametrize(
    ("step", "why"),
    [
        ("account = 'mira'", "a person's account"), ("account = 'root'", "the system's own"), ("account = 'backup'", "the system's own"),
        ("group = 'hoe'", "hoe's own group"), ("group = 'sudo'", "the system's own"),
    ],
)  # fmt: skip
def test_refused(folder: Path, step: str, why: str) -> None:
    bench = shed(folder)
    with pytest.raises(Refused, match=why):
        bench.run(f"[[delete]]\n{step}\n")
    assert texts(bench) == FILES


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of other accounts")
def test_the_program(kleff: Kleff, tmp_path: Path) -> None:
    """A group and an account, seen in survey and preview with their members; there again after undo."""
    top = linux_tree(tmp_path / "tree")
    for name, text in FILES.items():
        write(top / "etc" / name, text.replace("mira:x:1001:1001::/home/mira:/bin/sh\n", ""))
    write(top / "etc/.pwd.lock", "", 0o600)  # which lckpwdf(3) makes, and leaves
    dpkg(top, "--audit")
    body = """[[evidence]]
account = "hoe"
[[delete]]
account = "hoe"
[[delete]]
group = "admins"
"""
    file, before = procedure(tmp_path / "hoe.toml", body), tree(top)
    assert "number 105" in kleff("survey", file, "--on", f"root:{top}").out
    shown = kleff("preview", file, "--on", f"root:{top}").out
    assert "members: hoe, mira" in shown
    assert "with its own group" in shown
    kleff("run", file, "--on", f"root:{top}", "--yes")
    assert "hoe" not in (top / "etc/passwd").read_text()
    assert "admins" not in (top / "etc/group").read_text()
    assert not (top / "etc/gshadow").read_text().count("hoe")
    kleff("undo", next(kleff.cases.iterdir()).name, "--yes")
    assert [d for d in differences(before, tree(top)) if "var/lib/kleff" not in d] == []
    assert "root" in kleff("check", procedure(tmp_path / "b.toml", '[[delete]]\naccount = "root"\n'), code=2).out
