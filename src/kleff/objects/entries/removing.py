"""Removing a registered product: the regular way, again where it refuses, and the other ways in their order if it fails."""

import time
from dataclasses import dataclass

from kleff.errors import ActionFailed, EndedBadly, StillAtWork
from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Work
from kleff.objects.commands.programs import run_program
from kleff.objects.entries import without
from kleff.objects.entries.matching import still_there
from kleff.objects.entries.patience import Patience
from kleff.objects.entries.refusing import end_first, in_the_way
from kleff.objects.entries.steps import Removing
from kleff.objects.entries.watching import Try, Watch, is_over, last_try
from kleff.objects.entries.ways import MISSING_SOURCE, Way, objection_to_program, ways_of
from kleff.objects.spare_contents import entry_plan
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.workstation.things import Entry, Given

AGAIN = 2  # further tries of one that refuses
SETTLING = 1.0  # seconds between two tries


@dataclass(frozen=True)
class Removal:
    """One product that an action removes.

    Attributes:
        entry: the product; where it is gone already, as far as the journal tells.
        ways: in their order.
    """

    action: Action
    step: LoadedStep
    work: Work
    model: Removing
    entry: Entry | None
    ways: list[Way]

    def run(self) -> Outcome:
        """Remove it; done twice is done once.

        Raises:
            StillAtWork, ActionFailed: it is there still.
            Interrupted: asked to stop.
        """
        last = last_try(self.action, self.work)
        failed, begin = [], 0
        if last is not None:
            try:
                outcome = self._goes_on(last)
            except StillAtWork:
                raise
            except ActionFailed as error:
                failed, begin = [error], last.effect.way + 1
            else:
                if outcome is not None:
                    return self._told(outcome, last.effect.way)
        if self.entry is None:
            return self._gone_already(last)
        return self._by_ways(begin, failed, self.entry)

    def _by_ways(self, begin: int, failed: list[ActionFailed], entry: Entry) -> Outcome:
        for number, way in list(enumerate(self.ways))[begin:]:
            try:
                return self._told(self._by(number, way, entry), number)
            except StillAtWork:
                raise
            except ActionFailed as error:
                failed.append(error)
                if number + 1 < len(self.ways):
                    self.work.progress.say(f"     {error.what}; trying the other way: {self.ways[number + 1].text}")
        first, *others = failed
        if not others:
            raise first
        what = "; then: ".join(error.what for error in failed)
        raise ActionFailed(f"every way failed: {what}", remedy=first.remedy, said=[line for error in failed for line in error.said])

    def _by(self, number: int, way: Way, entry: Entry) -> Outcome:
        if way.objection:
            raise ActionFailed(way.objection, remedy="uninstall it by hand, then resume")
        if not way.command:
            return without.remove(self.action, entry, self.step, self.work)
        for tries in range(AGAIN + 1):
            end_first(self.model, self.step, self.action, self.work)
            try:
                return self._started(number, way, entry)
            except StillAtWork:
                raise
            except ActionFailed as error:
                if isinstance(error, EndedBadly) and error.code == MISSING_SOURCE and self.model.source and not tries:
                    self._repair(entry)
                elif not way.regular or tries == AGAIN or not self._refused(error):
                    raise
                else:
                    self.work.progress.say(f"     it refuses: {error.what}; trying again")
                time.sleep(SETTLING)
        raise AssertionError("the last try returns or raises")

    def _refused(self, error: ActionFailed) -> bool:
        """By its exit code, or because a program that is to be ended first runs."""
        code = error.code if isinstance(error, EndedBadly) else 0
        return code in self.model.refuses or bool(in_the_way(self.model, self.step, self.work.here))

    def _started(self, number: int, way: Way, entry: Entry) -> Outcome:
        from kleff.case.effects.uninstaller_ran import run_uninstaller

        here = self.work.here
        if way.attended:
            if not here.options.somebody:
                raise ActionFailed("its window must be answered by a person", remedy="resume on a terminal, with somebody there")
            for line in (f"     its window opens; a person answers it: {self.action.target}", *(f"       - {g}" for g in self.model.guide)):
                self.work.progress.say(line)
        plan = None if here.options.spare == "off" else entry_plan(here, entry)
        given = Given(lasting=True, linger=way.patience, line=way.line)
        return self._watch(way).follow(
            *run_uninstaller(self.work.hands, self.action.number, self.action.target, way.command, plan, given, number)
        )

    def _repair(self, entry: Entry) -> None:
        """The system's copy of the package is missing: it is made anew from the package itself ("REINSTALLMODE", Windows Installer).

        Raises:
            ActionFailed: the package is not there, or the repair fails.
        """
        from kleff.case.effects.command_ran import running_command

        here, patience = self.work.here, self.ways[0].patience
        package = here.resolver.first_path(self.model.source)
        objection = objection_to_program(str(package), here) if package is not None else f"{self.model.source} is not there"
        if objection or entry.quiet is None:
            raise ActionFailed(f"it cannot be repaired from its package: {objection}", remedy="bring the package; then resume")
        self.work.progress.say(f"     its source is missing: repairing it from {package}, to remove it then")
        repair = ("/i", str(package), "REINSTALL=ALL", "REINSTALLMODE=vomus", "/qn", "/norestart", "REBOOT=ReallySuppress")
        argv = [entry.quiet.program, *repair]
        with running_command(self.work.hands, self.action.number, "") as command:
            argv = command.runs(argv, here.secrets.known())
            command.code = run_program(here, argv, command.output, patience, known=command.known, fine=(0, 3010, 1641))

    def _watch(self, way: Way) -> Watch:
        def gone() -> bool:
            return self.entry is None or not still_there(self.entry, self.work.here)

        return Watch(self.action, self.work, way, gone, Patience(way.patience))

    def _goes_on(self, last: Try) -> Outcome | None:
        """With what an earlier try has started; None if there is nothing to go on with."""
        from kleff.case.effects.uninstaller_ran import started_by

        here, way = self.work.here, self.ways[min(last.effect.way, len(self.ways) - 1)]
        watch, running = self._watch(way), started_by(last.one, self.work.hands)
        if running is not None and last.effect.code is None:
            if not is_over(running, here):
                self.work.progress.say(f"     the uninstaller of {self.action.target} is still at work: waiting for it")
                return watch.follow(last.one, running)
            if running.code is not None:  # it ended while nobody was there, and its supervisor has kept how
                return watch.follow(last.one, running)
        if self.entry is not None and (last.effect.watching or watch.went_on_by_itself(last)):
            # Cut off while the copy it handed over to was at work.
            return watch.finish(last.one, last.effect.code, running)
        return None

    def _gone_already(self, last: Try | None) -> Outcome:
        from kleff.case.effects.spared import put_back_others_of

        others = put_back_others_of(self.work.hands, self.action.number)
        restart = last is not None and last.effect.code in self.ways[min(last.effect.way, len(self.ways) - 1)].restart
        return Outcome(note="; ".join(n for n in ("already gone", others) if n), restart=restart)

    def _told(self, outcome: Outcome, number: int) -> Outcome:
        if number and self.ways[min(number, len(self.ways) - 1)].command:
            outcome.note = f"by the other way ({self.ways[number].text}); {outcome.note}"
        elif number:
            outcome.note = f"by the other way; {outcome.note}"
        return outcome


def removal(action: Action, step: StepOf[Removing], work: Work, entry: Entry | None, stood: Entry) -> Removal:
    """Args: entry: the product as it is found now; stood: as the action knows it, for the ways."""
    return Removal(action, step, work, step.model, entry, ways_of(step.model, entry or stood, work.here))
