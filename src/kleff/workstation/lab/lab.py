"""A lab's folder: what it is (`lab.toml`, never changed by a run) and its live state (committed atomically)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import msgspec

from kleff.errors import NoSuchWorkstation
from kleff.workstation.this_machine import host


class LabProcess(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A simulated process; `stubborn` ones do not close when asked.

    Attributes:
        title: of its window; listens: TCP ports; opens: files it has open.
        kept_by: the name of a program that starts it again whenever it has ended, as long as it runs itself.
    """

    name: str
    path: str
    account: str = ""
    command: list[str] = []
    child_of: str = ""
    stubborn: bool = False
    at_start: bool = False
    title: str = ""
    listens: list[int] = []
    opens: list[str] = []
    kept_by: str = ""


class LabProgram(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """How a program of the lab behaves when it is run.

    Attributes:
        product_code: for a Windows Installer product instead of `path`.
        needs: an argument without which it asks questions, that is: fails.
        refuses_while: names of processes while which it refuses, with `refusal`.
        prints: what it writes to its output.
        deletes: paths it deletes, globs allowed; `deletes_keys`: keys, in this order, last.
        hands_over: it starts a copy of itself, which does the work, and returns at once.
        takes: seconds it works.
        answers: what it writes when called with a first argument; it then does nothing else.
        keeps: the file of a small database: `list`, `export` and `import` (from standard input) work on it;
            with `secret`, only if TAGDB_PASSWORD says it.
    """

    path: str = ""
    product_code: str = ""
    needs: str = ""
    refuses_while: list[str] = []
    refusal: int = 1
    exit: int = 0
    prints: str = ""
    takes: float = 0.0
    hands_over: bool = False
    ends: list[str] = []
    stops_services: list[str] = []
    deletes: list[str] = []
    deletes_keys: list[str] = []
    answers: dict[str, str] = {}
    keeps: str = ""
    secret: str = ""


class LabFile(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """`lab.toml`.

    Attributes:
        battery: its charge in percent, if it runs on one.
        sessions: accounts that are signed in besides the technician.
    """

    format: int
    name: str
    id: str
    description: str = ""
    bits: int = 64
    battery: int | None = None
    sessions: list[str] = []
    process: list[LabProcess] = []
    program: list[LabProgram] = []


class LabState(msgspec.Struct, kw_only=True):
    """The live state: what runs, and how often the lab was started."""

    boot: int = 1
    next_pid: int = 1000
    processes: list[dict[str, Any]] = []
    running_services: list[str] = []
    disabled_tasks: list[str] = []


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
        try:
            data = tomllib.loads((self.folder / "lab.toml").read_text("utf-8"))
            return msgspec.convert(data, LabFile)
        except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
            raise NoSuchWorkstation(f"lab.toml cannot be used: {error}", where=where, remedy=remedy) from None

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

    def _disabled(self) -> list[str]:
        """Tasks that are switched off stay so over a restart."""
        try:
            return self.state().disabled_tasks
        except NoSuchWorkstation:
            return []

    def start(self, automatic: list[str], all_processes: bool = False) -> LabState:
        """Start (or restart) the lab: a new boot, start-up programs and automatic services running."""
        with self.locked():
            try:
                boot = self.state().boot + 1 if (self.folder / "state" / "state.json").exists() else 1
            except NoSuchWorkstation:
                boot = 1
            state = LabState(boot=boot, running_services=automatic, disabled_tasks=self._disabled())
            for process in self.file.process:
                if all_processes or (process.at_start and self._has(process.path)):
                    add_process(state, process)
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
            "opens": process.opens,
        }
    )
    state.next_pid += 4
