"""Numbers are not people: what comes back belongs to whom it belonged by name."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

import kleff.case.owners as owners_module
from kleff.case.renumbering import renumbering
from kleff.errors import Refused
from kleff.workstation.things import Number
from memory import Bench, Killed, delete
from support import IS_ROOT, Kleff, linux_tree, procedure, write


def people(bench: Bench, **numbers: int) -> None:
    """Write passwd and group anew: a server's account and group beside the people."""
    files = bench.on.files
    for name in ("/etc/passwd", "/etc/group"):
        path = files.path(name)
        if files.look(path) is not None:
            files.remove_single(path)
    lines = ["root:x:0:0::/root:/bin/sh", "mira:x:1001:1001::/home/mira:/bin/sh"]
    files.add("/etc/passwd", "\n".join([*lines, *(f"{n}:x:{u}:{u}::/var/lib/{n}:/bin/false" for n, u in numbers.items())]) + "\n")
    files.add("/etc/group", "root:x:0:\nmira:x:1001:\n" + "".join(f"{n}:x:{u}:\n" for n, u in numbers.items()))


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    people(bench, shed=105, other=106)
    for name, uid, mode in (("data/db", 105, 0o640), ("bin/admin", 105, 0o6755), ("root.txt", 0, 0o644), ("others", 106, 0o644)):
        path = bench.on.files.add(f"/opt/shed/{name}", name, uid=uid, mode=mode)
        with bench.on.files.parent(path) as (parent, last), parent.file(last) as file:
            file.set_owner(uid, uid)
            file.set_mode(mode)
    return bench


def owners(bench: Bench) -> dict[str, tuple[int, int, int]]:
    found = {}
    for name in ("data/db", "bin/admin", "root.txt", "others"):
        look = bench.on.files.look(bench.on.files.path(f"/opt/shed/{name}"))
        found[name] = (look.uid, look.gid, stat.S_IMODE(look.mode))
    return found


def test_undo_gives_back_by_name(folder: Path) -> None:
    """The server's account has another number by now, and its old one is a stranger's."""
    bench = shed(folder)
    before = owners(bench)
    job, _ = bench.run(delete("/opt/shed"))
    people(bench, stranger=105, shed=110, other=106)
    undone = job.undo()
    assert undone.stays == []
    assert owners(bench) == {**before, "data/db": (110, 110, 0o640), "bin/admin": (110, 110, 0o6755)}
    again, _ = bench.run(delete("/opt/shed"))
    again.undo()
    assert owners(bench)["data/db"] == (110, 110, 0o640)


@pytest.mark.parametrize("taken", [True, False])
def test_a_name_that_is_not_there(folder: Path, taken: bool) -> None:
    """The administrator's, without the right to run as its owner; named, and not clean."""
    bench = shed(folder)
    job, _ = bench.run(delete("/opt/shed"))
    people(bench, **({"stranger": 105} if taken else {}), other=106)
    undone = job.undo()
    assert owners(bench) == {
        "data/db": (0, 0, 0o640), "bin/admin": (0, 0, 0o755), "root.txt": (0, 0, 0o644), "others": (106, 106, 0o644),
    }  # fmt: skip
    assert sorted(undone.stays) == [
        "account shed is not here any more: 5 things of it belong to the administrator now",
        "group shed is not here any more: 2 things of it belong to the administrator now",
    ]
    people(bench, **({"stranger": 105} if taken else {}), shed=110, other=106)
    assert job.undo().stays == [], "it is there once more"
    assert owners(bench)["data/db"] == (110, 110, 0o640)
    assert owners(bench)["bin/admin"] == (110, 110, 0o6755)
    with pytest.raises(Refused, match="taken back already"):
        job.undo()


def test_what_was_put_in_its_place_gets_nothing(folder: Path) -> None:
    """Between two tries somebody has put a program of their own where one was that ran with its owner's rights, and changed a file."""
    bench = shed(folder)
    job, _ = bench.run(delete("/opt/shed"))
    people(bench, other=106)
    job.undo()
    for name in ("bin/admin", "data/db"):
        bench.on.files.remove_single(bench.on.files.path(f"/opt/shed/{name}"))
        bench.on.files.add(f"/opt/shed/{name}", "somebody else's", uid=1001, mode=0o755)
    before = owners(bench)
    people(bench, shed=110, other=106)
    job.undo()
    assert owners(bench) == before


def test_two_accounts_that_changed_their_numbers(folder: Path) -> None:
    """Each once, not one after the other."""
    bench = shed(folder)
    job, _ = bench.run(delete("/opt/shed"))
    people(bench, shed=106, other=105)
    assert job.undo().stays == []
    assert owners(bench)["data/db"][:2] == (106, 106)
    assert owners(bench)["others"][:2] == (105, 105)


def test_killed_while_they_change_places(folder: Path) -> None:
    """At every change of an owner: the next undo gives each thing what it is to have, not what a second look would."""
    for at in range(1, 8):
        bench = shed(folder / str(at))
        job, _ = bench.run(delete("/opt/shed"))
        people(bench, shed=106, other=105)
        with killed_at_owner(at):
            job.undo()
        with suppress(Refused):  # it was taken back
            job.undo()
        found = owners(bench)
        assert (found["data/db"][:2], found["others"][:2]) == ((106, 106), (105, 105)), at


@contextmanager
def killed_at_owner(number: int) -> Iterator[None]:
    """Within, the `number`th change of an owner is the last thing that happens."""
    original, seen = owners_module._set, [0]

    def counted(handle: object, look: object, new: object) -> None:
        seen[0] += 1
        if seen[0] > number:
            raise Killed
        original(handle, look, new)  # type: ignore[arg-type]

    owners_module._set = counted  # type: ignore[assignment]
    try:
        yield
    except Killed:
        pass
    finally:
        owners_module._set = original


@pytest.mark.skipif(not IS_ROOT, reason="works in another tree, which needs root")
def test_restore_gives_by_name(kleff: Kleff, tmp_path: Path) -> None:
    top = linux_tree(tmp_path / "tree")
    for name, uid in (("data/db", 105), ("others", 106)):
        os.chown(write(top / "opt/shed" / name), uid, uid)
    passwd, group = top / "etc/passwd", write(top / "etc/group", "root:x:0:\nshed:x:105:\nother:x:106:\n")
    plain = passwd.read_text()
    passwd.write_text(plain + "shed:x:105:105::/var/lib/shed:/bin/false\nother:x:106:106::/var/lib/other:/bin/false\n")
    body = "[[backup]]\nlabel = 'data'\npaths = ['/opt/shed/data', '/opt/shed/others']\n" + delete("/opt/shed")
    kleff("run", procedure(tmp_path / "p.toml", body), "--on", f"root:{top}", "--yes")
    passwd.write_text(plain + "stranger:x:105:105::/var/lib/stranger:/bin/false\nshed:x:110:110::/var/lib/shed:/bin/false\n")
    group.write_text("root:x:0:\nstranger:x:105:\nshed:x:110:\n")
    said = kleff("restore", kleff.case(), "--yes", code=4).out
    assert "account other is not here any more" in said
    found = {name: ((top / "opt/shed" / name).stat().st_uid, (top / "opt/shed" / name).stat().st_gid) for name in ("data/db", "others")}
    assert found == {"data/db": (110, 110), "others": (0, 0)}


def test_what_has_changed() -> None:
    same = [Number(name="root", number="0"), Number(name="a", number="5", group=True)]
    then = [*same, Number(name="a", number="5"), Number(name="b", number="6")]
    now = [*same, Number(name="a", number="7"), Number(name="c", number="6")]
    found = renumbering(then, now)
    assert (found.users, found.groups) == ({5: 7, 6: None}, {})
    assert found.owner(5, 5) == (7, 5)
    assert found.owner(6, 1) == (0, 1)
    assert found.lost(6, 1) == ["account b"]
    assert not renumbering([], now)
