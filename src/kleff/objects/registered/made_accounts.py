"""Accounts that a product has made on a Windows for its services: there is no way back, so it stands below the line of no return."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed, remedy_for
from kleff.objects.base.action import ABSENT, REFUSED, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.staging import Stage
from kleff.procedure.globs import fold
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text
from kleff.workstation.identity import NameId


class _MadeAccount(Step, kw_only=True, frozen=True):
    made_account: Annotated[Text, Meta(description="its name, without wildcards", pattern=r"^[^\\/\[\]:;|=,+*?<>\"@]+$")]


class MadeAccountDelete(_MadeAccount, kw_only=True, frozen=True):
    """Delete an account that a product has made; a person's is never deleted. It cannot be made again as it was."""


class MadeAccountVerify(_MadeAccount, kw_only=True, frozen=True):
    """An account that must be gone."""


class MadeAccountKind(Kind):
    """`made_account`."""

    names = ("made_account",)
    systems = ("windows",)
    models: dict[str, type[Step]] = {"delete": MadeAccountDelete, "verify": MadeAccountVerify}

    def stage(self, step: StepOf[_MadeAccount], stage: Stage) -> None:
        model = step.model
        stage.made_accounts.append(model.made_account)

    def words(self, phase: str) -> Words:
        return Words("Accounts deleted" if phase == "delete" else "Looked for", ("account", "accounts"))

    def plan(self, step: StepOf[_MadeAccount], here: Here) -> Iterator[Action]:
        model, accounts = step.model, here.workstation.local_accounts
        verb = "delete" if step.phase == "delete" else "look for"
        action = here.action(step, verb, f"account {model.made_account}", items=1, about=[NameId("account", model.made_account)])
        if accounts is None or not accounts.has(model.made_account):
            action.state, action.reason = ABSENT, "no such account" if accounts is not None else "its accounts are kept elsewhere"
            action.nowhere = accounts is None
        elif step.phase == "delete":
            action.without_return, action.undo = True, "cannot be made again as it was: its number and its password are gone with it"
            if why_not := _objection(model.made_account, here):
                action.judged(REFUSED, why_not, "delete it by hand, if it must be")
        yield action

    def do(self, action: Action, step: StepOf[_MadeAccount], work: Work) -> Outcome:
        from kleff.case.effects.command_ran import running_command

        model, accounts = step.model, work.here.workstation.local_accounts
        if accounts is None or not accounts.has(model.made_account):
            return Outcome(note="already gone")
        if why_not := _objection(model.made_account, work.here):
            raise ActionFailed(f"{model.made_account} may not be deleted: {why_not}", remedy="delete it by hand, if it must be")
        with running_command(work.hands, action.number, f"the account {model.made_account}, which was deleted,") as command:
            try:
                accounts.delete(model.made_account)
            except OSError as error:
                raise ActionFailed(f"{model.made_account} cannot be deleted: {error.strerror}", remedy=remedy_for(error)) from None
            command.code = 0
        return Outcome(items=1)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


def _objection(name: str, here: Here) -> str:
    """Why an account is never deleted; "" if it may be."""
    if not here.guard.check_name("account", name).ok:
        return "it is the system's own"
    person = next((a for a in here.workstation.accounts.all() if a.ordinary and fold(a.name) == fold(name)), None)
    if person is not None:
        return f"it has a profile, {person.home}: a person may have worked with it"
    return ""


KINDS = (MadeAccountKind(),)
