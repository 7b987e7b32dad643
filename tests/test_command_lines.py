"""Registered command lines are run as they are registered; lists of arguments arrive as they were given."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.case.effects.command_ran import CommandRan
from kleff.case.record.folder import open_case
from kleff.workstation.windows.command_lines import behind, for_interpreter, split_arguments, split_command, split_program
from support import Kleff, procedure
from test_entries import FOLDER, STEP, bench

UN = rf"{FOLDER}\un.exe"
# As installers of several makes register them: each means something else once it is quoted anew.
REGISTERED = (
    r'/S _?=C:\Program Files\Rakeworks\Hoe', r'PROP="a b" /qn', r'-f"C:\x y\setup.ilg" /s', r'"C:\x y\z.dll",Entry', r'/D=C:\x  y',
    r'/x"{F0}" "say ""hi"" now"  ', "",
)  # fmt: skip
words_of = st.lists(st.text(st.sampled_from('ab \t"\\^%&!'), max_size=8), max_size=5)


@given(words_of, words_of)
def test_lists_arrive_as_they_were_given(words: list[str], more: list[str]) -> None:
    assert split_arguments(behind("", words)) == words
    assert split_arguments(behind(behind("", words), more)) == words + more


@pytest.mark.parametrize(
    ("text", "program", "line"),
    [
        (r'"C:\A B\un.exe" /s', r"C:\A B\un.exe", "/s"), ('"C:\\A B\\"  "x y"', "C:\\A B\\", '"x y"'), ("un.exe\t/s", "un.exe", "/s"),
        (r'C:\A B\un.exe  PROP="a"', r"C:\A B\un.exe", 'PROP="a"'), ("", "", ""), ("  ", "", ""),
    ],
)  # fmt: skip
def test_the_program_and_the_rest(text: str, program: str, line: str) -> None:
    assert split_program(text, {r"C:\A", r"C:\A B\un.exe"}.__contains__) == (program, line)
    assert split_command(text, {r"C:\A B\un.exe"}.__contains__) == ([program, *split_arguments(line)] if program else [])


def test_what_the_interpreter_would_read_as_its_own() -> None:
    for program, words in ((r"C:\100%\un.cmd", []), (r"C:\un.cmd", ["%PATH%"]), (r"C:\un.cmd", ["a\nb"])):
        with pytest.raises(ValueError, match="as its own"):
            for_interpreter(program, "", words)
    made = for_interpreter(r"C:\a b\un.cmd", "/s", ["x&y", 'say "hi"', "plain"])
    assert made.endswith(r'/c ""C:\a b\un.cmd" /s "x&y" "say ""hi""" plain"')


@pytest.mark.parametrize("line", REGISTERED)
def test_as_it_is_registered(kleff: Kleff, tmp_path: Path, line: str) -> None:
    """The program of a lab keeps the line it got; the case has it, and so has the page a person agreed on."""
    lab = bench(tmp_path / "lab", entry={"QuietUninstallString": f'"{UN}" {line}'})
    file = procedure(tmp_path / "p.toml", STEP.replace("patience", 'also_removes = ["--all of it"]\npatience'))
    page = kleff("run", file, "--on", f"lab:{lab}", "--yes").out
    wanted = " ".join(f'{line.strip()} "--all of it"'.split(" ")).strip()
    assert json.loads((lab / "state/state.json").read_text())["lines"] == [f'"{UN}" {wanted}']
    assert line.strip() in page
    with open_case(kleff.case()) as case:
        effects = [e.effect for e in case.journal.effects() if e.effect.kind == "uninstaller ran"]
    assert [msgspec.to_builtins(effect).get("line", "") for effect in effects] == [line.strip()]


def test_a_command_of_a_procedure_is_kept_without_secrets(kleff: Kleff, tmp_path: Path) -> None:
    lab = bench(tmp_path / "lab")
    words = f"command = ['{UN}', '--key', 'tulip bulbs']\nsecret = 'key'\nsecret_as = 'KEY'\n"
    file = procedure(tmp_path / "p.toml", f"[[stop]]\n{words}" + STEP)
    kleff("run", file, "--on", f"lab:{lab}", "--yes", env={"KLEFF_SECRET_KEY": "tulip"})
    with open_case(kleff.case()) as case:
        effects = [e.effect for e in case.journal.effects() if isinstance(e.effect, CommandRan)]
    assert [effect.command for effect in effects] == [[UN, "--key", "...... bulbs"]]
