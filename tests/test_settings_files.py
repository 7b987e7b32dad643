"""Sections and items of lists in settings files, on a system where two files do not change places in one instant."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.errors import Refused, Stopped
from kleff.workstation.files.lines import LONGEST, apply, decode, encode, put_back
from kleff.workstation.files.listed import listed
from kleff.workstation.memory.handles import MemoryFolder
from memory import Bench, Killed, each_kill, states
from support import bad_step

SETTINGS = r"C:\ProgramData\Alder Row\devices.ini"
DEVICES = """\ufeff; devices of the nursery\r
[Scales]\r
port=3\r
\r
[Brindlewort Probe]\r
port=5\r
; probes\r
depth=2\r
\r
; of the till\r
[Till]\r
Path=C:\\till;C:\\Program Files\\Brindlewort\\bin\\;C:\\tools\r
Depth=C:\\Program Files\\Brindlewort\\bin\r
"""
STEPS = f"""
[[delete]]
section = "Brindlewort *"
in_file = '{SETTINGS}'
[[delete]]
list_item = '%ProgramFiles%\\Brindlewort\\bin'
in_value = "path"
in_file = '{SETTINGS}'
[[verify]]
section = "Brindlewort *"
in_file = '{SETTINGS}'
"""
LEFT = DEVICES[: DEVICES.index("[Brindlewort")] + DEVICES[DEVICES.index("; of the till") :].replace(
    r"C:\Program Files\Brindlewort\bin\;", ""
)
HOSTS = "127.0.0.1 localhost\r\n# brindlewort: begin\r\n10.0.0.5 bridge.brindlewort.example\r\n# brindlewort: end\r\n10.0.0.6 till\r\n"


def office(folder: Path, codec: str = "utf-16-le") -> Bench:
    bench = Bench(folder)
    bench.on.files.add(SETTINGS, DEVICES.encode(codec))
    return bench


def text(bench: Bench, path: str = SETTINGS, codec: str = "utf-16-le") -> str:
    return bench.on.files.read(bench.on.files.path(path)).decode(codec)


@pytest.mark.parametrize("codec", ["utf-8", "utf-16-le", "utf-16-be"])
def test_there_and_back(tmp_path: Path, codec: str) -> None:
    """In each encoding; the mark at its beginning stays, and the remark above the next section."""
    bench = office(tmp_path, codec)
    before = bench.files
    job, ended = bench.run(STEPS)
    assert ended.clean
    assert text(bench, codec=codec) == LEFT
    shown = [line for row in job.record().rows for line in row.action.shows]
    assert "[Brindlewort Probe]" in shown
    assert job.undo().stays == []
    assert bench.files == before


def test_the_mark_stays_when_the_first_line_goes() -> None:
    data = "\ufeff[hoe]\nwide=1\n".encode()
    codec, lines = decode(data)
    assert lines[0] == "[hoe]\n"
    assert encode(codec, lines[1:]) == "\ufeffwide=1\n".encode()


def test_others_have_written_since(tmp_path: Path) -> None:
    """The item stands behind the one it stood behind, the section where it stood."""
    bench = office(tmp_path)
    job, _ = bench.run(STEPS)
    now = LEFT.replace("C:\\till;", "C:\\new;C:\\till;C:\\newer;") + "[New]\r\n"
    with bench.on.files.parent(bench.on.files.path(SETTINGS)) as (parent, name), parent.file(name) as file:
        file.truncate(0)
        file.write(now.encode("utf-16-le"))
    assert job.undo().stays == []
    back = DEVICES.replace("Path=C:\\till;", "Path=C:\\new;C:\\till;").replace("bin\\;C:\\tools", "bin\\;C:\\newer;C:\\tools")
    assert text(bench) == back + "[New]\r\n"


def test_killed_at_any_write(tmp_path: Path) -> None:
    for bench, job, before in each_kill(tmp_path, office, STEPS):
        with suppress(Refused):
            job.resume()
        assert text(bench) == LEFT
        assert job.undo().stays == []
        assert bench.files == before


@pytest.mark.parametrize("step", range(1, 8))
def test_killed_between_two_renames(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: int) -> None:
    """While the file stands nowhere for an instant, or the old one still lies beside the new one's place: nothing is lost."""
    bench, original, count = office(tmp_path), MemoryFolder.rename, [0]
    before = bench.files

    def rename(self: MemoryFolder, name: str, to: MemoryFolder, to_name: str) -> None:
        count[0] += "-lines" in name + to_name
        if count[0] == step:
            raise Killed
        original(self, name, to, to_name)

    monkeypatch.setattr(MemoryFolder, "rename", rename)
    with suppress(Killed):
        bench.run(STEPS)
    monkeypatch.undo()
    job = bench.again(bench.job(STEPS), next((bench.folder / "cases").iterdir()))
    with suppress(Refused):
        assert job.resume().clean
    assert text(bench) == LEFT
    assert job.undo().stays == []
    assert bench.files == before


def test_made_anew_by_another_in_that_instant(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """While it stands nowhere a program that misses it writes its own: neither is lost, and the message says where the old one is."""
    bench, original = office(tmp_path), MemoryFolder.rename

    def rename(self: MemoryFolder, name: str, to: MemoryFolder, to_name: str) -> None:
        original(self, name, to, to_name)
        if to_name.endswith(".old"):
            bench.on.files.add(SETTINGS, "usual\r\n".encode("utf-16"))

    monkeypatch.setattr(MemoryFolder, "rename", rename)
    with pytest.raises(Stopped, match=r"made anew by another program .* lies in (?P<where>\S+\.old)") as stopped:
        bench.run(STEPS)
    monkeypatch.undo()
    assert text(bench, codec="utf-16") == "usual\r\n"
    where = stopped.value.what.rpartition("lies in ")[2]
    assert text(bench, where) == DEVICES
    job = bench.again(bench.job(STEPS), next((bench.folder / "cases").iterdir()))
    job.undo()
    assert text(bench, where) == DEVICES
    assert "usual" in text(bench, codec="utf-16")


def test_a_block_between_two_lines(tmp_path: Path) -> None:
    """In the file that names machines, which may be read-only; one that is not ended is none."""
    bench = Bench(tmp_path)
    hosts = r"C:\Windows\System32\drivers\etc\hosts"
    bench.on.files.add(hosts, HOSTS, mode=0o444)
    step = f"[[delete]]\nsection = '# brindlewort: begin'\nup_to = '# brindlewort: end'\nin_file = '{hosts}'\n"
    job, ended = bench.run(step)
    assert ended.clean
    assert text(bench, hosts, "utf-8") == "127.0.0.1 localhost\r\n10.0.0.6 till\r\n"
    job.undo()
    assert text(bench, hosts, "utf-8") == HOSTS
    assert bench.plan(step.replace("wort: end", "wort: nowhere"))[0].state == "absent"


@pytest.mark.parametrize(
    ("content", "said"),
    [("[Brindlewort]\n".encode("utf-16-le"), "no text in an encoding"), (b"x" * (LONGEST + 1), "is longer than 8 MiB")],
)
def test_what_is_no_text_is_left_alone(tmp_path: Path, content: bytes, said: str) -> None:
    bench = Bench(tmp_path)
    bench.on.files.add(SETTINGS, content)
    (action, *_) = bench.plan(STEPS)
    assert action.state == "unreadable"
    assert said in action.reason
    before = bench.files
    with suppress(Refused, Stopped):
        bench.run(STEPS)
    assert {k: v for k, v in bench.files.items() if "devices.ini" in k} == {k: v for k, v in before.items() if "devices.ini" in k}


def test_lines_of_the_systems_own_files_are_refused(tmp_path: Path) -> None:
    bench = Bench(tmp_path)
    bench.on.files.add(r"C:\Windows\win.ini", "[Brindlewort]\nx=1\n")
    found = states(bench.plan("[[delete]]\nsection = 'Brindlewort'\nin_file = 'C:\\Windows\\win.ini'\n"))
    assert found[r"C:\Windows\win.ini"][0] == "refused"


@given(st.lists(st.sampled_from(["a", "b", "B/", "c d", ""]), max_size=5), st.sampled_from(['P="', "export P = ", "p='"]))
def test_a_line_that_lists(items: list[str], head: str) -> None:
    line = head + ":".join(items) + (head[-1] if head[-1] != " " else "") + "\r\n"
    found = listed(line, ":")
    assert found is not None
    assert found.sets("P")
    assert found.items == (items or [""])
    assert found.written(found.items) == line
    assert put_back(apply([line], []), []) == ([line], [])


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("section = '[Brindlewort]'\nin_file = 'C:\\b.ini'", "without its brackets"),
        ("section = 'B*'\nin_file = 'C:\\b.ini'", "at least 4 letters"),
        ("section = 'Brindlewort'", "in_file"),
        ("section = 'Brindlewort'\nin_file = 'b.ini'", "not a whole path"),
        ("list_item = 'C:\\Brindlewort'\nin_value = 'Path'", "write either in_key"),
        ("list_item = 'C:\\Brindlewort'\nin_value = 'Path'\nin_key = 'HKCU\\Environment'\nin_file = 'C:\\b.ini'", "write either in_key"),
        ("list_item = 'C:\\Brindlewort'\nin_value = 'Path'\nview = 64\nin_file = 'C:\\b.ini'", "a file has none"),
    ],
)
def test_bad_input(lines: str, said: str) -> None:
    problems = bad_step(lines)
    assert any(said in problem for problem in problems), problems
