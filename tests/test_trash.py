"""The trash of every account: what came from the product's places goes, everything else stays."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import quote

from memory import Bench, each_kill

STEP = "[[delete]]\ntrash_of = ['/opt/hoe', '{user.home}/.hoe', '/srv/hoe-*']\n"
THROWN = {  # name in the trash: where it came from
    "beds.db": "/home/mira/.hoe/beds.db", "hoe": "/opt/hoe", "a b\u00e9.txt": "/srv/hoe-2/a b\u00e9.txt",
    "notes.txt": "/home/mira/Documents/notes.txt", "hoed": "/opt/hoed", "of tomas": "/home/tomas/.hoe/x",
}  # fmt: skip


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    for account, uid in (("mira", 1001), ("tomas", 1002)):
        for name, came in THROWN.items():
            trash = f"/home/{account}/.local/share/Trash"
            bench.on.files.add(f"{trash}/files/{name}" + ("/program" if name == "hoe" else ""), name, uid=uid)
            text = f"[Trash Info]\nPath={quote(came)}\nDeletionDate=2026-02-03T10:00:00\n"
            bench.on.files.add(f"{trash}/info/{name}.trashinfo", text, uid=uid)
    bench.on.files.add("/home/mira/.local/share/Trash/info/lonely.trashinfo", "[Trash Info]\nPath=/opt/hoe/x\n", uid=1001)
    bench.on.files.add("/home/mira/.local/share/Trash/info/odd.trashinfo", b"no text \xff", uid=1001)
    return bench


def left(bench: Bench, account: str) -> set[str]:
    return {n for n in bench.names(f"/home/{account}/.local/share/Trash/files") if "/" not in n}


def test_only_what_came_from_there(folder: Path) -> None:
    bench = shed(folder)
    before = bench.files
    job, ended = bench.run(STEP)
    assert ended.clean
    assert left(bench, "mira") == left(bench, "tomas") == {"notes.txt", "hoed"}
    assert "hoe.trashinfo" not in bench.names("/home/mira/.local/share/Trash/info")
    assert job.undo().stays == []
    assert bench.files == before


def test_killed_anywhere(folder: Path) -> None:
    for bench, job, before in each_kill(folder, shed, STEP):
        assert job.undo().stays == []
        assert bench.files == before
