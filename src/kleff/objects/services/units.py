"""Units of an account's own session, which would start the product again."""

from collections.abc import Iterator

from msgspec import Struct

from kleff.objects.base.action import ABSENT, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind
from kleff.objects.base.own import refuse_own
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Text
from kleff.workstation.identity import NameId
from kleff.workstation.things import Process


class UnitStop(AccountStep, kw_only=True, frozen=True):
    """Stop a unit of each account's own session."""

    unit: Text


class OfAccount(Struct, kw_only=True):
    """The id of the account in whose session it is."""

    account: str


class UnitKind(Kind):
    """`unit`."""

    names = ("unit",)
    systems = ("linux",)
    models = {"stop": UnitStop}

    def plan(self, step: StepOf[UnitStop], here: Here) -> Iterator[Action]:
        units = here.workstation.units
        found = False
        for account in here.resolver.accounts(step.model.accounts) if units else []:
            service = units.get(account, step.model.unit) if units else None
            if service is None:
                continue
            found = True
            action = here.action(step, "stop", f"unit {service.name}", account=account.name, items=1, undo="started again")
            action.about = [NameId("unit", service.name, account.id)]
            action.set_details(OfAccount(account=account.id))
            if not service.running:
                action.state, action.reason = ABSENT, "not running"
            else:
                refuse_own(action, here, "unit", [service.name])
            yield action
        if not found:
            reason = "in no account's session" if units else "this workstation has no such sessions"
            yield here.action(step, "stop", f"unit {step.model.unit}", state=ABSENT, reason=reason, nowhere=units is None)

    def ends(self, step: StepOf[UnitStop], here: Here) -> list[Process]:
        """What runs in it, which ends with it."""
        facet, unit = here.workstation.processes, step.model.unit.removesuffix(".service")
        names = {account.name for account in here.resolver.accounts(step.model.accounts)}
        return [p for p in facet.all() if p.account in names and facet.unit_of(p) == unit] if facet else []

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, UnitStop) and (why := here.guard.check_name("unit", step.model.unit).reason):
            yield f"unit {step.model.unit}: {why}; name the product's own unit"

    def do(self, action: Action, step: StepOf[UnitStop], work: Work) -> Outcome:
        units, account = work.here.workstation.units, work.here.resolver.account(action.details_as(OfAccount).account)
        service = units.get(account, step.model.unit) if units and account else None
        if units is None or account is None or service is None or not service.running:
            return Outcome(note="not running any more")
        from kleff.case.effects.starting.unit_stopped import stop_unit

        stop_unit(work.hands, action.number, account, service)
        return Outcome(items=1)


KINDS = (UnitKind(),)
