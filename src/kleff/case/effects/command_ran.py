"""The product's own program was run to change something. There is no inverse: what cannot be taken back is named."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from msgspec import field

from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled, Pid
from kleff.errors import ActionFailed
from kleff.procedure.globs import PathStyle
from kleff.workstation.boot import same_boot
from kleff.workstation.redaction import kept_words
from kleff.workstation.things import Running


class CommandRan(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """A program that was started; `what` it did, if that cannot be taken back, else empty.

    Attributes:
        failed: it ended badly, and may be run again.
        code: how it ended; None if nobody knows.
        boot, pid, started: of the workstation then, and its process, known before it runs; earlier releases did not keep them.
        command: what was started, without secrets.
    """

    kind: ClassVar[str] = "command ran"

    what_: str = field(name="what")
    failed: bool = False
    code: int | None = None
    boot: str = ""
    pid: Pid = 0
    started: float = 0.0
    command: list[str] = []

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        return stays(f"{self.what_} cannot be taken back") if self.what_ else UNDONE

    def wait(self, one: Journaled, hands: Hands) -> None:
        """One that a killed run started may still be at work: nothing is put back under it."""
        if one.state == "intended":
            _to_the_end(self, one, hands)

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.what_


@dataclass
class Command:
    """A command that is being run.

    Attributes:
        output: where what it says is kept; words: what is started, as it is kept.
    """

    hands: Hands
    one: Journaled
    code: int | None = 0
    words: tuple[str, ...] = ()

    def runs(self, argv: Sequence[str], hide: Sequence[str]) -> list[str]:
        """It will be this that is started, of which `hide` is not kept; returned as it is."""
        self.words = tuple(kept_words(argv, hide))
        return list(argv)

    @property
    def output(self) -> Path:
        return self.hands.case.output(self.one.id)

    def known(self, running: Running) -> None:
        """Journal its process; only then it is started."""
        self.one = self.hands.amend(self.one, pid=running.pid, started=running.started, command=list(self.words))


@contextmanager
def running_command(hands: Hands, action: int, what: str) -> Iterator[Command]:
    """A command that runs within: journaled before, and how it ended after. One that ends badly may be run again."""
    command = Command(hands, hands.intend(action, CommandRan(what_=what, boot=hands.workstation.boot)))
    try:
        yield command
    except ActionFailed:
        hands.amend(command.one, failed=True)
        raise
    hands.done(hands.amend(command.one, code=command.code))


def has_failed(hands: Hands, action: int) -> bool:
    """Whether an earlier try to run the command of an action ran it, and it ended badly."""
    return any(isinstance(e.effect, CommandRan) and e.effect.failed and e.effect.pid for e in hands.case.journal.effects(action))


@dataclass(frozen=True)
class Earlier:
    """How an earlier try to run a command went: `ended` well, `cut off` (nobody knows how far it came), or ""; and its exit code."""

    how: str = ""
    code: int | None = None


def earlier(hands: Hands, action: int, fine: Collection[int] = (0,)) -> Earlier:
    """How the earlier tries to run the command of an action went. One that is still at work is waited for.

    Args:
        fine: the exit codes that are no failure.
    """
    tries = [_how(one.effect, one, hands, fine) for one in hands.case.journal.effects(action) if isinstance(one.effect, CommandRan)]
    return next((one for how in ("ended", "cut off") for one in tries if one.how == how), Earlier())


def _how(effect: CommandRan, one: Journaled, hands: Hands, fine: Collection[int]) -> Earlier:
    code, begun = effect.code, not effect.boot  # an earlier release kept neither
    if code is None and effect.pid:
        running = _to_the_end(effect, one, hands)
        code, begun = running.code, running.begun
    if code in fine:
        return Earlier("ended", code)
    return Earlier("cut off") if code is None and begun and not effect.failed else Earlier()


def _to_the_end(effect: CommandRan, one: Journaled, hands: Hands) -> Running:
    """Wait for a command that a killed run started; what its supervisor has kept of its end is known then."""
    commands, here = hands.workstation.commands, same_boot(hands.workstation, effect.boot) is not False
    running = Running(effect.pid if here else 0, effect.started, hands.case.output(one.id))
    if commands is None:
        return running
    if not commands.wait(running, 0.25):
        hands.progress.say("     the command that was started before is still at work: waiting for it")
    while not commands.wait(running, 0.25):
        hands.check_stop("the command that was started before is still at work", "resume")
    return running
