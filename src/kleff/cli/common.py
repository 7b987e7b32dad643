"""What commands share: finding procedures, cases and workstations, and asking."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass, field, replace
from pathlib import Path

from kleff.engine.kinds import model_table
from kleff.engine.scene import set_scene
from kleff.errors import ProcedureError, Refused, UsageError
from kleff.objects.base import Scene, Telling
from kleff.objects.secrets import Secrets, variable_of
from kleff.procedure.conditions import Answer, show_answer
from kleff.procedure.load import Procedure, load_procedure
from kleff.procedure.model import Ask
from kleff.workstation.facets import Workstation
from kleff.workstation.open import open_workstation


def default_cases() -> Path:
    """Where cases are kept unless --cases says otherwise."""
    if os.geteuid() == 0:
        return Path("/var/lib/kleff/cases")
    return Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state") / "kleff" / "cases"


def default_library() -> Path:
    """Where procedures are kept unless --library says otherwise."""
    if os.geteuid() == 0:
        return Path("/etc/kleff/procedures")
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "kleff" / "procedures"


def find_procedure(name: str, library: Path | None) -> Path:
    """The file of a procedure named by its path or its id.

    Raises:
        ProcedureError: there is none.
    """
    path = Path(name)
    if path.suffix == ".toml" or os.sep in name or path.exists():
        return path
    found = (library or default_library()) / f"{name}.toml"
    if not found.is_file():
        raise ProcedureError(
            [f"{name}: neither a file nor a procedure of the library ({library or default_library()})"],
            remedy="name the file, or the library with --library",
        )
    return found


def read_procedure(name: str, library: Path | None) -> Procedure:
    """Load a procedure.

    Raises:
        ProcedureError: there is none, or it is not valid.
    """
    return load_procedure(find_procedure(name, library), model_table())


def check_sources(name: str, library: Path | None, workstation: Workstation) -> None:
    """Refuse a procedure or a library that another account could have written.

    Raises:
        Refused: naming the file or folder.
    """
    from kleff.case.record.folder import check_trusted

    check_trusted(find_procedure(name, library), "the procedure", workstation)
    folder = library or default_library()
    if folder.is_dir():
        check_trusted(folder, "the library", workstation)


def other_procedures(library: Path | None, procedure: Procedure) -> list[Procedure]:
    """The rest of the library; one that is not valid claims nothing."""
    folder = library or default_library()
    if not folder.is_dir():
        return []
    others = []
    for file in sorted(folder.glob("*.toml")):
        try:
            others.append(load_procedure(file, model_table()))
        except ProcedureError:
            continue  # `kleff list` says so
    return [o for o in others if o.product.id != procedure.product.id]


def open_scene(name: str, on: str | None, library: Path | None) -> Scene:
    """A procedure on a workstation."""
    loaded = read_procedure(name, library)
    return scene_with(open_workstation(on or "this"), loaded, library)


@dataclass(frozen=True)
class Told:
    """What the technician has told: answers, secrets, what is waived, which manual steps are done (and who says so, when).

    Attributes:
        heard: what programs have told a plan of the same moment.
    """

    answers: dict[str, Answer] = field(default_factory=dict)
    secrets: Secrets = field(default_factory=Secrets)
    waived: frozenset[str] = frozenset()
    confirmed: dict[str, str] = field(default_factory=dict)
    heard: Telling = field(default_factory=dict)

    def answered(self, answers: dict[str, Answer], heard: Telling | None = None) -> Told:
        """The same with these answers."""
        return replace(self, answers=answers, heard=heard or {})


def scene_with(
    workstation: Workstation, procedure: Procedure, library: Path | None, spare: str = "links", told: Told | None = None
) -> Scene:
    """The scene, with the rest of the library beside it."""
    told = told or Told()
    scene = set_scene(workstation, procedure, others=other_procedures(library, procedure), answers=told.answers)
    scene.spare, scene.secrets, scene.waived, scene.confirmed = spare, told.secrets, told.waived, told.confirmed
    scene.heard = told.heard
    return scene


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
    return sys.stdin.readline().strip()


def ask_secret(name: str) -> str:
    """Ask for a secret without echo."""
    import getpass

    return getpass.getpass(f"{name} (not shown): ", sys.stderr) if sys.stdin.isatty() else ""


def give_secrets(secrets: Secrets, given: list[str]) -> None:
    """Secrets from file descriptors (`NAME=FD`), and a terminal to ask on where there is one.

    Raises:
        UsageError: not a descriptor.
    """
    for text in given:
        name, _, number = text.rpartition("=")
        try:
            with os.fdopen(int(number), "r", encoding="utf-8") as file:
                secrets.give(name, file.read().rstrip("\r\n"))
        except (ValueError, OSError, UnicodeDecodeError):
            raise UsageError(f"{text!r} names no open file to read from", remedy="write  --secret-fd 'NAME=3' 3<FILE") from None
    secrets.ask = ask_secret if sys.stdin.isatty() else None


def new_passphrase(secrets: Secrets) -> str:
    """A passphrase for a new bag; on a terminal it is asked for twice.

    Raises:
        UsageError: the two differ.
    """
    from kleff.case.bag.encryption import PASSPHRASE

    passphrase = secrets.get(PASSPHRASE)
    if secrets.ask is not None and not os.environ.get(variable_of(PASSPHRASE)) and ask_secret(f"{PASSPHRASE}, again") != passphrase:
        raise UsageError("the two passphrases differ", remedy="nothing was changed; try again")
    return passphrase


def check_rights(workstation: Workstation) -> None:
    """Removing from this machine needs an administrator; a lab only a folder that can be written.

    Raises:
        Refused.
    """
    if not workstation.admin and workstation.spec.startswith("root:"):
        raise Refused("working in another tree needs an administrator", where=workstation.spec, remedy="run Kleff as root")


def confirm(question: str, yes: bool, remedy: str) -> None:
    """Ask once.

    Raises:
        Refused: not confirmed, or nobody is there to confirm.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise Refused("not confirmed: there is no terminal to ask on", remedy=remedy)
    print(f"{question} [y/N] ", end="", file=sys.stderr, flush=True)
    answer = sys.stdin.readline().strip().lower()
    if answer not in ("y", "yes"):
        raise Refused("not confirmed", remedy="nothing was changed")


def check_named(on: str | None, yes: bool) -> None:
    """`--yes` without `--on` could hit the wrong machine.

    Raises:
        UsageError.
    """
    if yes and on is None:
        raise UsageError("--yes needs the workstation to be named", remedy="add  --on this  (or root:FOLDER, lab:FOLDER)")
