"""Services: stopped; state and start type before are kept, and given back by undo."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base.action import ABSENT, REFUSED, TO_DO, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind
from kleff.objects.base.noting import note_service
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse_own, width_objection
from kleff.objects.base.restoring import ShownOnly
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.services.from_files import registered
from kleff.procedure.globs import is_glob
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import SavingStep, Step, Text
from kleff.workstation.identity import NameId
from kleff.workstation.things import Service

if TYPE_CHECKING:
    from kleff.case.record.beforehand import Beforehand

VERBS = {"stop": "stop", "backup": "save", "delete": "delete"}
SERVICES = r"HKLM\SYSTEM\CurrentControlSet\Services"


Name = Annotated[Text, Meta(description="name as registered; * and ? are wildcards, so that NAME@* means every instance of a template")]


class _Service(Step, kw_only=True, frozen=True):
    service: Name


class ServiceEvidence(_Service, kw_only=True, frozen=True):
    """A service that is registered only with the product."""


class ServiceStop(_Service, kw_only=True, frozen=True):
    """Stop a service."""

    at_most: AtMost = AT_MOST


class ServiceDelete(_Service, kw_only=True, frozen=True):
    """Take a service out of the service manager's register, once it is stopped; on Windows. Elsewhere: units_of."""

    at_most: AtMost = AT_MOST


class ServiceBackup(SavingStep, kw_only=True, frozen=True):
    """Save the settings of a service: how it starts, whether it runs, its key in the registry."""

    service: Name


class ServiceVerify(_Service, kw_only=True, frozen=True):
    """A service that must no longer be registered."""


class ServiceKind(ShownOnly, Kind):
    """`service`."""

    names = ("service",)
    condition = "A service that must, or must not, be registered."
    models = {"evidence": ServiceEvidence, "backup": ServiceBackup, "stop": ServiceStop, "delete": ServiceDelete, "verify": ServiceVerify}

    def stage(self, step: LoadedStep, stage: Stage) -> None:
        name = shown_as(getattr(step.model, "service", ""))
        stage.file(rf"{stage.home}\{name}.exe", "MZ stand-in\r\n")
        stage.add("service", name=name, program=rf"{stage.home}\{name}.exe")

    def _found(self, step: StepOf[_Service | ServiceBackup], here: Here) -> list[Service]:
        facet, name = here.workstation.services, step.model.service
        if facet is None:
            return registered(here, name) if here.workstation.system == "linux" else []
        if is_glob(name):
            return facet.like(name)
        found = facet.get(name)
        return [] if found is None else [found]

    def look(self, step: StepOf[_Service | ServiceBackup], here: Here) -> Iterator[Sighting]:
        for service in self._found(step, here):
            state = "running" if service.running else "not running"
            yield Sighting(
                kind="service", what=f"{service.name}, {state}", about=NameId("service", service.name), where=service.title,
                line=step.line, running=service.running,
            )  # fmt: skip

    def plan(self, step: StepOf[_Service | ServiceBackup], here: Here) -> Iterator[Action]:
        found = self._found(step, here)
        stops = isinstance(step.model, ServiceStop | ServiceDelete)
        wide = (
            width_objection(step.model.service, len(found), step.model.at_most)
            if isinstance(step.model, ServiceStop | ServiceDelete)
            else ""
        )
        if wide:
            yield here.action(step, VERBS[step.phase], f"service {step.model.service}", state=REFUSED, reason=wide)
            return
        for service in found:
            action = self._planned(step, service.name, service, here)
            yield refuse_own(action, here, "service", [service.name]) if stops and action.state == TO_DO else action
        if not found:
            yield self._planned(step, step.model.service, None, here)

    def _planned(self, step: LoadedStep, name: str, service: Service | None, here: Here) -> Action:
        verb = VERBS.get(step.phase, "look for")
        action = here.action(step, verb, f"service {name}", about=[NameId("service", name)])
        services = here.workstation.services
        if service is None:
            action.state, action.reason = ABSENT, "not registered"
            action.nowhere = services is None and here.workstation.system != "linux"
        elif step.phase == "delete" and (services is None or here.workstation.registrations is None):
            action.state, action.reason = REFUSED, "services are registered so on Windows alone; here: units_of"
        elif services is None and step.phase in ("stop", "backup"):
            action.state, action.reason = ABSENT, "the workstation is not running"
        elif step.phase == "backup":
            action.items, action.undo = 1, "stays in the bag"
        elif step.phase == "delete":
            action.items, action.undo = 1, "registered again"
            needs = services.dependents(service.name) if services else []
            action.shows = [f"stopped first, with what depends on it: {', '.join(needs)}"] if needs else []
        elif step.phase == "stop":
            action.undo = "started again" if service.running else action.undo
            action.items = 1
            first = services.dependents(service.name) if services else []
            action.shows = [f"stops first what depends on it: {', '.join(first)}"] if first else []
            if not service.running:
                action.state, action.reason = ABSENT, f"not running (starts: {service.start})"
        return action

    def _save(self, action: Action, service: Service, work: Work) -> Outcome:
        item = work.item(
            action, "service", name=service.name,
            settings={"title": service.title, "start": service.start, "running": "yes" if service.running else "no"},
        )  # fmt: skip
        registry = work.here.workstation.registry
        keys = registry.canonical(f"{SERVICES}\\{service.name}") if registry else []
        trees = [(key, tree) for key in keys if registry and (tree := registry.tree(key)) is not None]
        if trees:
            work.bag.add_keys(action.number, item, trees)
        else:
            work.bag.add_settings(action.number, item)
        return Outcome(items=1, note=f"starts: {service.start}")

    def do(self, action: Action, step: StepOf[_Service | ServiceBackup], work: Work) -> Outcome:
        service = self._of(action, step, work.here)
        if step.phase == "backup":
            if service is None:
                raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="resume with --skip")
            return self._save(action, service, work)
        if step.phase == "delete":
            return self._delete(action, service, work)
        return self._stop(action, service, work)

    def _delete(self, action: Action, service: Service | None, work: Work) -> Outcome:
        from kleff.case.effects.starting.service_deleted import delete_service

        registry = work.here.workstation.registry
        if service is None or registry is None:
            return Outcome(note="already gone")
        if service.running:
            self._stop(action, service, work)
        (key,) = registry.canonical(SERVICES)
        gone = delete_service(work.hands, action.number, service, key.child(service.name))
        return Outcome(items=1, restart=not gone, note="" if gone else "something has it open: it goes at the restart")

    def _stop(self, action: Action, service: Service | None, work: Work) -> Outcome:
        facet = work.here.workstation.services
        if facet is None or service is None or not service.running:
            return Outcome(note="not running any more")
        from kleff.case.effects.starting.service_stopped import stop_service

        before = [found for name in facet.dependents(service.name) if (found := facet.get(name))]
        held = [stop_service(work.hands, action.number, one) for one in (*before, service)]
        also = f"; with {', '.join(one.name for one in before)}, which depend on it" if before else ""
        again = "" if all(held) else "; may be started again by something else: it cannot be held here"
        return Outcome(items=1 + len(before), note=f"was running, starts: {service.start}{also}{again}")

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, ServiceStop | ServiceDelete):
            own = here.guard.check_name("service", step.model.service)
            if why := pattern_objection(step.model.service) or own.reason:
                yield f"service {step.model.service}: {why}; name the product's own service"

    def _of(self, action: Action, step: StepOf[_Service | ServiceBackup], here: Here) -> Service | None:
        """The service an action is about; cases of the first release name one in their step alone."""
        wanted = next((i.name for i in action.about if isinstance(i, NameId)), "")
        return next((s for s in self._found(step, here) if not wanted or s.name == wanted), None)

    def stopped(self, step: StepOf[_Service | ServiceBackup], here: Here) -> set[str]:
        return {s.name for s in self._found(step, here)} if isinstance(step.model, ServiceStop) else set()

    def claims(self, step: StepOf[_Service | ServiceBackup], here: Here) -> Claimed:
        registry = here.workstation.registry
        if registry is None or not isinstance(step.model, ServiceStop | ServiceDelete | ServiceVerify):
            return Claimed()
        names = [s.name for s in self._found(step, here)]
        return Claimed(keys=[k for name in names for k in registry.canonical(f"{SERVICES}\\{name}")])

    def note(self, step: StepOf[_Service], here: Here, noted: "Beforehand") -> None:
        """What defines it, what it runs, its folders, and what it has open elsewhere."""
        for service in self._found(step, here):
            note_service(service.name, here, noted)

    def needs_rights(self, action: Action, here: Here) -> bool:
        return True


KINDS = (ServiceKind(),)
