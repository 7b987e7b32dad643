"""What commands share: finding procedures, cases and workstations, and who gives the command."""

from __future__ import annotations

import getpass
import os
import sys
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from kleff.cli.terminal.asking import ask_secret
from kleff.engine.job import Job
from kleff.engine.library import Library
from kleff.errors import UsageError
from kleff.objects.base.here import Options
from kleff.objects.base.secrets import Secrets
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


def open_job(
    procedure: str, on: str | None, library: Path | None, options: Options | None = None, secrets: Secrets | None = None,
    trusted: bool = False,
) -> Job:  # fmt: skip
    """A procedure on a workstation, with what commands share.

    Args:
        trusted: it is going to be carried out, so nobody else may be able to change it.
    """
    job = Job.open(procedure, on or "this", library_of(library), options)
    if trusted:
        job.library.check_sources(job.library.find(procedure), job.workstation)
    return replace(job, secrets=secrets) if secrets is not None else job


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


def check_named(on: str | None, yes: bool) -> None:
    """`--yes` without `--on` could hit the wrong machine.

    Raises:
        UsageError.
    """
    if yes and on is None:
        raise UsageError("--yes needs the workstation to be named", remedy="add  --on this  (or root:FOLDER, lab:FOLDER)")


def confirmation(technician: str) -> str:
    """Who says so, and when."""
    return f"confirmed by {technician or me()} at {datetime.now().astimezone():%Y-%m-%d %H:%M}"


def me() -> str:
    """The name of whoever runs Kleff, or ""."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""
