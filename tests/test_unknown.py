"""A name that matches nothing is seen, and is never the same as "not there"."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from kleff.engine.library import parse
from kleff.errors import ProcedureError, Refused
from memory import Bench, delete
from support import Kleff, procedure


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_an_account_that_is_not_here_is_seen(folder: Path, system: str) -> None:
    """Not passed over: a required backup refuses the run, any other step is not clean, unless it may be missing."""
    bench, home = Bench(folder, system), "{user.home}/.rake" if system == "linux" else r"{user.roaming}\Rakeworks"
    bench.on.files.add("/home/mira/.rake/x" if system == "linux" else r"C:\Users\mira\AppData\Roaming\Rakeworks\x", uid=1001)
    for name, reason in (("mirra", "no such account here; did you mean mira?"), ("zoe", "no such account here")):
        planned = bench.plan(delete(home, more=f'accounts = ["mira", "{name}"]\n'), phase="delete")
        assert [(a.state, a.target, a.reason) for a in planned if a.state != "to do"] == [("unknown", f"account {name}", reason)]
    backup = f"[[backup]]\nlabel = 'own'\npaths = ['{home}']\naccounts = ['mirra']\n"
    before = bench.files
    with pytest.raises(Refused, match="account mirra: no such account here; did you mean mira"):
        bench.run(backup + delete(home))
    assert bench.files == before
    job, ended = bench.run(delete(home, more='accounts = ["mira", "mirra"]\n'))
    assert not ended.clean
    assert [(f.state, f.target) for f in ended.verification.open] == [("unknown", "account mirra")]
    assert not job.verify().clean
    job.undo()
    assert bench.files == before
    for body in (delete(home, more='accounts = ["mira", "mirra"]\nif_here = true\n'), backup + "if_here = true\n" + delete(home)):
        job, ended = bench.run(body)
        assert ended.clean
        job.undo()
    _, ended = bench.run(backup + "required = false\n" + delete(home))
    assert (ended.clean, [r.action.target for r in ended.failed]) == (False, ["account mirra"])


def test_names_in_keys_and_paths_are_what_they_are(folder: Path) -> None:
    """A star in a key is a mistake, unless it is escaped or all of the name; so is a tab. Cases of earlier rules go on by those."""
    bench = Bench(folder)
    for key in (r"SOFTWARE\Classes\*\shell\Rake", r"SOFTWARE\Rakeworks\a*b", r"SOFTWARE\Rakeworks\what?"):
        bench.on.api.add(rf"HKLM\{key}", Own="x")
    for text, found in ((r"HKCR\*\shell\Rake", "to do"), (r"HKLM\Software\Rakeworks\a[*]b", "to do"),
                        (r"HKLM\Software\Rakeworks\what[?]", "to do"),
                        (r"HKLM\Software\Rakeworks\[*]", "absent")):  # fmt: skip
        states = {a.state for a in bench.plan(f"[[delete]]\nkey = '{text}'\n", phase="delete") if not a.account}
        assert states - ({"absent"} if found != "absent" else set()) == {found}, text
    wrong = {
        r"[[delete]]%key = 'HKLM\Software\Rake*'%": "'Rake*' has a wildcard, but keys are named in full",
        r"[[evidence]]%value = 'x'%in_key = 'HKLM\Software\a?c'%": "has a wildcard",
        r'[[delete]]%key = "HKLM\\Software\temp"%': "has a control character; write it in single quotes",
        r'[[delete]]%paths = ["C:\\Garden\new"]%': "has a control character",
    }
    for body, why in wrong.items():
        body = body.replace("%", "\n")
        with pytest.raises(ProcedureError, match=re.escape(why)):
            bench.plan(body)
        head = 'format = 1\n[product]\nid = "sample"\nname = "Sample"\n[[evidence]]\npath = \'C:\\x\'\n'
        assert parse((head + body).encode(), "sample.toml", rules=1).rules == 1


def test_it_is_said_at_the_command_line(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """Refused before anything is done where something had to be saved; else not clean, in the end and by verify."""
    on = ("--on", f"lab:{lab}")
    step = "[[delete]]\npaths = ['{user.home}\\.brindlewort']\naccounts = ['mira', 'tomass']\n"
    saving = "[[backup]]\nlabel = 'own'\npaths = ['{user.home}\\.brindlewort']\naccounts = ['tomass']\n"
    file = procedure(tmp_path / "p.toml", saving + step)
    shown = kleff("preview", file, *on, code=3).out
    assert "unknown    account tomass" in shown
    assert "no such account here; did you mean tomas?" in shown
    said = kleff("run", file, *on, "--yes", code=3).err
    assert "refused: account tomass: no such account here; did you mean tomas? (step at line" in said
    assert not kleff.cases.exists()
    file = procedure(tmp_path / "q.toml", step)
    done = kleff("run", file, *on, "--yes", code=4)
    assert "account tomass" in done.out
    assert "is not gone" in kleff("verify", kleff.case(), code=4).out
    assert "Could not be looked for" in kleff("verify", file, *on, code=4).out
    found = kleff("verify", kleff.case(), "--json", code=4).json()["findings"]
    assert [(f["state"], f["target"]) for f in found] == [("unknown", "account tomass")]
    assert "account tomass" in kleff("report", kleff.case()).out
    kleff("undo", kleff.case(), "--yes")
