"""A plan that a tired person can read: what needs her first, one line a step, the sums; never wider than the screen."""

from __future__ import annotations

import os
import pty
import re
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.report.lines import Page
from kleff.report.short_plan import short_plan
from memory import Bench, delete
from support import Kleff, procedure, write

STEP = re.compile(r"^  [A-Z]?[a-z ]{0,11}\s+\d+  \S")


@pytest.mark.parametrize("width", [60, 79, 100, 140, 200])
def test_the_demo_fits(kleff: Kleff, lab: Path, tag_studio: Path, width: int) -> None:
    words = ("preview", tag_studio, "--on", f"lab:{lab}")
    lines = kleff(*words, short=True, installed=True, env={"COLUMNS": str(width)}).out.splitlines()
    assert len(lines) <= 40
    assert max(map(len, lines)) <= width
    assert next(n for n, line in enumerate(lines) if "RESCUED FIRST: 3 files of mira" in line) < next(
        n for n, line in enumerate(lines) if STEP.match(line)
    )
    assert sum(line.split()[:2] in (["Save", "52"], ["52", "licence"]) for line in lines) == 1
    assert [line for line in lines if line.strip().startswith(("58", "124"))][-1].split()[1] == "profiles"


def test_in_a_pipe_it_has_a_hundred_columns(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    environment = {name: value for name, value in os.environ.items() if name != "COLUMNS"}
    words = [kleff.program, "preview", tag_studio, "--on", f"lab:{lab}"]
    out = subprocess.run([str(w) for w in words], env=environment, capture_output=True, text=True, check=True).stdout
    assert 90 < max(map(len, out.splitlines())) <= 100


def test_what_needs_her_comes_first(folder: Path) -> None:
    """Refused, not ready, by hand, no return, could not be looked for, what of others stays inside: before the first step."""
    bench = Bench(folder)
    for name in ("Hoe", "Rake"):
        bench.on.files.add(rf"C:\Program Files\Rakeworks\{name}\tool.exe", "x")
    bench.on.files.add(r"C:\Program Files\Rakeworks\Rake\beds.txt", "x")
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", r"C:\Program Files\Rakeworks\Hoe", "", "Rakeworks")
    body = (
        r"[keep]" "\n" r"paths = ['C:\Program Files\Rakeworks\Rake\tool.exe']" "\n"
        "[[before]]\nmanual = 'Unplug the probe.'\nid = 'probe'\n"
        "[[backup]]\nlabel = 'beds'\npaths = ['{user.roaming}\\beds']\naccounts = ['mirra']\n"
        "[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n"
        + delete(r"C:\Windows") + delete(r"C:\Program Files\Rakeworks\Rake")
    )  # fmt: skip
    made = bench.preview("[[evidence]]\nentry = 'Rakeworks Hoe'\n" + body)
    lines = short_plan(made.here, made.plan).text().splitlines()
    top = lines[1 : lines.index("")]
    assert [line.strip().partition(":")[0] for line in top] == [
        "REFUSED", "REFUSED", "BY HAND FIRST", "BY HAND IN BETWEEN", "STAYS INSIDE",
    ]  # fmt: skip
    assert not any(STEP.match(line) for line in top)
    for number in range(30):
        bench.on.files.add(rf"C:\Windows\{number}\x", "x")
    many = bench.preview("".join(delete(rf"C:\Windows\{n}") for n in range(30)))
    assert "... and 25 more of these; --full shows all" in short_plan(many.here, many.plan).text()


def test_a_large_plan_has_a_line_a_step(folder: Path) -> None:
    """150 steps for 20 accounts."""
    bench = Bench(folder, "linux")
    bench.on.accounts = [f"person{n:02d}" for n in range(20)]
    for number in range(150):
        bench.on.files.add(f"/home/person00/.hoe/{number}", "x")
    made = Bench.preview(bench, "".join(delete("{user.home}/.hoe/" + str(n)) for n in range(150)))
    assert len(made.plan.actions) >= 150
    lines = short_plan(made.here, made.plan).text(width=100).splitlines()
    assert len(lines) < 150 + 15
    assert max(map(len, lines)) <= 100


def test_looking_into_a_step(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    words = ("preview", tag_studio, "--on", f"lab:{lab}")

    def numbers(*options: object) -> list[int]:
        out = kleff(*words, *options, short=True).out
        return [int(n) for n in re.findall(r"(?m)^  [ !]\s*(\d+)  \w", out)]

    actions = kleff(*words, "--json").json()["actions"]
    assert numbers("--full") == [a["number"] for a in actions]
    assert numbers("--label", "designs") == [a["number"] for a in actions if a["label"] == "designs"]
    assert numbers("--line", 137, "--line", 52) == [a["number"] for a in actions if a["line"] in (137, 52)]
    assert numbers("--state", "absent", "--state", "kept") == [a["number"] for a in actions if a["state"] in ("absent", "kept")]
    assert numbers("--state", "absent", "--label", "designs") == [
        a["number"] for a in actions if a["state"] == "absent" and a["label"] == "designs"
    ]
    for wrong, there in (("--label", "licence, "), ("--state", "absent, "), ("--line", "38, 42, ")):
        said = kleff(*words, wrong, "7", code=2, short=True).err
        assert f"no step or action has the {wrong[2:]}" in said
        assert there in said


@given(st.lists(st.tuples(st.text("abc \\/é…", max_size=90), st.just("plain")), min_size=1, max_size=6), st.integers(1, 120))
def test_a_row_is_never_too_long_and_never_two(pieces: list[tuple[str, str]], width: int) -> None:
    page = Page(narrow=True)
    page.row(*pieces)  # type: ignore[arg-type]
    text = page.text(width=width)
    assert "\n" not in text
    assert len(text) <= width
    whole = "".join(text for text, _ in pieces).rstrip()
    if len(whole) <= width:
        assert text == whole


def test_a_pager_where_it_does_not_fit(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    """On a terminal of 24 lines, and not where it fits."""
    pager = write(tmp_path / "pager", f"#!/bin/sh\necho paged >> {tmp_path}/asked\ncat\n", mode=0o755)
    short = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['C:\\Garden\\hoe']\n")
    for file, paged in ((short, False), (tag_studio, True)):
        terminal, end = pty.openpty()
        environment = {**os.environ, "PAGER": str(pager), "TERM": "xterm", "LINES": "24", "COLUMNS": "100"}
        words = [kleff.program, "preview", file, "--on", f"lab:{lab}"]
        child = subprocess.Popen([str(w) for w in words], stdin=end, stdout=end, stderr=end, env=environment)
        os.close(end)
        shown = b""
        while True:
            try:
                piece = os.read(terminal, 65536)
            except OSError:
                break
            shown += piece
            if not piece:
                break
        assert child.wait(20) == 0
        os.close(terminal)
        assert b"What will be done" in shown
        assert (tmp_path / "asked").exists() == paged


def test_quiet_is_quiet(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    on = ("--on", f"lab:{lab}", "--yes", "--quiet")
    done = kleff("run", tag_studio, *on, short=True)
    assert done.out + done.err == ""
    undone = kleff("undo", kleff.case(), "--yes", "--quiet")
    assert undone.out + undone.err == ""
    gone = kleff("discard", kleff.case(), "--yes", "--quiet")
    assert gone.out + gone.err == ""


def test_progress_names_steps(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    done = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", short=True)
    lines = done.err.splitlines()
    assert "  58  save designs: 4 places" in lines
    assert " 109  uninstall Brindlewort Tag Studio 4.2 (4.2.0), and 1 more" in lines
    assert r"     kept: C:\Program Files\Brindlewort: not empty" in lines
    assert sum(" set aside " in line for line in lines) == 5
    assert len([line for line in done.out.splitlines() if STEP.match(line)]) >= 20
