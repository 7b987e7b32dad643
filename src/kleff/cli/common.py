"""What commands share: finding procedures, cases and workstations, and asking."""

from __future__ import annotations

import os
import sys
from dataclasses import replace
from pathlib import Path

from kleff.cli.terminal.clock import answered, waiting
from kleff.engine.job import Job
from kleff.engine.library import Library
from kleff.errors import Refused, UsageError
from kleff.objects.base.here import Options
from kleff.objects.base.secrets import Secrets, variable_of
from kleff.procedure.conditions import show_answer
from kleff.procedure.model import Ask
from kleff.texts import plain
from kleff.workstation.this_machine import host


def default_cases() -> Path:
    """Where cases are kept unless --cases says otherwise."""
    return host().places().cases


def default_library() -> Path:
    """Where procedures are kept unless --library says otherwise."""
    return host().places().library


def library_of(folder: Path | None) -> Library:
    """The library a technician names, or the usual one."""
    return Library(folder or default_library())


def meant_case(case: str | None, cases: Path | None) -> Path:
    """The folder of a case that is named, or of the one that is unfinished."""
    from kleff.case.record.folder import find_case, the_unfinished

    folder = cases or default_cases()
    return find_case(case, folder) if case is not None else the_unfinished(folder)


def open_job(procedure: str, on: str | None, library: Path | None, options: Options | None = None, secrets: Secrets | None = None) -> Job:
    """A procedure on a workstation, with what commands share."""
    job = Job.open(procedure, on or "this", library_of(library), options)
    return replace(job, secrets=secrets) if secrets is not None else job


def ask_on_terminal(question: Ask) -> str:
    """Put one question; an empty answer means its default."""
    print(question.question, file=sys.stderr)
    if question.type == "yes-no":
        hint = {True: "[Y/n]", False: "[y/N]"}.get(question.default is True, "") if question.default is not None else "[y/n]"
    else:
        several = ", several with commas" if question.type == "some" else ""
        hint = f"[{' / '.join(question.choices)}{several}]" + (
            f" ({show_answer(question.default)})" if question.default is not None else ""
        )
    print(f"  {hint} ", end="", file=sys.stderr, flush=True)
    return answered().strip()


def ask_secret(name: str) -> str:
    """Ask for a secret without echo."""
    import getpass

    with waiting():
        return getpass.getpass(f"{name} (not shown): ", sys.stderr) if sys.stdin.isatty() else ""


def given_secrets(given: list[str] | None) -> Secrets:
    """Secrets from file descriptors (`NAME=FD`), and a terminal to ask on where there is one.

    Raises:
        UsageError: not a descriptor.
    """
    secrets = Secrets()
    for text in given or []:
        name, _, number = text.rpartition("=")
        try:
            with os.fdopen(int(number), "r", encoding="utf-8") as file:
                secrets.give(name, file.read().rstrip("\r\n"))
        except (ValueError, OSError, UnicodeDecodeError):
            raise UsageError(f"{text!r} names no open file to read from", remedy="write  --secret-fd 'NAME=3' 3<FILE") from None
    secrets.ask = ask_secret if sys.stdin.isatty() else None
    return secrets


def left_out(labels: list[str] | None, because: str) -> dict[str, str]:
    """The backups that are gone on without, and why.

    Raises:
        UsageError: the one without the other.
    """
    if bool(labels) != bool(because.strip()):
        raise UsageError("--without-backup and --because belong together", remedy="add  --without-backup LABEL --because TEXT")
    return dict.fromkeys(labels or [], because.strip())


def new_passphrase(secrets: Secrets) -> str:
    """A passphrase for a new bag; on a terminal it is asked for twice.

    Raises:
        UsageError: the two differ.
    """
    from kleff.case.bag.encryption import PASSPHRASE

    passphrase = secrets.get(PASSPHRASE)
    if secrets.ask is not None and not os.environ.get(variable_of(PASSPHRASE)) and ask_secret(f"{PASSPHRASE}, again") != passphrase:
        raise UsageError("the two passphrases differ", remedy="type the same one twice")
    return passphrase


def confirm(question: str, yes: bool, remedy: str) -> None:
    """Ask once.

    Raises:
        Refused: not confirmed, or nobody is there to confirm.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise Refused("not confirmed: there is no terminal to ask on", remedy=remedy)
    print(f"{plain_lines(question)} [y/N] ", end="", file=sys.stderr, flush=True)
    answer = answered().strip().lower()
    if answer not in ("y", "yes"):
        raise Refused("not confirmed; nothing was changed")


def plain_lines(text: str) -> str:
    """Text of several lines, each escaped."""
    return "\n".join(plain(line) for line in text.split("\n"))


def check_named(on: str | None, yes: bool) -> None:
    """`--yes` without `--on` could hit the wrong machine.

    Raises:
        UsageError.
    """
    if yes and on is None:
        raise UsageError("--yes needs the workstation to be named", remedy="add  --on this  (or root:FOLDER, lab:FOLDER)")
