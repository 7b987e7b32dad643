"""Helpers of the tests."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import io
import json
import os
import shutil
import stat
import subprocess
import sys
import time
import traceback
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from unittest import mock

import pexpect
import pytest

import kleff.closing
from kleff.__main__ import main
from kleff.registry.regfile import RegKey, decode, parse

INSTALLED = os.environ.get("KLEFF_INSTALLED") == "1"  # every command by the installed program
IS_ROOT = os.geteuid() == 0


@dataclass
class Done:
    """A finished command."""

    code: int
    out: str
    err: str

    def json(self) -> Any:
        return json.loads(self.out)


class Kleff:
    """Runs the installed program as a technician would."""

    def __init__(self, program: Path, folder: Path) -> None:
        self.program = program
        self.folder = folder
        self.cases = folder / "cases"

    def __call__(
        self, *arguments: object, code: int | None = 0, cases: bool = True, env: dict[str, str] | None = None, timeout: float = 120,
        installed: bool = False, looked: bool = False, short: bool = False,
    ) -> Done:  # fmt: skip
        """Give a command; `code` is what it must end with (None: any).

        Args:
            installed: by the installed program, in a process of its own; else by a call of what that calls.
            short: show plans as people get them; else with every action.
            looked: a run begins only if there is evidence; most procedures of the tests name none that is there.
        """
        words = [str(a) for a in arguments]
        if cases and words[0] in ("run", "resume", "undo", "restore", "discard", "cases", "report", "verify"):
            words += ["--cases", str(self.cases)]
        if words[0] == "run" and "--yes" in words and not looked and "--without-evidence" not in words:
            words.append("--without-evidence")
        if words[0] in ("preview", "run") and not short and not {"-h", "--help", "--json"} & set(words):
            words.append("--full")
        environment = {**os.environ, "HOME": str(self.folder), "COLUMNS": "200", **(env or {})}
        result = self._installed(words, environment, timeout) if installed or INSTALLED else self._called(words, environment)
        assert "Traceback" not in result.err, result.err
        assert code is None or result.code == code, f"kleff {' '.join(words)} ended with {result.code}\n{result.out}\n{result.err}"
        return result

    def _installed(self, words: list[str], environment: dict[str, str], timeout: float) -> Done:
        done = subprocess.run(
            [self.program, *words], capture_output=True, text=True, stdin=subprocess.DEVNULL, cwd=self.folder, timeout=timeout,
            env=environment,
        )  # fmt: skip
        return Done(done.returncode, done.stdout, done.stderr)

    def _called(self, words: list[str], environment: dict[str, str]) -> Done:
        """The same main function, with its own arguments, environment, folder and streams. It leaves no file open."""
        before = opened()
        out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2))
        with ExitStack() as stack:
            stack.enter_context(mock.patch.dict(os.environ, environment, clear=True))
            stack.enter_context(mock.patch.object(sys, "argv", [str(self.program), *words]))
            stack.enter_context(mock.patch.object(kleff.closing, "_open", []))  # a process of its own has nothing to close yet
            stack.enter_context(mock.patch.object(sys, "stdin", stack.enter_context(open(os.devnull))))
            stack.enter_context(contextlib.chdir(self.folder))
            stack.enter_context(contextlib.redirect_stdout(out))
            stack.enter_context(contextlib.redirect_stderr(err))
            try:
                main()
            except SystemExit as ended:
                code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
            except BaseException:
                traceback.print_exc()
                code = 1
        assert not (left := opened() - before), f"{left} left open by {words}"
        texts = [stream.buffer.getvalue().decode("utf-8") for stream in (out, err)]  # type: ignore[attr-defined]
        return Done(code, *texts)

    def case(self) -> Path:
        """The newest case folder."""
        return max(self.cases.iterdir(), key=lambda p: (p / "case.db").stat().st_mtime_ns)


def once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """What all workers of a run use, made by the first that needs it.

    Args:
        make: is given a path at which nothing is yet; what it makes there must not care where it lies.
    """
    own = factory.getbasetemp()
    folder = own.parent if "PYTEST_XDIST_WORKER" in os.environ else own
    with (folder / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (folder / name).exists():
            shutil.rmtree(folder / f"{name}.part", ignore_errors=True)
            make(folder / f"{name}.part")
            (folder / f"{name}.part").rename(folder / name)
    return folder / name


def lasting(seconds: float, at_least: int) -> Iterator[int]:
    """1, 2, 3 ... for some seconds, and on a slow machine for as long as so many take."""
    number, end = 0, time.monotonic() + seconds
    while number < at_least or time.monotonic() < end:
        number += 1
        yield number


def opened() -> Counter[str]:
    """What this process has open; pipes come and go with what a test does beside."""
    found: Counter[str] = Counter()
    for fd in os.listdir("/proc/self/fd"):
        with contextlib.suppress(OSError):
            found[os.readlink(f"/proc/self/fd/{fd}")] += 1
    return Counter({name: count for name, count in found.items() if not name.startswith(("/proc/", "pipe:"))})


def program_started(cases: Path) -> bool:
    """Whether a program that an action runs is at work, or was."""
    return any(json.loads(record.read_bytes())["program"] for record in cases.glob("*/output/[0-9]*.run"))


def until(true: Callable[[], bool], seconds: float = 60, step: float = 0.05) -> bool:
    """Wait until something holds; whether it does."""
    end = time.monotonic() + seconds
    while not true():
        if time.monotonic() > end:
            return False
        time.sleep(step)
    return True


def clone(master: Path, target: Path) -> Path:
    """A copy of a lab with times kept, folders' too."""
    shutil.copytree(master, target, symlinks=True)
    return target


_read: dict[tuple[int, ...], str] = {}


def content_of(path: Path, status: os.stat_result) -> str:
    """The digest of a file; one that has not changed by its number and times, of which nobody sets ctime (inode(7)), is not read again."""
    key = (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns)
    if key not in _read:
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        if time.time_ns() - status.st_ctime_ns < 50_000_000:  # it may change once more at what is the same time to the system
            return digest
        _read[key] = digest
    return _read[key]


def tree(top: Path, skip: tuple[str, ...] = (".kleff",)) -> dict[str, tuple[object, ...]]:
    """Everything below a folder: type, mode, owner, times (ns), content, link target, extended attributes, hard-link group."""
    found: dict[str, tuple[object, ...]] = {}
    groups: dict[tuple[int, int], str] = {}
    for folder, folders, files in os.walk(os.fsencode(top)):
        folders[:] = sorted(f for f in folders if os.fsdecode(f) not in skip)
        for name in [b"", *sorted(folders), *sorted(files)]:
            path = os.path.join(folder, name) if name else folder
            if not name and folder != os.fsencode(top):
                continue
            status = os.lstat(path)
            key = os.fsdecode(os.path.relpath(path, os.fsencode(top)))
            content: object = None
            if stat.S_ISREG(status.st_mode):
                content = content_of(Path(os.fsdecode(path)), status)
            elif stat.S_ISLNK(status.st_mode):
                content = os.readlink(path)
            extended = tuple((n, os.getxattr(path, n, follow_symlinks=False)) for n in sorted(os.listxattr(path, follow_symlinks=False)))
            group = (
                groups.setdefault((status.st_dev, status.st_ino), key) if status.st_nlink > 1 and not stat.S_ISDIR(status.st_mode) else ""
            )
            found[key] = (status.st_mode, status.st_uid, status.st_gid, status.st_mtime_ns, content, extended, group)
    return found


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Keys that are gone, new or changed."""
    lines = [f"gone: {k}" for k in before if k not in after] + [f"new: {k}" for k in after if k not in before]
    return lines + [f"changed: {k}: {before[k]} -> {after[k]}" for k in before if k in after and before[k] != after[k]]


def hives(lab: Path) -> dict[str, dict[str, tuple[int, bytes]]]:
    """Every key of a lab's registry with its values, raw."""
    found: dict[str, dict[str, tuple[int, bytes]]] = {}

    def walk(path: str, key: RegKey) -> None:
        found[path] = {v.name: (v.type, v.raw) for v in key.values.values()}
        for below in key.keys.values():
            walk(f"{path}\\{below.name}", below)

    for file in sorted((lab / "registry").rglob("*.reg")):
        for top in parse(decode(file.read_bytes(), str(file)), str(file)).keys.values():
            walk(top.name, top)
    return found


def procedure(path: Path, body: str, **product: str) -> Path:
    """Write a procedure with a minimal head around `body`."""
    lines = "\n".join(f"{k} = {json.dumps(v)}" for k, v in product.items())
    head = f'format = 1\n[product]\nid = "sample"\nname = "Sample"\n{lines}\n'
    if "[[evidence]]" not in body:
        body += "\n[[evidence]]\npath = '{temp}/sample'\n"
    path.write_text(head + body, "utf-8")
    path.chmod(0o644)
    return path


def write(path: Path, content: str | bytes = "x", mode: int = 0o644) -> Path:
    """Write a file with its folders."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    path.chmod(mode)
    return path


def linux_tree(top: Path, accounts: dict[str, int] | None = None) -> Path:
    """A small Linux tree with a real, empty dpkg database."""
    people = accounts or {"mira": 1001, "tomas": 1002}
    passwd = "root:x:0:0:root:/root:/bin/sh\n" + "".join(f"{n}:x:{u}:{u}::/home/{n}:/bin/sh\n" for n, u in people.items())
    write(top / "etc/passwd", passwd)
    write(top / "etc/hostname", "bench-01\n")
    write(top / "etc/machine-id", "0123456789abcdef0123456789abcdef\n")
    for folder in (
        "usr/bin",
        "usr/sbin",
        "usr/lib",
        "usr/share/doc",
        "opt",
        "var/log",
        "var/cache",
        "tmp",
        "root",
        "var/lib/dpkg/info",
        "var/lib/dpkg/updates",
    ):
        (top / folder).mkdir(parents=True, exist_ok=True)
    for name in ("bin", "sbin", "lib"):
        (top / name).symlink_to(f"usr/{name}")
    for name in ("status", "available"):
        write(top / "var/lib/dpkg" / name, "")
    for name, uid in people.items():
        home = top / "home" / name
        home.mkdir(parents=True)
        if IS_ROOT:
            os.chown(home, uid, uid)
    return top


def bad_step(lines: str, phase: str = "delete") -> list[str]:
    """What is told of a step that is wrong; each begins with the file, the line and the column."""
    from kleff.engine.library import parse
    from kleff.errors import ProcedureError

    text = f"format = 1\n[product]\nid = 'x'\nname = 'X'\n[[evidence]]\npath = 'C:\\x'\n[[{phase}]]\n{lines}\n"
    with pytest.raises(ProcedureError) as caught:
        parse(text.encode(), "x.toml")
    assert all(problem.startswith("x.toml:") for problem in caught.value.problems), caught.value.problems
    return [str(problem) for problem in caught.value.problems]


def describe(lab: Path, **process: object) -> None:
    """Describe one more program of the lab, and start all anew."""
    file = lab / "lab.toml"
    lines = "\n".join(f"{k} = {json.dumps(v)}" for k, v in process.items())
    file.write_text(file.read_text() + f"\n[[process]]\n{lines}\n")
    from kleff.workstation.lab.lab import Lab

    Lab(lab).start(["BrindlewortPrintBridge", "Spooler", "StocktakeSync", "LabelQueue", "LabelWatch"], all_processes=True)


def ended(child: pexpect.spawn) -> int | None:
    """The exit code of a program on a terminal, once it has ended by itself: a terminal that is closed sooner tells it to stop."""
    child.expect(pexpect.EOF)
    code: int | None = child.wait()
    child.close()
    return code
