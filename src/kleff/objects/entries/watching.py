"""Waiting for an uninstaller, understanding how it ended, and watching until what it removes is no longer registered."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kleff.case.programs import last_lines, said
from kleff.errors import ActionFailed, EndedBadly, StillAtWork
from kleff.objects.base.action import DONE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.entries.patience import Patience
from kleff.objects.entries.ways import Way
from kleff.texts import seconds
from kleff.workstation.boot import same_boot
from kleff.workstation.life import life_of
from kleff.workstation.things import Running

if TYPE_CHECKING:
    from kleff.case.effects.uninstaller_ran import UninstallerRan
    from kleff.case.record.effect import Journaled

# Exit codes of Windows Installer, which other uninstallers use too ("Windows Installer Error Codes").
NOT_THERE = (1605, 1614)
SETTLING = 10.0  # seconds that are left to the system once nothing of an uninstaller is at work any more
MEANINGS = {
    1602: "cancelled: it asked a question",
    1603: "fatal error during removal",
    1612: "its source is missing",
    1618: "another installation is at work",
}


@dataclass(frozen=True)
class Try:
    """An earlier try of this case to run the uninstaller of an action."""

    one: "Journaled"
    effect: "UninstallerRan"


def last_try(action: Action, work: Work) -> Try | None:
    """The uninstaller that an interrupted run of this case started on this boot."""
    from kleff.case.effects.uninstaller_ran import UninstallerRan

    tries = [Try(e, e.effect) for e in work.hands.case.journal.effects(action.number) if isinstance(e.effect, UninstallerRan)]
    return tries[-1] if tries and same_boot(work.here.workstation, tries[-1].effect.boot) is not False else None


def is_over(running: Running, here: Here) -> bool:
    commands = here.workstation.commands
    return commands is None or commands.wait(running, 0)


@dataclass(frozen=True)
class Watch:
    """Waits for an uninstaller, and until what it removes is no longer registered.

    Attributes:
        way: by which it is removed; gone: whether it is no longer registered.
    """

    action: Action
    work: Work
    way: Way
    gone: Callable[[], bool]
    patience: Patience

    def over(self, running: Running) -> bool:
        return is_over(running, self.work.here)

    def went_on_by_itself(self, last: Try) -> bool:
        """Cut off at an unknown instant: give what may still be at work time; True if the product is gone then."""
        from kleff.case.effects.spared import until_still

        if last.effect.ended or last.effect.spare == "making":
            return False
        self.work.progress.say(f"     looking whether the uninstaller of {self.action.target} is still at work")
        until_still(self.work.hands, last.one, self.gone)
        return self.gone()

    def follow(self, one: "Journaled", running: Running) -> Outcome:
        """Wait for its end, understand its exit code, then watch until the entry is really gone.

        Raises:
            StillAtWork: it has not ended in time.
            ActionFailed: it ended badly, or what it removes is registered still.
        """
        hands, commands = self.work.hands, self.work.here.workstation.commands
        output = hands.case.output(one.id)
        assert commands is not None
        begun = time.monotonic()
        self.work.here.workstation.release()
        while not commands.wait(running, 0.25):
            self._wait(running, f"look at its window and at {output}; then resume")
        code = running.code
        fine = (*self.way.ok, *self.way.restart, None, *NOT_THERE)
        one = hands.amend(one, code=code, ended=code not in (*self.way.ok, None, *NOT_THERE))
        if code not in fine:
            hands.done(one, f"exit code {code}")
            raise self._badly(code or 0, one)
        return self.finish(one, code, running, begun)

    def finish(self, one: "Journaled", code: int | None, running: Running | None, begun: float = 0.0) -> Outcome:
        """It has returned: watch until the entry is gone, unless it asks for a restart; then see what it did."""
        from kleff.case.effects.spared import put_back_others, record_difference

        hands, restart = self.work.hands, code in self.way.restart
        if not restart:
            one = hands.amend(one, watching=True)
            try:
                self._until_gone(code, running)
            except StillAtWork:
                raise
            except ActionFailed:  # in vain; the next try starts the uninstaller anew
                hands.amend(one, watching=False, ended=True)
                raise
        others = put_back_others(hands, one)
        hands.done(one, f"exit code {'not known' if code is None else code}")
        took = f"took {seconds(time.monotonic() - begun)}" if begun else "went on by itself"
        words = "asks for a restart" if restart else f"was not there (exit code {code})" if code in NOT_THERE else took
        note = "; ".join(n for n in (words, record_difference(hands, one), others) if n)
        return Outcome(state=DONE, items=1, note=note, restart=restart)

    def _badly(self, code: int, one: "Journaled") -> EndedBadly:
        output, log = self.work.hands.case.output(one.id), self.work.hands.case.log(one.id)
        meaning = f" ({MEANINGS[code]})" if code in MEANINGS else ""
        names = self._in_the_way(said(output))
        if names:
            meaning += f": {', '.join(names)} runs still"
        remedy = f"end it first: stops_first = {names!r}".replace("'", '"') if names else f"read {log if log.exists() else output}"
        return EndedBadly(
            f"the uninstaller of {self.action.target} ended with exit code {code}{meaning}",
            remedy=f"{remedy}; mend it, then resume, or go past it with  --skip {self.action.number}",
            said=last_lines(output) or last_lines(log),
            code=code,
        )

    def _in_the_way(self, text: str) -> list[str]:
        """Programs that run, and that it names in what it says: they keep it from its work."""
        facet = self.work.here.workstation.processes
        low = text.casefold()
        return sorted({p.name for p in facet.all() if len(p.name) > 4 and p.name.casefold() in low}) if facet and text else []

    def _wait(self, running: Running | None, remedy: str) -> None:
        """Between two looks: say how it does, let whoever asks stop, and see whether it takes too long.

        Raises:
            StillAtWork: nobody wants to wait on. It is left at work.
            Interrupted: asked to stop.
        """
        facet, progress, name = self.work.here.workstation.processes, self.work.progress, self.action.target
        self.patience.look()
        if self.patience.due() and running is not None and facet is not None:
            what = "its window" if self.way.attended else "the uninstaller"
            progress.alive(self.patience.told(what, life_of(running, facet)), self.patience.used, self.patience.allowed)
        self.work.here.workstation.release()  # it was looked whether it is registered still
        if self.patience.over:
            if not progress.agrees(f"The uninstaller of {name} has not ended in time. Wait as long again? (No leaves it at work.)"):
                raise StillAtWork(f"the uninstaller of {name} has not ended in time", remedy=remedy)
            self.patience.again()
        progress.step()
        # Whoever asks to stop need not wait: the uninstaller goes on by itself, and `resume` reads how it ended.
        self.work.hands.check_stop(f"the uninstaller of {name} goes on by itself", "resume")

    def _until_gone(self, code: int | None, running: Running | None) -> None:
        """Some uninstallers return at once after handing over to a copy of themselves: the entry tells, as long as anything is at work."""
        told, at_work = False, time.monotonic()
        while not self.gone():
            busy = running is None or self._at_work(running)
            if busy:
                at_work = time.monotonic()
            if code in NOT_THERE or time.monotonic() >= at_work + SETTLING:
                raise self._still_there(code)
            if not told:
                self.work.progress.say("     the uninstaller has returned; waiting until the product is no longer registered")
                told = True
            self._wait(running, "look whether it still works; then resume")
            time.sleep(0.1)

    def _still_there(self, code: int | None) -> ActionFailed:
        if code in NOT_THERE:
            what = f"though its uninstaller says that it is not there (exit code {code})"
            remedy = f"name its key in a [[delete]] step, or go past it with  --skip {self.action.number} --because TEXT"
            return ActionFailed(f"{self.action.target} is still registered, {what}", remedy=remedy)
        if self.way.attended:
            return ActionFailed(
                f"{self.action.target} is still registered after its window was closed", remedy="resume, and answer it to its end"
            )
        remedy = "look whether it still works; then resume"
        return ActionFailed(f"{self.action.target} is still registered after its uninstaller ended", remedy=remedy)

    def _at_work(self, running: Running) -> bool:
        """Whether the uninstaller has left something at work, or the system's own installer is."""
        commands, readiness = self.work.here.workstation.commands, self.work.here.workstation.readiness
        return (commands is not None and commands.busy(running)) or (readiness is not None and bool(readiness.at_work()))
