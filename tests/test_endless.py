"""Files and streams that end no sooner for being endless: one line, or silence, and the right exit code."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from kleff.engine.checking.static import always_refused
from kleff.engine.library import parse
from support import Kleff, write

HEAD = 'format = 1\n[product]\nid = "hoe"\nname = "Hoe"\nvendor = "Rakeworks"\n[[evidence]]\npath = "/opt/hoe"\n'
WITHOUT_END = {
    "an integer of 5,000 digits": ("after_minutes = " + "9" * 5000 + "\n", ":8:17: a number has too many digits"),
    "an array within 5,000 arrays": ("x = " + "[" * 5000 + "]" * 5000 + "\n", ": nested too deeply"),
    "a key of 60,000 dots": ("x." * 60_000 + "x = 1\n", ": nested too deeply"),
    "a key of 60,000 dots in a table": ("x = {" + "'y y' . " * 15_000 + "x = 1}\n", ": nested too deeply"),
    "a path of 24,000 folders": ("[[delete]]\npaths = ['/opt/" + "**/a/" * 24_000 + "b']\n", "is longer than 4,096 characters"),
    "a key of 60,000 names": ("[[delete]]\nkey = 'HKLM\\" + "a\\" * 60_000 + "b'\n", "is longer than 4,096 characters"),
    "a table within 5,000 tables": ("[" + ".".join(["a"] * 5000) + "]\n", ": nested too deeply"),
    "inline tables within 5,000": ("x = " + "{a=" * 5000 + "1" + "}" * 5000 + "\n", ": nested too deeply"),
    "as many keys as it may have": ("\n".join(f"k{i} = 1" for i in range(10_000)) + "\n", "more problems"),
    "a million keys": ("\n".join(f"k{i} = 1" for i in range(1_000_000)) + "\n", ": is larger than 128 KiB"),
    "a NUL": ('[[delete]]\npaths = ["/opt/hoe/\\u0000"]\n', "has a control character"),
}


@pytest.mark.parametrize("what", WITHOUT_END)
def test_no_file_is_without_end(kleff: Kleff, tmp_path: Path, what: str) -> None:
    body, told = WITHOUT_END[what]
    file = tmp_path / "p.toml"
    file.write_text(HEAD + body)
    said = kleff("check", file, code=2)
    assert told in said.out
    assert "Traceback" not in said.out + said.err
    assert len(said.out.splitlines()) <= 102


def test_very_many_stars(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Names, folders and keys: the work grows with their length."""
    for name in ("a" * 255, "b/" + "a/" * 60):
        write(lab / "files/C/hoe" / name.rstrip("/") / "x", "x")
    stars, folders = "a*" * 60 + "z", "\\".join(["**", "a"] * 28)
    steps = f"[[delete]]\npaths = ['C:\\hoe\\*{stars}', 'C:\\hoe\\{folders}\\z']\n[[stop]]\nservice = '{stars}'\n"
    (tmp_path / "p.toml").write_text(HEAD.replace('"/opt/hoe"', "'C:\\opt\\hoe'") + steps)
    said = kleff("preview", tmp_path / "p.toml", "--on", f"lab:{lab}", installed=True, timeout=20)
    assert said.out.count("absent") >= 3


def test_a_pipe_is_no_procedure(kleff: Kleff, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "p.toml")
    assert "is not a regular file" in kleff("check", tmp_path / "p.toml", code=2).out


def test_steps_are_looked_at_once(tmp_path: Path) -> None:
    """As many steps as a file may have: the work grows with their number, not with its square."""
    body = HEAD + "[[delete]]\npaths = ['/opt/hoe']\n" * 2_000
    seen: list[int] = []
    for raw in (body[: len(body) // 2].rpartition("[[")[0], body):
        procedure = parse(raw.encode(), "p.toml")
        calls = 0

        def count(frame: object, event: str, arg: object) -> None:
            nonlocal calls
            calls += event == "call"

        sys.setprofile(count)
        try:
            always_refused(procedure)
        finally:
            sys.setprofile(None)
        seen.append(calls)
    assert seen[1] < 2.5 * seen[0]


@pytest.mark.parametrize("closed", [(1,), (2,), (1, 2), (0, 1, 2)])
def test_closed_streams(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path, closed: tuple[int, ...]) -> None:
    """What is opened next has their number: the journal must not be what a program writes to."""
    cases = tmp_path / "cases"
    words = [kleff.program, "run", tag_studio, "--on", f"lab:{lab}", "--yes", "--cases", cases, "--without-evidence"]
    done = subprocess.run(
        [str(w) for w in words], preexec_fn=lambda: [os.close(n) for n in closed] and None, capture_output=True, check=False
    )
    plain = kleff("report", next(cases.iterdir()), "--json", "--cases", cases)
    assert json.loads(plain.out)["case"]["state"] == "finished"
    assert done.returncode in (0, 4, 6)
    assert b"Traceback" not in done.stdout + done.stderr


def test_a_reader_that_goes_away(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """The work goes on to its end, and ends with the same code."""
    reader, writer = os.pipe()
    os.close(reader)
    cases = tmp_path / "cases"
    words = [kleff.program, "run", tag_studio, "--on", f"lab:{lab}", "--yes", "--cases", cases, "--without-evidence"]
    done = subprocess.run([str(w) for w in words], stdout=writer, stderr=writer, check=False)
    os.close(writer)
    assert done.returncode in (0, 4, 6)
    assert json.loads(kleff("report", next(cases.iterdir()), "--json").out)["case"]["state"] == "finished"


def test_no_room_for_what_is_said(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """What was only asked for has failed (3); what was done to a workstation keeps its own code."""
    on = ("--on", f"lab:{lab}")
    with Path("/dev/full").open("w") as full:
        for words in (("preview", tag_studio, *on), ("preview", tag_studio, *on, "--json"), ("survey", tag_studio, *on), ("--help",)):
            done = subprocess.run([kleff.program, *map(str, words)], stdout=full, stderr=subprocess.PIPE, text=True)
            assert done.returncode == 3, words
            assert done.stderr.startswith("kleff: what there was to say cannot be written: No space left on device")
            assert "Traceback" not in done.stderr
        run = [kleff.program, "run", str(tag_studio), *on, "--yes", "--cases", str(kleff.cases)]
        done = subprocess.run(run, stdout=full, stderr=subprocess.PIPE, text=True)
        assert done.returncode == 0
        assert "cannot be written: No space left on device" in done.stderr
    assert "gone: looked at" in kleff("report", kleff.case()).out
