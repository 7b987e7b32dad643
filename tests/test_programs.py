"""Programs that steps name: found where the system's own lie, and never silently left out."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.engine.job import Job
from kleff.errors import ProcedureError, Refused, RestartNeeded, Stopped, UsageError
from memory import Bench, delete

EXPORT = "[[backup]]\nlabel = 'shed'\ncommand = [{0}]\nsaves_as = 'shed.sql'\n"
SHED = "[[evidence]]\npath = '{0}'\n"


def bench_of(folder: Path, system: str) -> tuple[Bench, str, str]:
    """A workstation with a product; its place, and where a program of the system's lies."""
    bench = Bench(folder, system)
    place, program = (
        ("/opt/shed", "/usr/sbin/sheddump") if system == "linux" else (r"C:\Program Files\Shed", r"C:\Windows\System32\sheddump.exe")
    )
    bench.on.files.add(place + ("/x" if system == "linux" else r"\x"))
    return bench, place, program


@pytest.mark.parametrize("system", ["linux", "windows"])
def test_a_program_is_found_where_the_system_s_own_lie(folder: Path, system: str) -> None:
    """By its name alone; shown resolved; not where others put theirs."""
    bench, place, program = bench_of(folder, system)
    body = SHED.format(place) + EXPORT.format("'sheddump', '--all'") + delete(place)
    other = "/usr/local/bin/sheddump" if system == "linux" else r"C:\Tools\sheddump.exe"
    bench.on.commands.add(other, lambda argv: (0, "not this"))
    assert [a.state for a in bench.plan(body, phase="backup")] == ["unknown"]
    bench.on.commands.add(program, lambda argv: (0, f"-- {argv[1]}"))
    planned = bench.plan(body, phase="backup")
    assert [(a.state, a.shows) for a in planned] == [("to do", [f"runs: {program} --all"])]
    job, ended = bench.run(body)
    assert ended.clean
    assert bench.on.commands.ran[-1] == [program, "--all"]
    assert (job.folder() / "bag" / "data" / "exports").is_dir() or list((job.folder() / "bag" / "data").rglob("shed.sql"))


@pytest.mark.parametrize("system", ["linux", "windows"])
def test_a_program_that_is_not_there_is_not_nothing_to_save(folder: Path, system: str) -> None:
    """Refused while the product is there, whatever names the program; gone on without only with a reason, which is kept."""
    bench, place, program = bench_of(folder, system)
    before = bench.files
    head, whole = SHED.format(place), program.replace("sheddump", "gone")
    for words in ("'sheddump'", f"'{whole}'", "'{program}'"):
        text = "[places]\nprogram = ['" + whole + "']\n" + head + EXPORT.format(words) + delete(place)
        with pytest.raises(Refused, match=r"refused: shed.sql: .* is not there.*(?s:.)*--without-backup shed") as said:
            bench.run(text)
        assert "--because" in str(said.value.remedy) + str(said.value.what)
        assert bench.files == before
    optional = head + EXPORT.format("'sheddump'") + "required = false\n" + delete(place)
    job, ended = bench.run(optional)
    assert not ended.clean
    job.undo()
    body = head + EXPORT.format("'sheddump'") + delete(place)
    job, ended = bench.run(body, without={"shed": "the product is broken"})
    assert ended.clean
    assert [(r.state, r.action.reason) for r in ended.rows if r.action.phase == "backup"] == [("skipped", "the product is broken")]
    assert any("shed.sql was not saved: the product is broken" in text for _, text in job.record().events)
    with pytest.raises(UsageError, match="no backup has the label 'other'"):
        bench.run(body, without={"other": "x"})


def test_without_the_product_there_is_nothing_to_export(folder: Path) -> None:
    bench, place, _ = bench_of(folder, "linux")
    body = SHED.format("/opt/nothing") + EXPORT.format("'sheddump'") + delete(place)
    planned = bench.plan(body, phase="backup")
    assert [(a.state, a.reason) for a in planned] == [("absent", "sheddump is not there, and nothing of the product shows")]


def test_a_list_that_cannot_be_made_is_not_empty(folder: Path) -> None:
    """The program that lists is missing or fails: what would be exported one by one cannot be known."""
    bench, place, program = bench_of(folder, "linux")
    bench.on.commands.add(program, lambda argv: (0, "x"))
    for words, why in (("'gone'", "gone is not there"), (f"'{program}', 'list'", "exit code 3")):
        if "list" in words:
            bench.on.commands.add(program, lambda argv: (3, "no server"))
        step = f"[[backup]]\nlabel = 'shed'\ncommand = ['{program}', '{{item}}']\nsaves_as = '{{item}}.sql'\nlists = [{words}]\n"
        planned = bench.plan(SHED.format(place) + step + delete(place), phase="backup")
        assert [a.state for a in planned] == ["unreadable"]
        assert why in planned[0].reason


def test_what_an_exit_code_of_a_command_means(folder: Path) -> None:
    """Done, done and a restart is needed, nothing to do; anything else is a failure."""
    for code, state, restart in ((0, "done", False), (7, "done", False), (9, "done", True), (5, "done", False), (3, "failed", False)):
        bench, place, program = bench_of(folder / str(code), "linux")
        bench.on.commands.add(program, lambda argv, code=code: (code, "said"))
        step = f"[[stop]]\ncommand = ['{program}']\noptional = true\nok = [0, 7]\nrestart = [9]\nabsent = [5]\n"
        job = bench.job(SHED.format(place) + step + delete(place))
        made = job.preview()
        try:
            _, ended = job.run(made, bench.folder / "cases")
            rows, asked = ended.rows, False
        except RestartNeeded:
            rows, asked = bench.again(job, Job.cases(bench.folder / "cases")[0]).record().rows, True
        assert (rows[0].state, asked) == (state, restart), code
    with pytest.raises(ProcedureError, match="an exit code stands in one of ok, restart and absent alone"):
        bench.plan(SHED.format(place) + f"[[stop]]\ncommand = ['{program}']\nok = [0, 1]\nabsent = [1]\n")


def test_a_command_without_return_is_never_run_again(folder: Path) -> None:
    """Not even if it failed: nobody knows what it has done; a person goes past it."""
    bench, place, program = bench_of(folder, "linux")
    bench.on.commands.add(program, lambda argv: (3, "half of it"))
    job = bench.job(SHED.format(place) + f"[[stop]]\ncommand = ['{program}']\nwithout_return = true\n" + delete(place))
    made = job.preview()
    with pytest.raises(Stopped, match="exit code 3"):
        job.run(made, bench.folder / "cases")
    case = bench.again(job, Job.cases(bench.folder / "cases")[0])
    with pytest.raises(Stopped, match="was run and failed"):
        case.resume()
    assert len(bench.on.commands.ran) == 1
    assert case.resume(skip=1, because="the seat is given back by telephone").clean
    assert len(bench.on.commands.ran) == 1
