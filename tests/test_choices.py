"""Questions whose answers change what is done: asked, given, remembered, and shown with what the other answer would change."""

from __future__ import annotations

import shutil
from pathlib import Path

import pexpect
import pytest

from killing import run_until
from kleff.procedure.conditions import BadCondition, not_wanted, parse_condition
from support import IS_ROOT, Kleff, differences, ended, hives, linux_tree, procedure, tree, write

ASKS = """
[[ask]]
id = "coming-back"
question = "Will it be installed again?"
default = false
[[ask]]
id = "edition"
question = "Which edition is it?"
type = "one"
choices = ["school", "garden"]
[[ask]]
id = "parts"
question = "Which parts go too?"
type = "some"
choices = ["printing", "scanning"]
default = []
"""
STEPS = """
[[delete]]
label = "all of it"
paths = ['/opt/brindlewort']
[[delete]]
label = "profile"
unless = "coming-back"
paths = ['/opt/brindlewort/profile']
[[delete]]
when = "edition is school"
paths = ['/srv/school']
[[delete]]
when = "parts has printing and not coming-back"
paths = ['/srv/printing']
"""


def bench(tmp_path: Path) -> tuple[Path, Path]:
    top = linux_tree(tmp_path / "tree")
    for name in ("opt/brindlewort/bin", "opt/brindlewort/profile", "srv/school/x", "srv/printing/y"):
        write(top / name, name)
    return top, procedure(tmp_path / "p.toml", ASKS + STEPS)


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
def test_answers_change_what_is_done(kleff: Kleff, tmp_path: Path) -> None:
    """What the answer does without stays, also below a folder that another step names; the case remembers."""
    top, file = bench(tmp_path)
    on = ["--on", f"root:{top}"]
    shown = kleff("preview", file, *on, "--answer", "edition=school").out
    assert "Will it be installed again?  no   (the procedure's own; change it with  --answer coming-back=...)" in shown
    assert "with yes: 1 action fewer (23 B)" in shown
    assert "with garden: 1 action fewer (12 B)" in shown
    words = ["--answer", "edition=school", "--answer", "coming-back=yes", "--answer", "parts=printing,scanning"]
    document = kleff("preview", file, *on, *words, "--json").json()
    assert [(c["id"], c["answer"], c["given"]) for c in document["choices"]] == [
        ("coming-back", "yes", True), ("edition", "school", True), ("parts", "printing, scanning", True),
    ]  # fmt: skip
    states = {a["target"]: (a["state"], a["reason"]) for a in document["actions"] if a["phase"] == "delete"}
    assert states["/opt/brindlewort/profile"] == ("kept", "not when coming-back; it is yes")
    assert states["/srv/printing"] == ("kept", "only when parts has printing and not coming-back; it is printing, scanning, yes")
    kleff("run", file, *on, "--yes", *words)
    left = sorted(str(p.relative_to(top)) for p in (top / "opt").rglob("*")) + [p.name for p in (top / "srv").iterdir()]
    assert left == ["opt/brindlewort", "opt/brindlewort/profile", "printing"]
    assert "nothing is left" in kleff("verify", kleff.case()).out
    assert "from the case" in kleff("verify", file, *on).out
    assert "a case has its own answers" in kleff("verify", kleff.case(), *words, code=2).err
    assert "nothing is left" in kleff("verify", file, *on, *words).out
    assert "nothing is left" in kleff("verify", file, *on, "--answer", "edition=school").out
    assert "/opt/brindlewort/profile" in kleff("verify", file, *on, "--answer", "coming-back=no", code=4).out
    assert "coming-back: yes, edition: school, parts: printing, scanning" in kleff("report", kleff.case()).out
    kleff("undo", kleff.case(), "--yes")
    assert (top / "srv/school/x").exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
@pytest.mark.skipif(not IS_ROOT, reason="needs root: a program that is run as administrator")
@pytest.mark.usefixtures("this_machine")
def test_other_answers_run_no_program_again(kleff: Kleff, tmp_path: Path) -> None:
    """A listing may take long; a preview asks for it once, whatever it compares. A run asks again only when it exports."""
    place = Path("/opt/brindlewort-listing")
    try:
        counts = f'#!/bin/sh\necho "$1" >> {place}/asked\n[ "$1" = list ] || exit 4\necho sage\n'
        program = write(place / "beds", counts, mode=0o755)
        steps = "".join(
            f"[[backup]]\nlabel = '{verb}'\nrequired = false\ncommand = ['{program}', 'export']\nlists = ['{program}', '{verb}']\n"
            f"saves_as = '{verb}.txt'\n" for verb in ("list", "fail")
        )  # fmt: skip
        file = procedure(tmp_path / "p.toml", ASKS + steps)
        shown = kleff("preview", file, "--on", "this", "--answer", "edition=school").out
        assert "holds 1 thing\n" in shown
        assert "could not be listed" in shown
        assert "with garden: the same" in shown
        assert (place / "asked").read_text().split() == ["list", "fail"]
    finally:
        shutil.rmtree(place)


def test_remembered_after_a_kill(tmp_path: Path) -> None:
    """Killed half-way, resume does what was answered, not what the procedure would by itself."""
    top, file = bench(tmp_path)
    words = [
        "run",
        str(file),
        "--on",
        f"root:{top}",
        "--yes",
        "--without-evidence",
        "--cases",
        str(tmp_path / "cases"),
        "--answer",
        "edition=garden",
    ]
    assert run_until([*words, "--answer", "coming-back=yes"], 8, True, tmp_path / "log")[0] < 0
    assert run_until(["resume", str(next((tmp_path / "cases").iterdir()))], 0, False, tmp_path / "log")[0] == 0
    assert (top / "opt/brindlewort/profile").exists()
    assert (top / "srv/school").exists()
    assert not (top / "opt/brindlewort/bin").exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
def test_not_answered_nothing_is_done(kleff: Kleff, tmp_path: Path) -> None:
    top, file = bench(tmp_path)
    on = ["--on", f"root:{top}"]
    for verb, more in (("run", ["--yes"]), ("preview", [])):
        done = kleff(verb, file, *on, *more, code=3)
        assert "not answered: Which edition is it?" in done.err
        assert "--answer edition=school|garden" in done.err
    for answer, why in (
        ("edition=tree", "'tree' does not answer: Which edition is it?"), ("coming-back=perhaps", "answer with yes|no"),
        ("parts=printing,glue", "several with commas"), ("other=1", "nothing is asked with the id 'other'"),
        ("edition", "write  --answer ID=VALUE"),
    ):  # fmt: skip
        assert why in kleff("run", file, *on, "--yes", "--answer", answer, code=2).err
    assert not kleff.cases.exists()


@pytest.mark.skipif(not IS_ROOT, reason="needs root: a tree that is not a lab")
def test_asked_on_a_terminal(kleff: Kleff, tmp_path: Path) -> None:
    """Each question once, before the preview; an empty answer is the default."""
    top, file = bench(tmp_path)
    words = ["run", str(file), "--on", f"root:{top}", "--cases", str(kleff.cases), "--answer", "parts=printing"]
    child = pexpect.spawn(str(kleff.program), words, encoding="utf-8", timeout=60, dimensions=(60, 160))
    child.expect(r"Will it be installed again\?\s+\[y/N\] ")
    child.sendline("")
    child.expect(r"Which edition is it\?\s+\[school / garden\] ")
    child.sendline("school")
    child.expect("What will be done")
    child.expect(r"Do this on .*\[y/N\] ")
    assert "Which parts" not in child.before.split("ASKED")[0]
    child.sendline("y")
    child.expect("is gone")
    assert (ended(child), (top / "srv/school").exists(), (top / "srv/printing").exists()) == (0, False, False)


def test_the_demos_question(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """With yes, profiles and settings stay for the next installation; verify counts them as kept on purpose."""
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--answer", "coming-back=yes", code=None)
    assert list((lab / "files/C/Users").glob("*/AppData/Roaming/Brindlewort/Tag Studio"))
    verified = kleff("verify", kleff.case(), "--json", code=None).json()
    assert {f["state"] for f in verified["findings"]} == {"kept"}


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ('[[ask]]\nid = "x"\nquestion = "?"\n[[ask]]\nid = "x"\nquestion = "?"', "'x' is asked twice"),
        ('[[ask]]\nid = "bits"\nquestion = "?"', "is the name of a fact"),
        ('[[ask]]\nid = "x"\nquestion = "?"\ntype = "one"', "needs at least two choices"),
        ('[[ask]]\nid = "x"\nquestion = "?"\ndefault = "a"', "is true or false"),
        ('[[ask]]\nid = "x"\nquestion = "?"\ntype = "one"\nchoices = ["a", "b"]\ndefault = "c"', "'c' is none of the choices"),
        ('[[ask]]\nid = "x"\nquestion = "?"\n[[delete]]\npaths = ["/opt/x"]\nwhen = "y"', "nothing is asked with the id 'y'"),
        ('[[ask]]\nid = "x"\nquestion = "?"\n[[delete]]\npaths = ["/opt/x"]\nwhen = "x is yes"', "'x' is written  x"),
        ('[[delete]]\npaths = ["/opt/x"]\nunless = "A and"', "is not a condition"),
        ('[[delete]]\npaths = ["/opt/x"]\nwhen = "bits"', "'bits' is written  bits is VALUE"),
    ],
)
def test_what_cannot_be_asked(kleff: Kleff, tmp_path: Path, body: str, said: str) -> None:
    done = kleff("check", procedure(tmp_path / "p.toml", body), code=2)
    assert said in done.out + done.err
    assert "p.toml:" in done.out + done.err


def test_conditions() -> None:
    facts = {"a": True, "b": False, "one": "x y", "some": ["p", "q"], "bits": "64"}
    for text, held in (
        ("a", True), ("not a", False), ("not b", True), ("a and b", False), ("one is x y", True), ("not one is z", True),
        ("some has q", True), ("some has z", False), ("bits is 64 and a", True),
    ):  # fmt: skip
        assert (not_wanted(text, "", facts) == "", not_wanted("", text, facts) != "") == (held, held), text
    for bad in ("", "A", "a or b", "a is"):
        with pytest.raises(BadCondition):
            parse_condition(bad)


FOUND = """
[[ask]]
id = "whose"
question = "Whose things go?"
type = "some"
from = "accounts"
[[ask]]
id = "which"
question = "Which components?"
type = "some"
from = "components"
default = "all"
[[evidence]]
entry = "Brindlewort Tag Studio 4*"
[[uninstall]]
chosen = "which"
entry = "Brindlewort Tag Studio 4*"
[[delete]]
chosen = "whose"
paths = ['{user.local}\\\\Brindlewort\\\\Tag Studio', '{user.roaming}\\\\Brindlewort\\\\Tag Studio']
[[delete]]
paths = ['{user.local}\\\\Brindlewort']
[[delete]]
when = "version >=9"
paths = ['%ProgramData%\\\\Brindlewort\\\\Tag Studio']
"""


def test_choices_of_what_is_found(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Accounts and components; what was not chosen stays, also below a folder another step names; a version as a fact."""
    before = tree(lab / "files/C/Users"), hives(lab)
    file, on = procedure(tmp_path / "p.toml", FOUND.replace("\\\\", "\\")), ("--on", f"lab:{lab}")
    err = kleff("run", file, *on, "--yes", code=3).err
    assert "not answered: Whose things go?" in err
    assert "--answer whose=mira|till|tomas" in err
    assert "answer with mira|till|tomas" in kleff("preview", file, *on, "--answer", "whose=eve", code=2).err
    words = ("--answer", "whose=till", "--answer", "which=Brindlewort Tag Studio 4 soil probe")
    plan = kleff("preview", file, *on, *words, "--json").json()["actions"]
    assert {a["account"] for a in plan if a["state"] == "to do" and a["phase"] == "delete"} <= {"till"}
    assert [a["reason"] for a in plan if a["phase"] == "uninstall" and a["state"] == "kept"] == ["not chosen: Brindlewort Tag Studio 4.2"]
    assert [a["reason"] for a in plan if "ProgramData" in a["target"]] == ["only when version >=9; it is 4.2.0"]
    done = kleff("run", file, *on, *words, "--yes")  # the entry that was not chosen is evidence too, but kept on purpose
    assert "Brindlewort Tag Studio 4.2 (4.2.0): evidence of the product; not chosen: Brindlewort Tag Studio 4.2 (line" in done.out
    for name, stays in (("mira", True), ("tomas", True), ("till", False)):
        assert (lab / f"files/C/Users/{name}/AppData/Local/Brindlewort/Tag Studio").exists() == stays, name
    kleff("resume", kleff.case(), code=3)
    kleff("undo", kleff.case(), "--yes")
    assert differences(before[0], tree(lab / "files/C/Users")) == []
    assert hives(lab) == before[1]


def test_questions_of_what_is_found_are_checked(kleff: Kleff, tmp_path: Path) -> None:
    head = '[[ask]]\nid = "q"\nquestion = "Q?"\n'
    for body, message in (
        (head + 'from = "accounts"\n', "what is found is chosen from with"),
        (head + 'type = "some"\nfrom = "accounts"\nchoices = ["a"]\n', "are what is found; leave them out"),
        (head + 'type = "one"\nfrom = "accounts"\ndefault = "all"\n', 'there is none with  type = "one"'),
        ('[[delete]]\nchosen = "q"\npaths = ["/opt/x"]\n', "no question of what is found has the id 'q'"),
        ('[[delete]]\nwhen = "version 4"\npaths = ["/opt/x"]\n', "is not a condition"),
        ('[[delete]]\nwhen = "version is 4"\npaths = ["/opt/x"]\n', "is written  version RANGE"),
        ('[[delete]]\nwhen = "version >=x"\npaths = ["/opt/x"]\n', "version"),
    ):
        assert message in kleff("check", procedure(tmp_path / "p.toml", body), code=2).out
