"""A lab's folder: what it is (`lab.toml`, never changed by a run) and its live state (committed atomically)."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import msgspec

from kleff.errors import NoSuchWorkstation, UsageError
from kleff.workstation.lab.described import LabFile, LabProcess, read_lab_file
from kleff.workstation.this_machine import host

LINE = "--line"  # before what stands behind a program in its command line, as one text


class LabState(msgspec.Struct, kw_only=True):
    """The live state: what runs, and how often the lab was started.

    Attributes:
        tries: how often programs have been run, by their path or product code; answers: windows that were answered, and how.
        arranged: what is started once it is restarted; awake: how many keep it awake; installing: the installer is busy.
        accounts_gone: of those that programs had made.
        signed_in: who has signed in since it was started; temporary: who got a profile that is thrown away, as something had theirs open.
        clock: by how many seconds its clock was set; lines: the command lines that were run, as each program got its own.
    """

    boot: int = 1
    next_pid: int = 1000
    processes: list[dict[str, Any]] = []
    running_services: list[str] = []
    disabled_tasks: list[str] = []
    tries: dict[str, int] = {}
    answers: dict[str, bool] = {}
    arranged: list[str] = []
    awake: int = 0
    installing: bool = False
    accounts_gone: list[str] = []
    clock: int = 0
    lines: list[str] = []
    signed_in: list[str] = []
    temporary: list[str] = []


class Lab:
    """A lab's folder.

    Raises:
        NoSuchWorkstation: the folder is no lab, or is incomplete.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder.absolute()
        self.file = self._read()
        self._held = 0
        self._lock = ExitStack()

    def _read(self) -> LabFile:
        where = f"lab:{self.folder}"
        remedy = "make one with:  kleff lab make FOLDER"
        if not self.folder.is_dir():
            raise NoSuchWorkstation("there is no such folder", where=where, remedy=remedy)
        for needed in ("lab.toml", "files/C", "registry/HKLM.reg"):
            if not (self.folder / needed).exists():
                raise NoSuchWorkstation(f"not a lab, or incomplete: {needed} is missing", where=where, remedy=remedy)
        return read_lab_file(self.folder / "lab.toml", where, remedy)

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Exclusive use of the live state, across processes; may be nested."""
        self.acquire()
        try:
            yield
        finally:
            self.release()

    def acquire(self) -> None:
        if self._held == 0:
            (self.folder / "state").mkdir(exist_ok=True)
            self._lock.enter_context(host().wait_for_lock(self.folder / "state" / "lock"))
        self._held += 1

    def release(self) -> None:
        self._held -= 1
        if self._held == 0:
            self._lock.close()

    def state(self) -> LabState:
        try:
            return msgspec.json.decode((self.folder / "state" / "state.json").read_bytes(), type=LabState)
        except FileNotFoundError:
            return LabState()
        except msgspec.MsgspecError as error:
            raise NoSuchWorkstation(
                f"state/state.json cannot be read: {error}",
                where=f"lab:{self.folder}",
                remedy="restart the lab with:  kleff lab restart FOLDER",
            ) from None

    def save(self, state: LabState) -> None:
        host().write_atomic(self.folder / "state" / "state.json", msgspec.json.format(msgspec.json.encode(state), indent=1))

    def _has(self, path: str) -> bool:
        """A program that is gone does not start, unless it is one the lab does not hold as a file."""
        return "\\Windows\\" in path or (self.folder / "files" / path[:1]).joinpath(*path[3:].split("\\")).exists()

    def _before(self) -> LabState:
        """What stays over a restart: tasks that are switched off, and what programs remember."""
        try:
            return self.state()
        except NoSuchWorkstation:
            return LabState()

    def sessions(self) -> list[str]:
        """Who is signed in."""
        return [*self.file.sessions, *self.state().signed_in]

    def hold(self, sid: str) -> Path:
        """Mark an account's settings as loaded, by this process, as long as there is the file."""
        mark = self.folder / "state" / f"hive-{sid}-{os.getpid()}"
        mark.parent.mkdir(exist_ok=True)
        with times_kept(mark.parent):
            mark.touch()
        return mark

    def sign_in(self, name: str, sid: str) -> bool:
        """Somebody signs in; whether with a profile of their own. Where somebody else has it open it is a temporary one."""
        with self.locked():
            state, held = self.state(), self.held(sid)
            (state.temporary if held else state.signed_in).append(name)
            self.save(state)
            return not held

    def held(self, sid: str) -> bool:
        """Whether somebody has an account's settings loaded; what a killed process has left stays so until the next lets go of it."""
        return any((self.folder / "state").glob(f"hive-{sid}-*"))

    def let_go_of_left(self) -> None:
        """What killed processes have left loaded, or all of it before a restart."""
        for mark in (self.folder / "state").glob("hive-*"):
            if not _runs(int(mark.name.rpartition("-")[2])):
                mark.unlink(missing_ok=True)

    def note_line(self, program: str, line: str) -> None:
        """A program is run: it gets this text, and takes it apart by itself."""
        with self.locked():
            state = self.state()
            state.lines.append(f'"{program}" {line}'.rstrip())
            self.save(state)

    def set_clock(self, seconds: int) -> None:
        """Its clock is set: the moment at which it was started is now another, as on a real Windows."""
        with self.locked():
            state = self.state()
            state.clock += seconds
            self.save(state)

    def shut_down(self) -> None:
        """Switched off and on again in the fast way: what ran has ended, what starts by itself runs anew, the boot is the same."""
        with self.locked():
            state = self.state()
            state.processes = []
            self._start_up(state)
            self.save(state)

    def restart(self, automatic: list[str], wait: bool) -> LabState:
        """Start it anew, and what it was told to do then. Args: wait: for the end of that; else it goes on by itself."""
        arranged = self.state().arranged
        state = self.start(automatic)
        if arranged and wait:
            subprocess.run(arranged, check=False)
        elif arranged:
            null = subprocess.DEVNULL
            subprocess.Popen(arranged, stdin=null, stdout=null, stderr=null, start_new_session=True)
        return state

    def _start_up(self, state: LabState, everything: bool = False) -> None:
        for process in self.file.process:
            if everything or (process.at_start and self._has(process.path)):
                add_process(state, process)

    def answer(self, title: str, yes: bool) -> None:
        """A person answers a window.

        Raises:
            UsageError: no such window is open.
        """
        with self.locked():
            state = self.state()
            if not any(p.get("title") == title for p in state.processes):
                raise UsageError(f"no window {title!r} is open on {self.file.name}", remedy="kleff lab show  tells what runs")
            state.answers[title] = yes
            self.save(state)

    def start(self, automatic: list[str], all_processes: bool = False) -> LabState:
        """Start (or restart) the lab: a new boot, start-up programs and automatic services running."""
        with self.locked():
            try:
                boot = self.state().boot + 1 if (self.folder / "state" / "state.json").exists() else 1
            except NoSuchWorkstation:
                boot = 1
            before = self._before()
            state = LabState(boot=boot, running_services=automatic, disabled_tasks=before.disabled_tasks, tries=before.tries)
            state.accounts_gone = before.accounts_gone
            self._start_up(state, all_processes)
            self.save(state)
            return state


def add_process(state: LabState, process: LabProcess) -> None:
    """Start a process; its parent is the one it is a child of, or that keeps it running."""
    parent = next((p["pid"] for p in state.processes if p["name"] in (process.child_of, process.kept_by)), 1)
    state.processes.append(
        {
            "pid": state.next_pid,
            "started": float(state.boot * 1_000_000 + state.next_pid),
            "name": process.name,
            "path": process.path,
            "command": process.command or [process.path],
            "parent": parent,
            "account": process.account,
            "stubborn": process.stubborn,
            "title": process.title,
            "listens": process.listens,
            "opens": [*process.opens, *process.locks],
            "locks": process.locks,
            "waits": process.waits,
        }
    )
    state.next_pid += 4


@contextmanager
def times_kept(folder: Path) -> Iterator[None]:
    """A look leaves nothing, not even the time of a folder of the lab's own."""
    before = folder.stat()
    try:
        yield
    finally:
        os.utime(folder, ns=(before.st_atime_ns, before.st_mtime_ns))


def _runs(pid: int) -> bool:
    """Whether there is such a process; on Windows, where asking so would end it, one of another number is taken for gone."""
    if sys.platform == "win32":
        return pid == os.getpid()
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
