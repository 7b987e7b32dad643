"""Asking on a terminal: on standard error, one thing at a time."""

from __future__ import annotations

import os
import sys

from kleff.cli.terminal.clock import answered, waiting
from kleff.errors import Refused, UsageError
from kleff.objects.base.secrets import Secrets, variable_of
from kleff.procedure.conditions import show_answer
from kleff.procedure.model import Ask
from kleff.texts import plain


def ask_question(question: Ask) -> str:
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
    if not yes_or_no(plain_lines(question)):
        raise Refused("not confirmed; nothing was changed")


def yes_or_no(question: str) -> bool:
    """A question to which Enter says no."""
    print(f"{question} [y/N] ", end="", file=sys.stderr, flush=True)
    return answered().strip().lower() in ("y", "yes")


def plain_lines(text: str) -> str:
    """Text of several lines, each escaped."""
    return "\n".join(plain(line) for line in text.split("\n"))
