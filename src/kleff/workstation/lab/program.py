"""A program of a lab at work: `python -m kleff.workstation.lab.program LAB PROGRAM [ARGUMENTS]`.

It behaves as `lab.toml` says and knows nothing of Kleff's runs.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path

from kleff.procedure.globs import fold
from kleff.workstation.facets import Workstation
from kleff.workstation.lab.described import LabProgram
from kleff.workstation.lab.lab import LINE, Lab, add_process
from kleff.workstation.lab.life import answered, at_work
from kleff.workstation.lab.locking import locked_files
from kleff.workstation.lab.registry import LabRegistry
from kleff.workstation.lab.workstation import at_start, open_lab
from kleff.workstation.windows.command_lines import split_arguments

ROW = re.compile(r"^INSERT INTO labels VALUES \(\d+, '(.*)'\);$", re.MULTILINE)
COPY = "--copy-of-itself"
UNKNOWN_PRODUCT = 1605  # ERROR_UNKNOWN_PRODUCT
NO_ANSWER = 1602  # ERROR_INSTALL_USEREXIT: it asked a question that nobody answered


def main(arguments: list[str]) -> int:
    """Run the program; returns its exit code, whole."""
    folder, program, *rest = arguments
    rest = split_arguments(rest[1]) if rest[:1] == [LINE] else rest
    lab = Lab(Path(folder))
    workstation = open_lab(Path(folder))
    copy = COPY in rest
    rest = [a for a in rest if a != COPY]
    behaviour = _behaviour(lab, program, rest)
    if behaviour is None:
        return UNKNOWN_PRODUCT if fold(program).endswith("MSIEXEC.EXE") else 0
    if rest and rest[0] in behaviour.answers:
        sys.stdout.write(behaviour.answers[rest[0]])
        return 0
    if behaviour.keeps and rest and rest[0] in ("list", "export", "import"):
        return _database(workstation, behaviour, rest[0])
    if behaviour.needs and fold(behaviour.needs) not in {fold(a) for a in rest}:
        print("waiting for an answer in a window nobody sees")
        return NO_ANSWER
    in_the_way = [n for n in behaviour.refuses_while if fold(n) in {fold(p["name"]) for p in lab.state().processes}]
    if in_the_way:
        print(f"{', '.join(in_the_way)} is running. Close it and try again.")
        _start(lab, behaviour)
        return behaviour.refusal
    if behaviour.repairs and fold(behaviour.repairs) in {fold(a) for a in rest}:
        _remember(lab, behaviour, behaviour.fails_first)
        return 0
    if not copy and _tried(lab, behaviour) <= behaviour.fails_first:
        print(behaviour.prints or "it fails")
        return behaviour.failure
    if (behaviour.hands_over or behaviour.by_installer) and not copy:
        _hand_over(folder, program, rest)
        return behaviour.exit
    if behaviour.prints:
        print(behaviour.prints, flush=True)
    with at_work(lab, behaviour, program):
        if behaviour.signs_in:
            LabRegistry(lab).sign_in(behaviour.signs_in)
        if behaviour.wizard and not answered(lab, behaviour.wizard):
            return NO_ANSWER
        time.sleep(behaviour.takes)
        _work(lab, workstation, behaviour, rest)
    return behaviour.exit


def _behaviour(lab: Lab, program: str, arguments: list[str]) -> LabProgram | None:
    if fold(program).endswith("\\MSIEXEC.EXE"):
        codes = {fold(a) for a in arguments}
        known = [p for p in lab.file.program if p.product_code and {fold(p.product_code), fold(p.repairs)} & codes]
        return known[0] if known else None
    return next((p for p in lab.file.program if p.path and fold(p.path) == fold(program)), None)


def _database(workstation: Workstation, behaviour: LabProgram, command: str) -> int:
    """A small database of SQL text, one row a line; a row that is there already stays as it is."""
    path = workstation.files.path(behaviour.keeps)
    assert path is not None
    if behaviour.secret and os.environ.get("TAGDB_PASSWORD") != behaviour.secret:
        print(f"wrong password: {os.environ.get('TAGDB_PASSWORD', '(none)')}", file=sys.stderr)
        return 3
    file = Path(workstation.files.host(path))
    text = file.read_text("utf-8") if file.exists() else ""
    if command == "export":
        sys.stdout.write(text)
    elif command == "list":
        sys.stdout.write("".join(f"{name}\n" for name in ROW.findall(text)))
    else:
        there = set(ROW.findall(text))
        new = [line for line in sys.stdin.read().splitlines(keepends=True) if not text or not line.startswith("CREATE")]
        file.parent.mkdir(parents=True, exist_ok=True)
        with file.open("a", encoding="utf-8") as out:
            out.writelines(line for line in new if not set(ROW.findall(line)) & there)
    return 0


def _hand_over(folder: str, program: str, arguments: list[str]) -> None:
    command = [sys.executable, "-m", "kleff.workstation.lab.program", folder, program, *arguments, COPY]
    null = subprocess.DEVNULL
    subprocess.Popen(command, stdin=null, stdout=null, stderr=null, start_new_session=True)


def _tried(lab: Lab, behaviour: LabProgram) -> int:
    """How often it was run, this time included."""
    if not behaviour.fails_first:
        return 1
    before = lab.state().tries.get(behaviour.path or behaviour.product_code, 0)
    _remember(lab, behaviour, before + 1)
    return before + 1


def _remember(lab: Lab, behaviour: LabProgram, tries: int) -> None:
    with lab.locked():
        state = lab.state()
        state.tries[behaviour.path or behaviour.product_code] = tries
        lab.save(state)


def _start(lab: Lab, behaviour: LabProgram) -> None:
    """Something that it has brought starts its programs again."""
    with lab.locked():
        state = lab.state()
        for process in lab.file.process:
            if process.name in behaviour.starts and process.name not in {p["name"] for p in state.processes}:
                add_process(state, process)
        lab.save(state)


def _work(lab: Lab, workstation: Workstation, behaviour: LabProgram, arguments: list[str]) -> None:
    with lab.locked():
        state = lab.state()
        ended = {fold(n) for n in behaviour.ends}
        stopped = {fold(n) for n in behaviour.stops_services}
        state.processes = [p for p in state.processes if fold(p["name"]) not in ended]
        state.running_services = [n for n in state.running_services if fold(n) not in stopped]
        lab.save(state)
    files = workstation.files
    for text in behaviour.creates:
        made = files.path(text)
        assert made is not None
        Path(files.host(made)).parent.mkdir(parents=True, exist_ok=True)
        Path(files.host(made)).write_text("left by its uninstaller\n")
    locked = {files.host(path) for name in locked_files(lab) if (path := files.path(name)) is not None}
    for text in (*behaviour.deletes, *(t for a in arguments for t in behaviour.chosen.get(a, []))):
        split = files.style.split(text)
        for path in list(files.expand(*split)) if split else []:
            _delete(files.host(path), locked)
    registry = workstation.registry
    assert registry is not None
    for text in behaviour.deletes_keys:
        for key in registry.canonical(text, view=64):
            registry.delete_tree(key)
    registry.api.flush()
    if behaviour.restarts:
        lab.start(at_start(lab))


def _delete(host: str, locked: set[str]) -> None:
    """Delete a file, or a folder with what is in it; what a program holds stays, and the folders it lies in."""
    if not os.path.isdir(host) or os.path.islink(host):
        if host not in locked:
            os.unlink(host)
        return
    for top, folders, names in os.walk(host, topdown=False):
        for name in (*names, *(n for n in folders if os.path.islink(os.path.join(top, n)))):
            if os.path.join(top, name) not in locked:
                os.unlink(os.path.join(top, name))
        if not os.listdir(top):
            os.rmdir(top)


if __name__ == "__main__":
    code = main(sys.argv[1:])
    sys.stdout.flush()
    if code > 255:
        (Path(sys.argv[1]) / "state" / f"exit-{os.getpid()}").write_text(str(code), "ascii")
    sys.exit(code & 0xFF)
