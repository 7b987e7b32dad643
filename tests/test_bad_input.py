"""Bad input: one clear line with place and remedy, the right exit code, no traceback, nothing changed."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path

import pytest

from killing import run_until
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

PROBLEMS = [
    ("not toml", "format = 1\n[product\n", 2, ":2:"),
    ("windows path in double quotes", 'format = 1\n[[delete]]\npaths = ["C:\\Program Files"]', 2, "single quotes"),
    ("not utf-8", b"format = 1\n# \xff\n", 2, ":2:3: is not UTF-8"),
    ("wrong type", "[[delete]]\npaths = 'x'", 2, "must be a list, not a text"),
    ("unknown key", "[[delete]]\npaths = ['C:\\x']\nat_mots = 3", 2, "did you mean 'at_most'?"),
    ("unknown variable", "[[delete]]\npaths = ['{user.roming}\\x']", 2, "did you mean {user.roaming}?"),
    ("unknown percent variable", "[[delete]]\npaths = ['%APDATA%\\x']", 2, "did you mean %APPDATA%?"),
    ("unknown object", "[[delete]]\npahts = ['C:\\x']", 2, "did you mean 'paths'?"),
    ("two objects", "[[stop]]\nprocess = 'a'\nservice = 'b'", 2, "names two objects"),
    ("unknown phase", "[[remove]]\npaths = ['C:\\x']", 2, "unknown key 'remove'"),
    ("relative path", "[[delete]]\npaths = ['temp']", 2, "is not a whole path"),
    ("dots", "[[delete]]\npaths = ['C:\\a\\..\\b']", 2, "'..' are not allowed"),
    ("bad glob", "[[delete]]\npaths = ['C:\\a\\**b']", 2, "stands alone"),
    ("bad key", "[[delete]]\nkey = 'HKEY_USERS\\x'", 2, "a key begins with"),
    ("bad duration", "[[stop]]\nprocess = 'a'\nwithin = 'soon'", 2, "not a duration"),
    ("bad versions", "[product]\nid = 'a'\nname = 'A'\nversions = 'four'", 2, "not a condition"),
    ("bad choice", "[product]\nid = 'a'\nname = 'A'\nrestart = 'allways'", 2, "did you mean 'always'?"),
    ("not format 1", "format = 2\n[product]\nid = 'a'\nname = 'A'", 2, "format = 2 is not known"),
    ("nested too deeply", "x = " + "[" * 3000, 2, "p.toml"),
]


@pytest.mark.parametrize(("what", "text", "code", "says"), PROBLEMS, ids=[p[0] for p in PROBLEMS])
def test_procedures(kleff: Kleff, lab: Path, what: str, text: str | bytes, code: int, says: str) -> None:
    file = kleff.folder / "p.toml"
    if isinstance(text, bytes) or text.startswith(("format", "x =")):
        write(file, text)
    elif text.startswith("[product]"):
        write(file, "format = 1\n" + text)
    else:
        procedure(file, text)
    before = tree(lab)
    for command in (["run", file, "--yes"], ["preview", file], ["survey", file], ["verify", file]):
        done = kleff(*command, "--on", f"lab:{lab}", code=code)
        assert says in done.err, done.err
        assert "p.toml:" in done.err
    assert says in kleff("check", file, code=code).out
    assert differences(before, tree(lab)) == []


def test_problems_of_all_steps_are_told_at_once(kleff: Kleff) -> None:
    file = procedure(
        kleff.folder / "p.toml", "[[delete]]\npaths = ['x']\noptional = 1\n[[stop]]\nproces = 'a'\n[[delete]]\nkey = 'HKXX\\a'\n"
    )
    out = kleff("check", file, code=2).out
    assert [line.split(":")[1] for line in out.splitlines()] == ["7", "8", "10", "12"]


def test_what_is_not_there(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    on = ("--on", f"lab:{lab}")
    assert "there is no such file" in kleff("run", "nowhere.toml", *on, "--yes", code=2).err
    assert "neither a file nor a procedure" in kleff("preview", "nothing", *on, code=2).err
    assert "cannot be read" in kleff("survey", tmp_path, *on, code=2).err
    for command in ("resume", "undo", "discard", "report"):
        assert "there is no such case" in kleff(command, "nothing", code=3).err
        assert "case.db is missing" in kleff(command, lab, code=3).err
    assert "none yet" in kleff("cases").out
    for spec, says in (
        ("lab:/nowhere", "no such folder"),
        ("root:/nowhere", "no such folder"),
        ("moon", "not a workstation"),
        (f"root:{lab}", "not a Linux tree"),
    ):
        assert says in kleff("survey", tag_studio, "--on", spec, code=3).err
    assert "--yes needs the workstation" in kleff("run", tag_studio, "--yes", code=2).err
    assert "not confirmed" in kleff("run", tag_studio, *on, code=3).err
    assert "there already" in kleff("demo", lab, code=3).err
    assert "there already" in kleff("lab", "make", lab, code=3).err
    assert kleff("run", code=2).err
    assert kleff("frobnicate", code=2).err
    assert "no such library" in kleff("list", "--library", "nowhere", code=2).err
    assert "belong together" in kleff("resume", "x", "--skip", "3", code=2).err


@pytest.mark.parametrize("missing", ["lab.toml", "files", "registry/HKLM.reg"])
def test_an_incomplete_lab(kleff: Kleff, lab: Path, tag_studio: Path, missing: str) -> None:
    path = lab / missing
    shutil.rmtree(path) if path.is_dir() else path.unlink()
    assert "is missing" in kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", code=3).err
    assert "is missing" in kleff("lab", "show", lab, code=3).err


@pytest.mark.parametrize(
    ("file", "content", "code"),
    [
        ("lab.toml", "format = 1\nname = 3\n", 3),
        ("lab.toml", "this is = = not toml", 3),
        ("registry/HKLM.reg", 'Windows Registry Editor Version 5.00\n\n[HKEY_LOCAL_MACHINE\\x]\n"a"=wrong\n', 3),
        ("registry/HKLM.reg", "hello", 3),
        ("registry/HKLM.reg", b"\xff\xfe\x00", 3),
        ("state/state.json", "{", 3),
    ],
)
def test_a_damaged_lab(kleff: Kleff, lab: Path, tag_studio: Path, file: str, content: str | bytes, code: int) -> None:
    write(lab / file, content)
    before = tree(lab)
    done = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", code=code)
    assert Path(file).name in done.err
    assert differences(before, tree(lab)) == []


def test_damaged_cases(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    case, state = kleff.case(), tree(lab)
    good = (case / "case.db").read_bytes()
    for damage, says, code in ((b"no database", "cannot be read", 3), (good[:3000], "cannot be read", 3), (b"", "was never begun", 3)):
        (case / "case.db").write_bytes(damage)
        for command in ("resume", "undo", "discard", "report"):
            assert says in kleff(command, case, code=code).err
        assert "damaged" in kleff("cases").out
    (case / "case.db").write_bytes(good)
    with sqlite3.connect(case / "case.db") as db:
        db.execute("PRAGMA user_version=7")
    for command in ("undo", "report", "resume"):
        err = kleff(command, case, code=3).err
        assert "has format 7" in err
        assert "a newer one" in err
        assert "is damaged" not in err
    assert differences(state, tree(lab)) == []


def test_a_case_belongs_to_its_workstation(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    text = (lab / "lab.toml").read_text()
    (lab / "lab.toml").write_text(text.replace("potting-02-", "potting-03-"))
    state = tree(lab)
    for command in ("undo", "discard"):
        assert "made on another workstation" in kleff(command, kleff.case(), "--yes", code=3).err
    assert differences(state, tree(lab)) == []


@pytest.mark.skipif(not IS_ROOT, reason="needs root: drops rights to an ordinary account")
def test_no_permission(lab: Path, tag_studio: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    """An ordinary account gets a clear no with its remedy, and nothing has changed."""
    import tempfile

    open_folder = Path(tempfile.mkdtemp(prefix="kleff-open-"))  # pytest's own folders are closed to others
    try:
        open_folder.chmod(0o755)
        shutil.copytree(lab, open_folder / "lab", symlinks=True)
        top = linux_tree(open_folder / "tree")
        hidden = write(open_folder / "hidden.toml", tag_studio.read_text(), mode=0o600)
        text = "[[evidence]]\npath = '/opt/x'\n[[delete]]\npaths = ['/opt/x']\n"
        readable = procedure(open_folder / "p.toml", text)
        write(top / "opt/x")
        studio = write(open_folder / "studio.toml", tag_studio.read_text())
        before = tree(open_folder)
        for words, code, says in (
            (["survey", hidden, "--on", f"lab:{open_folder}/lab"], 2, "cannot be read: Permission denied"),
            (["run", readable, "--on", f"root:{top}", "--yes"], 3, "needs an administrator"),
            (["run", studio, "--on", f"lab:{open_folder}/lab", "--yes", "--cases", "/nonexistent/cases"], 3, "ermission denied"),
            (["cases", "--cases", "/root/none"], 3, "ermission denied"),
        ):
            log = tmp_path_factory.mktemp("log") / "log"
            log.touch()
            ended = run_until([*map(str, words)], 0, False, log, account=65534)[0]
            said = log.read_text()
            assert (ended, says in said) == (code, True), said
            assert "Traceback" not in said
            assert "What to do" in said
        assert differences(before, tree(open_folder)) == []
    finally:
        shutil.rmtree(open_folder)


def test_reports_never_overwrite(kleff: Kleff, lab: Path, tag_studio: Path, tmp_path: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    precious = write(tmp_path / "precious.md", "mine")
    assert "never overwrite" in kleff("report", kleff.case(), "--format", "markdown", "--output", precious, code=3).err
    assert precious.read_text() == "mine"
