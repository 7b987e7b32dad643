"""Waiting for an uninstaller, understanding how it ended, and watching until what it removes is no longer registered."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kleff.case.programs import last_lines
from kleff.errors import ActionFailed
from kleff.objects.base.action import DONE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.texts import seconds
from kleff.workstation.things import Running

if TYPE_CHECKING:
    from kleff.case.effects.uninstaller_ran import UninstallerRan
    from kleff.case.record.effect import Journaled

# Exit codes of Windows Installer, which other uninstallers use too ("Windows Installer Error Codes").
OK, RESTART, RESTARTING = 0, 3010, 1641
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
    return tries[-1] if tries and tries[-1].effect.boot == work.here.workstation.boot else None


def is_over(running: Running, here: Here) -> bool:
    commands = here.workstation.commands
    return commands is None or commands.wait(running, 0)


@dataclass(frozen=True)
class Watch:
    """Waits for an uninstaller, and until what it removes is no longer registered.

    Attributes:
        gone: whether it is no longer registered.
        deadline: by the monotonic clock.
    """

    action: Action
    work: Work
    gone: Callable[[], bool]
    deadline: float

    def went_on_by_itself(self, last: Try) -> bool:
        """Cut off at an unknown instant: give what may still be at work time; True if the product is gone then."""
        from kleff.case.effects.spared import until_still

        if last.effect.ended or last.effect.spare == "making":
            return False
        self.work.progress.say(f"     looking whether the uninstaller of {self.action.target} is still at work")
        until_still(self.work.hands, last.one, self.gone)
        return self.gone()

    def follow(self, one: "Journaled", running: Running) -> Outcome:
        """Wait for its end, understand its exit code, then watch until the entry is really gone."""
        hands, name, commands = self.work.hands, self.action.target, self.work.here.workstation.commands
        output = hands.case.output(one.id)
        assert commands is not None
        begun = time.monotonic()
        while not commands.wait(running, 0.25):
            if time.monotonic() > self.deadline:
                raise ActionFailed(
                    f"the uninstaller of {name} has not ended in time", remedy=f"look at its window and at {output}; then resume"
                )
            self.work.progress.step()
            self._check_stop()
        code = running.code
        one = hands.amend(one, code=code, ended=code not in (OK, None, *NOT_THERE))
        if code not in (OK, RESTART, RESTARTING, None, *NOT_THERE):
            meaning = f" ({MEANINGS[code]})" if code in MEANINGS else ""
            hands.done(one, f"exit code {code}")
            raise ActionFailed(
                f"the uninstaller of {name} ended with exit code {code}{meaning}",
                remedy=f"read {output}; mend it, then resume, or go past it with  --skip {self.action.number}",
                said=last_lines(output),
            )
        return self.finish(one, code, running, begun)

    def finish(self, one: "Journaled", code: int | None, running: Running | None, begun: float = 0.0) -> Outcome:
        """It has returned: watch until the entry is gone, unless it asks for a restart; then see what it did."""
        from kleff.case.effects.spared import put_back_others, record_difference

        hands, restart = self.work.hands, code in (RESTART, RESTARTING)
        if not restart:
            one = hands.amend(one, watching=True)
            try:
                self._until_gone(code, running)
            except ActionFailed:  # in vain; the next try starts the uninstaller anew
                hands.amend(one, watching=False, ended=True)
                raise
        others = put_back_others(hands, one)
        hands.done(one, f"exit code {'not known' if code is None else code}")
        took = f"took {seconds(time.monotonic() - begun)}" if begun else "went on by itself"
        words = "asks for a restart" if restart else f"was not there (exit code {code})" if code in NOT_THERE else took
        note = "; ".join(n for n in (words, record_difference(hands, one), others) if n)
        return Outcome(state=DONE, items=1, note=note, restart=restart)

    def _check_stop(self) -> None:
        """Whoever asks to stop need not wait: the uninstaller goes on by itself, and `resume` reads how it ended."""
        self.work.hands.check_stop(f"the uninstaller of {self.action.target} goes on by itself", "resume")

    def _until_gone(self, code: int | None, running: Running | None) -> None:
        """Some uninstallers return at once after handing over to a copy of themselves: the entry tells, as long as anything is at work."""
        deadline = time.monotonic() if code in NOT_THERE else self.deadline
        said, at_work = False, time.monotonic()
        while not self.gone():
            if running is None or self._at_work(running):
                at_work = time.monotonic()
            if time.monotonic() >= min(deadline, at_work + SETTLING):
                raise self._still_there(code)
            if not said:
                self.work.progress.say("     the uninstaller has returned; waiting until the product is no longer registered")
                said = True
            self._check_stop()
            time.sleep(0.1)

    def _still_there(self, code: int | None) -> ActionFailed:
        if code in NOT_THERE:
            what = f"though its uninstaller says that it is not there (exit code {code})"
            remedy = f"name its key in a [[delete]] step, or go past it with  --skip {self.action.number} --because TEXT"
            return ActionFailed(f"{self.action.target} is still registered, {what}", remedy=remedy)
        remedy = "look whether it still works; then resume"
        return ActionFailed(f"{self.action.target} is still registered after its uninstaller ended", remedy=remedy)

    def _at_work(self, running: Running) -> bool:
        """Whether the uninstaller has left something at work, or the system's own installer is."""
        commands, readiness = self.work.here.workstation.commands, self.work.here.workstation.readiness
        return (commands is not None and commands.busy(running)) or (readiness is not None and bool(readiness.at_work()))
