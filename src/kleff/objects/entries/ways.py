"""The ways in which a registered product can be removed: the regular one, and those that are taken only if it fails."""

from dataclasses import dataclass

from kleff.objects.base.here import Here
from kleff.objects.commands.programs import arguments
from kleff.objects.entries.families import family_of
from kleff.objects.entries.steps import Otherwise, Removing
from kleff.procedure.versions import parse_duration
from kleff.workstation.identity import KeyId
from kleff.workstation.things import CommandLine, Entry, command_text

WITHOUT = "without its uninstaller"
MISSING_SOURCE = 1612  # ERROR_INSTALL_SOURCE_ABSENT ("Windows Installer Error Codes")


@dataclass(frozen=True)
class Way:
    """One way.

    Attributes:
        command: program and arguments; empty where it is removed without its uninstaller.
        line: what is registered behind the program, as it stands, before the arguments.
        ok, restart: exit codes that mean done, and done with a restart.
        patience: seconds.
        objection: why it cannot be taken; "" if it can.
        told: what a person should know of it.
        attended: a person answers it.
        regular: the one that is taken first.
    """

    command: tuple[str, ...]
    ok: tuple[int, ...]
    restart: tuple[int, ...]
    patience: float
    objection: str = ""
    told: str = ""
    attended: bool = False
    regular: bool = False
    line: str = ""

    @property
    def text(self) -> str:
        return command_text(self.command, self.line) if self.command else WITHOUT


def ways_of(model: Removing, entry: Entry, here: Here) -> list[Way]:
    """In the order in which they are tried."""
    if here.options.without_uninstallers:
        return [Way((), (), (), 0.0, _stays_without(entry, here), told="as asked for; its uninstaller is not run")]
    return [_regular(model, entry, here), *(_other(way, entry, here) for way in model.ways)]


def _regular(model: Removing, entry: Entry, here: Here) -> Way:
    command, line, told = _command(model, entry, here)
    words = (*command, *(model.also_removes if command else ()))
    objection = _objection(entry, words, here)
    return Way(words, (0,), (3010, 1641), parse_duration(model.patience), objection, told, model.attended, regular=True, line=line)


def _command(model: Removing, entry: Entry, here: Here) -> tuple[tuple[str, ...], str, str]:
    """(program and arguments, what is registered behind the program, where they come from, if that must be told); empty if no quiet way
    is known.
    """
    if model.quiet:
        return tuple(arguments(list(model.quiet), here) or model.quiet), "", ""
    registered = (entry.program or entry.quiet) if model.attended else entry.quiet
    if model.attended or registered is not None:
        return *_as_registered(registered), ""
    family = family_of(entry, here)
    if family is None:
        return (), "", ""
    words, line = _as_registered(entry.program)
    return (*words, *family.quiet), line, f"guessed: its file was made by {family.name}, whose uninstallers are quiet so"


def _as_registered(command: CommandLine | None) -> tuple[tuple[str, ...], str]:
    """(program, and arguments of our own), and what is registered behind the program."""
    if command is None:
        return (), ""
    return (command.words[:1], command.line) if command.line else (command.words, "")


def _objection(entry: Entry, command: tuple[str, ...], here: Here) -> str:
    if not command:
        return f"no quiet way is known; uninstall it by hand ({entry.registered or 'no command is registered'})"
    if entry.account and not entry.product_code:
        return f"registered by the account {entry.account} itself; uninstall it by hand as that account"
    return objection_to_program(command[0], here)


def objection_to_program(text: str, here: Here) -> str:
    """Why a program must not be run; "" if it may."""
    workstation = here.workstation
    program = workstation.files.path(text)
    if program is None:
        return f"{text} is not a path; uninstall it by hand"
    return (workstation.commands.objection(program) if workstation.commands else "no programs are run here") or ""


def _stays_without(entry: Entry, here: Here) -> str:
    """Why a product cannot go without its uninstaller; "" if it can.

    What an account has registered says nothing of anybody else's folder.
    """
    if not isinstance(entry.id, KeyId):
        return "it is registered nowhere: what is there of it, only its uninstaller knows"
    if not entry.account or not entry.location:
        return ""
    place, account = here.workstation.files.path(entry.location), here.resolver.account(entry.id.key.parts[0])
    if place is None or account is None or not place.below(account.home):
        return f"registered by the account {entry.account} itself, in a folder that is not its own; delete that in a step of its own"
    return ""


def _other(way: Otherwise, entry: Entry, here: Here) -> Way:
    patience = parse_duration(way.patience)
    if way.without_uninstaller:
        return Way((), (), (), patience, _stays_without(entry, here))
    command = tuple(arguments(list(way.command), here) or way.command)
    found = command[0] != way.command[0] or here.workstation.files.path(command[0]) is not None
    objection = objection_to_program(command[0], here) if found else f"{command[0]} is not there"
    return Way(command, tuple(way.ok), tuple(way.restart), patience, objection)
