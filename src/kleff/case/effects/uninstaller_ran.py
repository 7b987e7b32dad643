"""An uninstaller was run; taken back, what it removed is brought back from the spare that was taken before."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import ClassVar

import msgspec
from msgspec import field

from kleff.case.aside.spare_plan import SparePlan
from kleff.case.effects.base import TakenBack, effect_of, stays
from kleff.case.effects.spared import Spared, areas_for, no_spare, spare_of, until_still
from kleff.case.hands import Hands
from kleff.case.record.effect import Count, Journaled, Pid
from kleff.procedure.globs import PathStyle, fold
from kleff.workstation.boot import same_boot
from kleff.workstation.redaction import kept_words
from kleff.workstation.things import Given, Running


class UninstallerRan(Spared, kw_only=True, frozen=True, omit_defaults=True):
    """An outside program that removes a product.

    Attributes:
        what: the product; boot: of the workstation when it was started.
        command, line: what was started, program and arguments, and what is registered behind the program.
        pid, started: its process, known a moment after it was started.
        code: how it ended; ended: it is over, and a further try starts anew; watching: it has returned, and the product is watched.
        way: which of the ways it was, from 0.
    """

    kind: ClassVar[str] = "uninstaller ran"
    names_leftovers: ClassVar[bool] = True

    what_: str = field(default="", name="what")
    command: list[str]
    line: str = ""
    boot: str = ""
    pid: Pid = 0
    started: float = 0.0
    code: int | None = None
    ended: bool = False
    watching: bool = False
    way: Count = 0

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        if not self.index:
            return stays(f"what the uninstaller of {self.what_} removed is not taken back; install the product again")
        spare = spare_of(hands, one.id)
        changed = [s for e in hands.case.journal.effects() if e.state == "done" for s in effect_of(e).settings(e, hands)]
        left = spare.bring_back(self.index, own=[(key, value.name) for key, value in changed])
        spare.check_failed()
        return stays("; ".join(left)) if left else TakenBack("undone", f"brought back from the spare: {self.what_}{spare.not_back}")

    def wait(self, one: Journaled, hands: Hands) -> None:
        """One that a killed run started may still be at work, or a copy it handed over to: nothing is put back under it."""
        if one.state != "intended" or (not self.pid and self.spare == "making"):
            return
        hands.progress.say(f"waiting for the uninstaller of {self.what_} to end")
        running, commands = started_by(one, hands), hands.workstation.commands
        while running is not None and commands is not None and commands.busy(running):
            commands.wait(running, 0.25)
            hands.check_stop()
        until_still(hands, one, hands.progress.should_stop)
        hands.check_stop()

    @property
    def named_by(self) -> str:
        return f"the uninstaller of {self.what_}"

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.what_


def run_uninstaller(
    hands: Hands, action: int, what: str, command: Sequence[str], plan: SparePlan | None, given: Given, way: int = 0
) -> tuple[Journaled, Running]:
    """Start an uninstaller: the intent, after it the spare, complete, and only then the program.

    Args:
        plan: what the spare is made of; None to take none.
        given: what it is given besides; way: as `UninstallerRan`.

    Raises:
        ActionFailed: no spare can be taken, or it cannot be started.
    """
    commands = hands.workstation.commands
    assert commands is not None
    effect = UninstallerRan(what_=what, command=kept_words(command, given.hide), line=given.line, boot=hands.workstation.boot, way=way)
    one = hands.intend(action, effect) if plan is None else _spared(hands, action, effect, plan)
    journaled = one

    def known(running: Running) -> None:
        nonlocal journaled
        journaled = hands.amend(one, pid=running.pid, started=running.started)

    words = [*command, *_log(hands, one, command)]
    running = commands.start(words, hands.case.output(one.id), given, known)
    return journaled, running


def _log(hands: Hands, one: Journaled, command: Sequence[str]) -> list[str]:
    """Of the system's own installer: it is to keep a log, with everything and as it goes ("Command-Line Options", Windows Installer)."""
    return ["/l*v!", str(hands.case.log(one.id))] if fold(command[0]).endswith("\\MSIEXEC.EXE") else []


def _spared(hands: Hands, action: int, effect: UninstallerRan, plan: SparePlan) -> Journaled:
    one = hands.intend(action, msgspec.structs.replace(effect, areas_=areas_for(hands, plan), spare="making"))
    hands.progress.say("     taking a spare of the product")
    changed = [effect_of(e).settings(e, hands) for e in hands.case.journal.effects() if e.state == "done"]
    plan = dataclasses.replace(plan, before=[setting for settings in changed for setting in settings])
    try:
        index = spare_of(hands, one.id).make(plan)
    except OSError as error:
        raise no_spare(error, "the uninstaller was not run") from None
    return hands.amend(one, spare="made", index=index)


def started_by(one: Journaled, hands: Hands) -> Running | None:
    """The process an effect has started on this boot, by its journaled number and start time; where an earlier release was killed before
    they were journaled, by its command.
    """
    effect, commands, output = one.effect, hands.workstation.commands, hands.case.output(one.id)
    if not isinstance(effect, UninstallerRan) or same_boot(hands.workstation, effect.boot) is False or commands is None:
        return None
    return Running(effect.pid, effect.started, output) if effect.pid else commands.find_running(effect.command, output)
