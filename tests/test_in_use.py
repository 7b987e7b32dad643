"""Files that a program holds on Windows: all around them goes at once, they at the restart, by the system itself."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.engine.job import Job
from kleff.errors import Interrupted, NeverBegun, Refused, RestartNeeded, Stopped
from kleff.registry.registry import Registry
from kleff.registry.values import REG_MULTI_SZ, RegValue
from kleff.workstation.lab.locking import carry_out
from kleff.workstation.memory.registry import MemoryRegistry
from kleff.workstation.windows.renames import PendingRenames
from memory import Bench, killed_at

SESSION = r"SYSTEM\ControlSet001\Control\Session Manager"
EDGER = r"C:\Program Files\Rakeworks\Edger"
HELD = rf"{EDGER}\bin\hook.dll"
OTHERS = r"\??\C:\Windows\Temp\a.tmp" + "\0\0" + r"\??\D:\b.dll" + "\0" + r"!\??\D:\c.dll" + "\0\0"
STEP = f"[[delete]]\npaths = ['{EDGER}', 'C:\\ProgramData\\Edger']\n"


def edger(folder: Path, others: str = OTHERS) -> Bench:
    bench = Bench(folder)
    for name in ("edger.exe", r"bin\hook.dll", r"bin\other.dll", r"help\de\one.txt"):
        bench.on.files.add(rf"{EDGER}\{name}", name)
    bench.on.files.add(r"C:\ProgramData\Edger\beds.db", "beds")
    bench.on.processes.add("explorer.exe", r"C:\Windows\explorer.exe", "mira", opens=[HELD])
    bench.on.api.create("HKLM", SESSION)
    if others:
        value = RegValue("PendingFileRenameOperations", REG_MULTI_SZ, others.encode("utf-16-le"))
        bench.on.api.set("HKLM", SESSION, value)
    bench.on.files.hold(HELD)
    return bench


def listed(bench: Bench) -> bytes:
    return next((v.raw for v in bench.on.api.contents("HKLM", SESSION)[1] if v.name == "PendingFileRenameOperations"), b"")


def renames(bench: Bench) -> list[tuple[str, str]]:
    return PendingRenames(Registry(bench.on.api)).all()


def restart(bench: Bench, still_held: bool = False, done: bool = True) -> None:
    """What holds it has ended; the system does what it was told, or does not; maybe something holds it again."""
    bench.on.files.hold(HELD, False)
    if done:
        carry_out(Registry(bench.on.api), bench.on.files)
    else:
        bench.on.api.delete_value("HKLM", SESSION, "PendingFileRenameOperations")
    bench.on.boot += "1"
    if still_held:
        bench.on.files.hold(HELD)


def waiting(bench: Bench) -> Job:
    with pytest.raises(RestartNeeded):
        bench.run(STEP)
    return bench.again(bench.job(STEP), next((bench.folder / "cases").iterdir()))


def test_all_around_it_goes_at_once(tmp_path: Path) -> None:
    bench = edger(tmp_path)
    before = bench.files
    job = waiting(bench)
    assert bench.names(EDGER) == ["bin", "bin/hook.dll"]
    assert bench.on.files.look(bench.on.files.path(r"C:\ProgramData\Edger")) is None
    (row,) = (r for r in job.record().rows if r.state == "waiting for restart")
    assert f"{HELD} is in use by explorer.exe" in row.note
    assert renames(bench)[:2] == [(r"C:\Windows\Temp\a.tmp", ""), (r"D:\b.dll", r"D:\c.dll")]
    assert renames(bench)[2][0] == HELD
    with pytest.raises(RestartNeeded, match="has not been restarted since"):
        job.resume()
    restart(bench)
    assert bench.again(job, job.case).resume().clean
    assert [row.items for row in job.record().rows if row.action.target == EDGER] == [7]  # before the restart and after it
    assert bench.on.files.look(bench.on.files.path(EDGER)) is None
    assert job.undo().stays == []
    assert bench.files == before


def test_taken_back_before_the_restart(tmp_path: Path) -> None:
    """Its pair goes from the list, the others stay byte for byte; and a restart does nothing then."""
    bench = edger(tmp_path)
    before = bench.files
    assert waiting(bench).undo().stays == []
    assert bench.files == before
    assert listed(bench) == OTHERS.encode("utf-16-le")


def test_the_files_are_looked_at_not_the_list(tmp_path: Path) -> None:
    """The list is gone and nothing was done: it is done now; or it is held again, which is told."""
    bench = edger(tmp_path)
    before = bench.files
    job = waiting(bench)
    restart(bench, done=False, still_held=True)
    with pytest.raises(Stopped, match="after the restart too"):
        bench.again(job, job.case).resume()
    bench.on.files.hold(HELD, False)
    assert bench.again(job, job.case).resume().clean
    assert job.undo().stays == []
    assert bench.files == before


def test_skipped_after_the_restart(tmp_path: Path) -> None:
    """What is gone past is not moved at some later restart; who had other things moved still has."""
    bench = edger(tmp_path)
    before = bench.files
    job = waiting(bench)
    bench.on.boot += "1"  # started anew, but the list was not carried out, and it is held still
    number = next(row.action.number for row in job.record().rows if row.state == "waiting for restart")
    bench.again(job, job.case).resume(skip=number, because="it is needed after all")
    assert listed(bench) == OTHERS.encode("utf-16-le")
    bench.on.files.hold(HELD, False)
    assert job.undo().stays == []
    assert bench.files == before


def test_never_by_name_where_others_can_change_the_way(tmp_path: Path) -> None:
    """The system follows names: what an account can make lead elsewhere until the restart is not told to it."""
    bench = edger(tmp_path)
    place = r"C:\Users\mira\AppData\Roaming\Edger\beds.db"
    bench.on.files.add(place, "beds")
    bench.on.files.hold(place)
    with pytest.raises(Stopped, match="others than an administrator can change"):
        bench.run("[[delete]]\npaths = ['{user.roaming}\\Edger']\n")
    assert listed(bench) == OTHERS.encode("utf-16-le")
    assert bench.on.files.look(bench.on.files.path(place)) is not None


def test_where_no_restart_is_wanted(tmp_path: Path) -> None:
    bench = edger(tmp_path)
    with pytest.raises(Stopped, match=r"hook\.dll is in use"):
        bench.run(STEP, head='restart = "never"\n')
    assert listed(bench) == OTHERS.encode("utf-16-le")


def test_killed_at_any_write(tmp_path: Path) -> None:
    """Before the restart and after it; resumed it is gone, taken back it stands, and nobody else's pair is missing."""
    for after in (False, True):
        for number in range(1, 60):
            bench = edger(tmp_path / f"{number}{after}", others="")
            before = bench.files
            with killed_at(number, after) as writes, suppress(RestartNeeded):
                bench.run(STEP)
            if writes[0] < number:
                assert number > 8
                break
            cases = list((bench.folder / "cases").iterdir()) if (bench.folder / "cases").exists() else []
            if not cases:
                continue
            if not _begun(bench, cases[0]):
                continue
            job = bench.again(bench.job(STEP), cases[0])
            if number % 2:
                with suppress(RestartNeeded, Refused):
                    job.resume()
                if job.record().state == "waiting":
                    restart(bench)
                    assert bench.again(job, job.case).resume().clean
            if job.record().rows:
                assert job.undo().stays == []
                assert {k: v for k, v in bench.files.items() if v != before.get(k)} == {}
                assert listed(bench) == b""


def _begun(bench: Bench, case: Path) -> bool:
    with suppress(NeverBegun):
        return bool(bench.again(bench.job(STEP), case).record().rows)
    return False


def test_killed_after_the_restart(tmp_path: Path) -> None:
    for number in range(1, 40):
        bench = edger(tmp_path / str(number))
        before = bench.files
        job = waiting(bench)
        restart(bench)
        with killed_at(number, after=bool(number % 2)) as writes:
            bench.again(job, job.case).resume()
        with suppress(Refused, Interrupted):
            bench.again(job, job.case).resume()
        assert bench.on.files.look(bench.on.files.path(EDGER)) is None
        assert job.undo().stays == []
        assert bench.files == before
        if writes[0] < number:
            return


PATHS = st.sampled_from([r"C:\a", r"C:\B ü", r"D:\x\y", r"C:\z."])


@given(st.lists(st.tuples(PATHS, st.one_of(st.just(""), PATHS))), PATHS, PATHS)
def test_the_list_of_everybody(pairs: list[tuple[str, str]], place: str, to: str) -> None:
    """Appended and taken out again, the rest is as it was; twice is once."""
    api = MemoryRegistry()
    api.add(r"HKLM\SYSTEM\Select", Current=1)
    api.create("HKLM", SESSION)
    raw = "".join(f"\\??\\{a}\0" + (f"!\\??\\{b}\0" if b else "\0") for a, b in pairs) + "\0"
    if pairs:
        api.set("HKLM", SESSION, RegValue("PendingFileRenameOperations", REG_MULTI_SZ, raw.encode("utf-16-le")))
    found = PendingRenames(Registry(api))
    assert found.all() == pairs
    new = rf"C:\.kleff\{to[3:]}"
    found.append(place, new)
    found.append(place, new)
    assert found.all() == [*pairs, (place, new)]
    found.remove(place.upper(), new)
    assert found.all() == pairs
    if pairs:
        assert api.contents("HKLM", SESSION)[1][0].raw == raw.encode("utf-16-le")
