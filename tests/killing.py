"""Runs Kleff in a child process that is killed at a chosen journal write."""

from __future__ import annotations

import codecs
import importlib
import os
import pkgutil
import random
import signal
import sys
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path

import kleff.__main__
import kleff.cli.app
import kleff.engine.cases.run
from kleff.case.record.journal import Journal

KILLED = -signal.SIGKILL
EVERY = os.environ.get("KLEFF_ALL_KILLS") == "1"  # every kill point, not a sample


def run_until(
    words: list[str], write: int, after: bool, log: Path, account: int = 0, prepare: Callable[[], None] | None = None
) -> tuple[int, int]:
    """Run `kleff WORDS` in a child that kills itself at its `write`th journal write (0: never).

    Args:
        after: kill after the write has reached the disk, not just before.
        account: work as this account (uid and gid) instead.
        prepare: called in the child before Kleff starts.

    Returns:
        The exit code (`KILLED` if it was killed), and how many journal writes there were.
    """
    reading, writing = os.pipe()
    pid = os.fork()
    if pid == 0:
        _child(words, write, after, log, writing, account, prepare)
    os.close(writing)
    _, status = os.waitpid(pid, 0)
    told = b""
    while piece := os.read(reading, 65536):
        told += piece
    os.close(reading)
    return os.waitstatus_to_exitcode(status), len(told)


def _child(words: list[str], write: int, after: bool, log: Path, writing: int, account: int, prepare: Callable[[], None] | None) -> None:
    code = 70
    try:
        out = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        null = os.open(os.devnull, os.O_RDONLY)
        for fd, target in ((null, 0), (out, 1), (out, 2)):
            os.dup2(fd, target)
        sys.stdin, sys.stdout, sys.stderr = os.fdopen(0), os.fdopen(1, "w", 1), os.fdopen(2, "w", 1)
        _arm(write, after, writing)
        if account:
            _load_everything()  # the account may not read the interpreter's folder
            os.environ.update(HOME="/nonexistent", XDG_STATE_HOME="/nonexistent/state")
            os.setgroups([])
            os.setresgid(account, account, account)
            os.setresuid(account, account, account)
        if prepare:
            prepare()
        unseen = ["--without-evidence"] if words[0] == "run" and "--yes" in words else []  # few of the tests' procedures have evidence
        sys.argv = ["kleff", *words, *unseen]
        kleff.__main__.main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


def _load_everything() -> None:
    for module in pkgutil.walk_packages(kleff.__path__, "kleff."):
        if not module.name.endswith(("__main__", ".program")) and not module.name.startswith("kleff.workstation.windows.host."):
            importlib.import_module(module.name)
    for name in ("tree_sitter_toml", "tree_sitter", "zstandard", "tarfile", "tempfile", "rich.progress", "pwd"):
        importlib.import_module(name)
    for codec in ("utf-8-sig", "utf-16-le", "ascii", "idna"):
        codecs.lookup(codec)


def _arm(wanted: int, after: bool, writing: int) -> None:
    original = Journal.write
    count = 0

    @contextmanager
    def write(self: Journal) -> Iterator[object]:
        nonlocal count
        count += 1
        os.write(writing, b".")
        with original(self) as db:
            yield db
            if count == wanted and not after:
                os.kill(os.getpid(), signal.SIGKILL)
        if count == wanted and after:
            os.kill(os.getpid(), signal.SIGKILL)

    Journal.write = write  # type: ignore[method-assign,assignment]


def points(count: int, seed: int, wanted: int, ends: bool = True) -> list[tuple[int, bool]]:
    """Kill points: all of them, or a seeded sample: one in each of as many equal parts, so that each part of the work is killed.

    Args:
        ends: with the first and the last too, at which nothing has begun and all is done: that is the same for every procedure.
    """
    every = [(n, after) for n in range(1, count + 1) for after in (False, True)]
    if EVERY:
        return every
    inner, chance = every[1:-1], random.Random(seed)
    bounds = [len(inner) * part // wanted for part in range(wanted + 1)]
    chosen = [chance.choice(inner[low:high]) for low, high in pairwise(bounds) if high > low]
    return [every[0], *chosen, every[-1]] if ends else chosen
