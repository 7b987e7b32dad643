"""Accounts and groups that a product has made for its services; never a person's."""

from collections.abc import Iterator
from itertools import islice
from typing import Annotated

from msgspec import Meta, Struct

from kleff.errors import ActionFailed, remedy_for
from kleff.objects.base.action import ABSENT, KEPT, REFUSED, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import refuse, refuse_own
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import Step, Text
from kleff.workstation.identity import NameId
from kleff.workstation.things import Number

GIVEN_BY_DEBIAN = 100  # numbers below are the system's own (Debian policy 9.2.2)
TOLD = 3  # things that are named where it cannot go
ACCOUNT = Annotated[Text, Meta(description="name of the account, without wildcards")]
GROUP = Annotated[Text, Meta(description="name of the group, without wildcards")]


class _Account(Step, kw_only=True, frozen=True):
    account: ACCOUNT

    @property
    def name(self) -> str:
        return self.account


class _Group(Step, kw_only=True, frozen=True):
    group: GROUP

    @property
    def name(self) -> str:
        return self.group


class AccountEvidence(_Account, kw_only=True, frozen=True):
    """A service's account that is there only with the product."""


class AccountDelete(_Account, kw_only=True, frozen=True):
    """Remove the account of a service, with its own group; only when no file and no program is its any more."""


class AccountVerify(_Account, kw_only=True, frozen=True):
    """An account that must be gone."""


class GroupEvidence(_Group, kw_only=True, frozen=True):
    """A group that is there only with the product."""


class GroupDelete(_Group, kw_only=True, frozen=True):
    """Remove a group; only when no file is its any more, and it is no account's own."""


class GroupVerify(_Group, kw_only=True, frozen=True):
    """A group that must be gone."""


class OfAccount(Struct, kw_only=True):
    """An account's own group, and whether that goes with it."""

    primary: str = ""
    own_group: bool = False


class NumberKind(Kind):
    """`account` and `group`."""

    systems = ("linux",)

    def __init__(self, name: str, models: dict[str, type[Step]]) -> None:
        self.names = (name,)
        self.models = models
        self.condition = f"{'An' if name == 'account' else 'A'} {name} that must, or must not, be there."

    def words(self, phase: str) -> Words:
        one = self.names[0]
        return Words("Accounts and groups removed", (one, f"{one}s"))

    @property
    def _of_groups(self) -> bool:
        return self.names == ("group",)

    def _find(self, step: StepOf[_Account | _Group], here: Here) -> Number | None:
        records = here.workstation.records
        return records.find(step.model.name, self._of_groups) if records else None

    def look(self, step: StepOf[_Account | _Group], here: Here) -> Iterator[Sighting]:
        found = self._find(step, here)
        if found is not None:
            yield Sighting(
                kind=self.names[0], what=found.name, about=NameId(self.names[0], found.name), where=f"number {found.number}", line=step.line
            )

    def plan(self, step: StepOf[_Account | _Group], here: Here) -> Iterator[Action]:
        model, kind = step.model, self.names[0]
        found, records = self._find(step, here), here.workstation.records
        action = here.action(step, "remove" if step.phase == "delete" else "look for", f"{kind} {model.name}")
        if step.phase == "delete" and refuse_own(action, here, kind, [model.name]).state == REFUSED:
            yield action
            return
        if found is None or records is None:
            action.state, action.reason = ABSENT, f"no such {kind}" if records else "this workstation keeps no such list"
            action.nowhere = not records
            yield action
            return
        action.about, action.items = [NameId(kind, found.name)], 1
        if step.phase == "delete":
            self._judge(action, found, here)
        yield action

    def _judge(self, action: Action, found: Number, here: Here) -> None:
        records = here.workstation.records
        assert records is not None
        action.undo = "made again, with the same number if that is free"
        people = [a for a in here.workstation.accounts.all() if a.ordinary]
        if int(found.number) < GIVEN_BY_DEBIAN:
            refuse(action, f"number {found.number} is the system's own")
        if self._of_groups:
            members = records.members(found.name)
            owners = [name for name in members if records.groups(name)[0] == found.name and name not in _going(here)]
            if owners:
                refuse(action, f"it is {owners[0]}'s own group; it goes with that account")
            if members:
                action.shows.append(f"members: {', '.join(members)}")
        elif any(a.name == found.name and a.id != "0" for a in people):
            refuse(action, "it is a person's account; no step removes one")
        else:
            primary, others = records.groups(found.name)
            members = records.members(primary) if primary == found.name else []
            own = bool(members) and all(name == found.name or records.groups(name)[0] != primary for name in members)
            besides = [name for name in members if name != found.name]
            action.shows += ["with its own group" + (f"; members: {', '.join(besides)}" if besides else "")] if own else []
            action.shows += [f"member of {', '.join(others)}"] if others else []
            action.set_details(OfAccount(primary=primary, own_group=own))
        action.shows.append(f"only when no file{'' if self._of_groups else ' and no program'} is its any more")

    def do(self, action: Action, step: StepOf[_Account | _Group], work: Work) -> Outcome:
        from kleff.case.effects.lines_changed import forget_account

        found = self._find(step, work.here)
        try:
            why = self._stays(found, work) if found else ""
            if why:
                return Outcome(state=KEPT, note=why)
            told = OfAccount() if self._of_groups else action.details_as(OfAccount)
            lines = forget_account(work.hands, action.number, step.model.name, self._of_groups, told.primary, told.own_group)
        except OSError as error:
            raise ActionFailed(f"{action.target} cannot be removed: {error.strerror}", remedy=remedy_for(error)) from None
        return Outcome(items=1) if lines else Outcome(note="already gone")

    def _stays(self, found: Number, work: Work) -> str:
        """Why it must stay: what runs for it, what belongs to it; "" if nothing does."""
        records = work.here.workstation.records
        owners = [name for name in records.members(found.name) if records.groups(name)[0] == found.name] if records else []
        if self._of_groups and owners:
            return f"it is {owners[0]}'s own group"
        theirs = self._programs(found, work.here)
        if theirs:
            return f"programs of it run: {', '.join(theirs[:TOLD])}"
        work.progress.start(f"looking what belongs to {found.name}")
        files = list(islice(records.belongings(found), TOLD + 1)) if records else []
        return f"files are its still: {', '.join(map(str, files[:TOLD]))}" + (" and more" if len(files) > TOLD else "") if files else ""

    def _programs(self, found: Number, here: Here) -> list[str]:
        processes = here.workstation.processes
        if processes is None or self._of_groups:
            return []
        return [f"{p.name}, number {p.pid}" for p in processes.all() if p.account in (found.name, found.number)]

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, AccountDelete | GroupDelete) and (why := here.guard.check_name(self.names[0], step.model.name).reason):
            yield f"{self.names[0]} {step.model.name}: {why}; name the product's own"

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


def _going(here: Here) -> set[str]:
    """The accounts that steps of the procedure remove."""
    return {s.model.name for s in here.procedure.phase("delete") if isinstance(s.model, AccountDelete) and not here.not_wanted(s.model)}


KINDS = (
    NumberKind("account", {"evidence": AccountEvidence, "delete": AccountDelete, "verify": AccountVerify}),
    NumberKind("group", {"evidence": GroupEvidence, "delete": GroupDelete, "verify": GroupVerify}),
)
