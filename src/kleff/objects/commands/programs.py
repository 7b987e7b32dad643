"""Running a program to its end, and hearing what it says."""

from __future__ import annotations

import tempfile
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import IO

from kleff.case.programs import run_to_its_end
from kleff.errors import ActionFailed
from kleff.objects.base.here import Here
from kleff.objects.commands.steps import BY_INPUT, CHOSEN, ITEM, SAVED, CommandBackup, CommandUninstall
from kleff.procedure.versions import parse_duration
from kleff.texts import plural
from kleff.workstation.paths import WPath
from kleff.workstation.things import Given, Known
from kleff.workstation.this_machine import host

ENDINGS = {"windows": ("", ".exe", ".com"), "linux": ("",)}


def program_of(word: str, here: Here) -> WPath | None:
    """The program that a word names: a path, or a name alone, which is looked for where the system's own programs lie."""
    workstation = here.workstation
    if any(mark in word for mark in ("{", "%", *workstation.style.separators)):
        return here.resolver.first_path(word)
    candidates = (folder.child(word + ending) for folder in workstation.program_folders for ending in ENDINGS[workstation.system])
    return next((p for p in candidates if workstation.files.look(workstation.files.resolve(p).path) is not None), None)


def arguments(words: list[str], here: Here, item: str = "", saved: str = "", chosen: Sequence[str] = ()) -> list[str] | None:
    """The words with variables put in; None if the program is not there."""
    program = program_of(words[0], here)
    if program is None:
        return None
    rest: list[str] = []
    for word in words[1:]:
        if word == CHOSEN:
            rest += chosen
        elif word.startswith("{") and not word.startswith((ITEM, SAVED)):
            rest.append(str(here.resolver.first_path(word) or word))
        else:
            rest.append(word.replace(ITEM, item).replace(SAVED, saved))
    return [str(program), *rest]


def objection_to(argv: list[str], here: Here) -> str:
    """Why a command must not be run, or ""."""
    commands, program = here.workstation.commands, here.workstation.files.path(argv[0])
    if commands is None or program is None:
        return "no programs are run here"
    return commands.objection(program) or ""


def run_program(
    here: Here, argv: list[str], output: Path, patience: float, stdin: IO[bytes] | None = None, errors: Path | None = None,
    secret: tuple[str, str] = ("", ""), known: Known | None = None, fine: Collection[int] = (0,),
) -> int | None:  # fmt: skip
    """Run a program to its end. Returns its exit code.

    Args:
        secret: (name, how it is handed on); fine: the exit codes that are no failure.
        known: is called before the program itself runs; it then goes on whatever becomes of Kleff.

    Raises:
        ActionFailed: it must not be run, does not end in time, or ends badly.
    """
    objection, commands = objection_to(argv, here), here.workstation.commands
    if objection or commands is None:
        raise ActionFailed(objection, remedy="do it by hand, then resume with --skip")
    name, how = secret
    value = here.secrets.get(name) if name else ""
    given = Given(
        stdin=stdin, text=value + "\n" if name and how == BY_INPUT else "", environment={how: value} if name and how != BY_INPUT else {},
        hide=here.secrets.known(), errors=errors, lasting=known is not None,
    )  # fmt: skip
    return run_to_its_end(commands, argv, output, given, patience, known, fine)


def output_of(here: Here, argv: list[str], patience: float, secret: tuple[str, str] = ("", "")) -> str:
    """What a program says on its standard output; it never lies on a disk.

    Raises:
        ActionFailed: as `run_program`.
    """
    asked = (secret[0], *argv)
    said = here.programs.before.get(asked)
    if said is None:
        try:
            said = _said(here, argv, patience, secret)
        except ActionFailed as error:
            said = error
        here.programs.said[asked] = said
    if isinstance(said, ActionFailed):
        raise said
    return said


def _said(here: Here, argv: list[str], patience: float, secret: tuple[str, str]) -> str:
    with tempfile.TemporaryDirectory(prefix="kleff-", dir=host().memory()) as folder:
        output = Path(folder) / "said.txt"
        try:
            run_program(here, argv, output, patience, errors=Path(folder) / "errors.txt", secret=secret)
        except ActionFailed as error:
            raise ActionFailed(error.what, remedy="run it by hand and see; then resume", said=error.said) from None
        return output.read_text("utf-8", "replace")


def counted(names: list[str], here: Here) -> str:
    """How many things a program has listed; their names are people's own, and are told if they are asked for."""
    return plural(len(names), "thing") + (f": {', '.join(names)}" if here.options.show_items else "")


def list_of(model: CommandBackup | CommandUninstall, here: Here) -> list[str]:
    """What there is, as the program itself tells.

    Raises:
        ActionFailed: it cannot be told.
    """
    argv = arguments(model.lists, here)
    if argv is None:
        raise ActionFailed(f"{model.lists[0]} is not there")
    text = output_of(here, argv, parse_duration(model.patience), model.need)
    return [line.strip() for line in text.splitlines() if line.strip()]
