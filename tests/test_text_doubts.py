"""The same thing in other words, in text files: what is surely the one thing goes and nothing wider; what may be it is left, and told."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.objects.texts.doubts import doubtful, otherwise_encoded
from kleff.workstation.files.lines import apply, decode, encode, taking_out
from memory import Bench

NAME = "[[delete]]\nlines = 'hoe.example'\nin_file = '/etc/hosts'\n"
SETS = "[[delete]]\nlines = 'export HOE_HOME=/opt/hoe'\nin_file = '/etc/hosts'\n"
ITEM = "[[delete]]\nlist_item = '/opt/hoe/bin'\nin_file = '/etc/hosts'\nin_value = 'PATH'\nbetween = ':'\n"
SECTION = "[[delete]]\nsection = 'hoes one'\nin_file = '/etc/hosts'\n"
LETTERS = "[[delete]]\nlines = 'Häcksler'\nin_file = '/etc/hosts'\n"
GOES = [  # what stands there, and what is left
    (NAME, b"a\rhoe.example\rb\r", b"a\rb\r"),
    (NAME, b"a\r\nhoe.example\rb\nc", b"a\r\nb\nc"),
    (NAME, b"a\nhoe.example # ours", b"a\n"),
    (NAME, b"a hoe.example.org\nhoe.example\n", b"a hoe.example.org\n"),
    (NAME, b"# hoe.example stood here\nhoe.example\n", b""),
    (NAME, "a\nhoe.example\nb\n".encode("utf-16"), "a\nb\n".encode("utf-16")),
    (SETS, b"  export HOE_HOME=/opt/hoe\nexport HOE_HOME2=/opt/hoe2\n", b"export HOE_HOME2=/opt/hoe2\n"),
    (ITEM, b'export PATH="/a:/opt/hoe/bin:/opt/hoe/bin2"\n', b'export PATH="/a:/opt/hoe/bin2"\n'),
    (ITEM, b"PATH=/opt/hoe/bin/:/b\nOTHER=/opt/hoe/bin\n", b"PATH=/b\nOTHER=/opt/hoe/bin\n"),
    (SECTION, b"[hoes one]\nb=2 \\\n  more\nc=3\n[rake]\na=1\n", b"[rake]\na=1\n"),
    (SECTION, b'[rake]\na=1\n[hoes one]\nb=2\n[neigh "x"] url = x\nc=3\n', b'[rake]\na=1\n[neigh "x"] url = x\nc=3\n'),
]
LEFT = [
    (NAME, b"hoe.example.\n"),
    (NAME, b"a \\\nhoe.example\nb\n"),
    (NAME, b"hoe.example \\\nrake.example\n"),
    (NAME, "a\nhoe.example\n".encode("utf-32")),
    (NAME, "a\nhoe.example\n".encode("utf-16-le")),
    (SETS, b'export HOE_HOME="/opt/hoe"\n'),
    (SETS, b"HOE_HOME=/opt/hoe; export HOE_HOME\n"),
    (SETS, b"declare -x HOE_HOME=/opt/hoe\n"),
    (ITEM, b"PATH+=:/opt/hoe/bin\n"),
    (ITEM, b"declare -x PATH=/a:/opt/hoe/bin\n"),
    (ITEM, b"if x; then PATH=/a:/opt/hoe/bin; fi\n"),
    (ITEM, b"PATH=/a:/opt/hoe/bin # ours\n"),
    (ITEM, b"PATH=/a:'/opt/hoe/bin'\n"),
    (ITEM, b"PATH=/a:\\\n/opt/hoe/bin:/b\n"),
    (ITEM, b"path=(/opt/hoe/bin $path)\n"),
    (SECTION, b"[rake]\na=1\n[hoes one] url = x\nb=2\n"),
    (SECTION, b"[hoes one]\nb=2\nc=3 \\\n[rake]\na=1\n"),
    (SECTION, b"[rake]\na=1 \\\n[hoes one]\nb=2\n"),
    (LETTERS, "der Häcksler\n".encode("cp1252")),
    (LETTERS, "der Häcksler\n".encode("cp850")),
    (LETTERS, "der Ha\u0308cksler\n".encode()),
    (LETTERS, "der Häcksler\n".encode("utf-16-be")),
]
NOT_MEANT = [
    ("[[delete]]\nlines = 'beds = 7'\nin_file = '/etc/hosts'\n", b"beds = 4\nrows = 7\n"),
    (NAME, b"a\nrake.example\nhoe.example.org\nmy-hoe.example\n"),
    (NAME, b"; hoe.example.\n// hoe.example.\n"),
    (SETS, b"export RAKE=/opt/hoe\nHOE_HOME=/opt/rake\n"),
    (ITEM, b"PATH=/a:/opt/hoe/bin2:/opt/hoe/bin/sub\nMANPATH=/opt/hoe/bin\n"),
    (SECTION, b"[rake]\nhoes one = 2\n"),
]


def bench(folder: Path, content: bytes) -> Bench:
    made = Bench(folder, "linux")
    made.on.files.add("/etc/hosts", content)
    return made


def content_of(made: Bench) -> bytes:
    return made.on.files.read(made.on.files.path("/etc/hosts"))


@pytest.mark.parametrize(("step", "there", "left"), GOES)
def test_what_surely_is_the_thing_goes_alone(folder: Path, step: str, there: bytes, left: bytes) -> None:
    made = bench(folder, there)
    if there.startswith(b"# hoe"):  # a line that holds the name goes, be it a remark
        left = b""
    job, ended = made.run(step)
    assert content_of(made) == left
    assert ended.clean
    job.undo()
    assert content_of(made) == there


@pytest.mark.parametrize(("step", "there"), LEFT)
def test_what_may_be_the_thing_is_left_and_told(folder: Path, step: str, there: bytes) -> None:
    """Shown before, left by the run, told as not known after it, and by verify."""
    made = bench(folder, there)
    (action,) = made.plan(step, phase="delete")
    assert action.state in ("unknown", "unreadable")
    assert action.state == "unreadable" or action.shows
    told = made.job(step).verify()
    assert not told.clean
    assert told.findings[0].state in ("unknown", "unreadable")
    assert content_of(made) == there


@pytest.mark.parametrize(("step", "there"), NOT_MEANT)
def test_doubt_needs_a_reason(folder: Path, step: str, there: bytes) -> None:
    made = bench(folder, there)
    assert made.job(step).verify().clean
    assert content_of(made) == there


WORDS = ["hoe.example", "rake.example", "hoe.example.org", "x", "", "#", "\\", "=", "ä", "\u2028", "hoe", "\t"]
LINE = st.tuples(st.lists(st.sampled_from(WORDS), max_size=4).map(" ".join), st.sampled_from(["\n", "\r\n", "\r"]))
TEXT = st.lists(LINE, max_size=8)


@given(TEXT, st.sampled_from(["utf-8", "utf-16-le", "utf-8-sig"]))
def test_never_wider_than_the_thing(parts: list[tuple[str, str]], codec: str) -> None:
    """Byte for byte: every line that does not hold the name stays, with its end; and of what is left with the name each line is a doubt."""
    data = encode(codec, ["".join(line + end for line, end in parts)])
    found, lines = decode(data)
    assert encode(found, lines) == data
    made = taking_out(lines, ["hoe.example"])
    left = apply(lines, made)
    assert [line for line in lines if "hoe.example" not in line.split()] == left
    assert doubtful(lines, made, [["hoe.example"]], True, False) == []
    assert otherwise_encoded(found, lines, made, ["hoe.example"]) == ""
