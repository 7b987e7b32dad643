"""What comes after the work may set the product up anew: the verdict is of before, and nothing of it is taken away again."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.errors import Stopped
from memory import Bench, each_kill

STEPS = r"""
[[stop]]
startup = "hoetray*"
[[delete]]
paths = ['C:\Hoe', 'C:\Users\mira\Documents\Hoe']
[[after]]
command = ['C:\Tools\setup.exe']
"""
RUN = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run"


def shed(folder: Path) -> Bench:
    bench = Bench(folder)
    bench.on.files.add(r"C:\Hoe\old", "old")
    bench.on.api.add(RUN, hoetray=r"C:\Hoe\hoetray.exe")

    def setup(words: list[str]) -> tuple[int, str]:
        for name in (r"C:\Hoe\new", r"C:\Users\mira\Documents\Hoe\new"):
            if bench.on.files.look(bench.on.files.path(name)) is None:
                bench.on.files.add(name, "new")
        bench.on.api.add(RUN, hoetray=r"C:\Hoe\hoetray.exe")
        return 0, ""

    bench.on.commands.add(r"C:\Tools\setup.exe", setup)
    return bench


def stands(bench: Bench) -> bool:
    values = bench.on.api.values("HKLM", RUN.partition("\\")[2]) or []
    return bench.names(r"C:\Hoe") == ["new"] and [value.name for value in values] == ["hoetray"]


def test_the_verdict_is_of_before(folder: Path) -> None:
    """Gone, exit 0, and what the setup made stands; looked at afterwards it is there."""
    bench = shed(folder)
    job, ended = bench.run(STEPS)
    assert ended.clean
    assert stands(bench)
    told = job.verify()
    assert not told.clean
    assert {f.target for f in told.findings} >= {r"C:\Hoe"}


def test_killed_at_every_write(folder: Path) -> None:
    """Resumed, the setup's files are never set aside, and the verdict stays the one of before."""
    resumed = 0
    for bench, job, _ in each_kill(folder, shed, STEPS):
        if job.record().state != "finished":
            assert job.resume().verification.clean
            resumed += 1
        assert stands(bench)
    assert resumed > 10


def test_what_failed_after_is_tried_again_alone(folder: Path) -> None:
    bench = shed(folder)
    tried: list[int] = []

    def setup(words: list[str]) -> tuple[int, str]:
        tried.append(1)
        bench.on.files.add(rf"C:\Hoe\new{len(tried)}", "new")
        return (1 if len(tried) == 1 else 0), ""

    bench.on.commands.add(r"C:\Tools\setup.exe", setup)
    with pytest.raises(Stopped):
        bench.run(STEPS)
    job = bench.again(bench.job(STEPS), next((bench.folder / "cases").iterdir()))
    assert job.resume().clean
    assert bench.names(r"C:\Hoe") == ["new1", "new2"]
