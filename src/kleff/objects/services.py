"""Services: stopped; state and start type before are kept, and given back by undo."""

from collections.abc import Iterator

from kleff.case.effect_names import SERVICE
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import Step, Text
from kleff.texts import plain
from kleff.workstation.facets import Service


class _Service(Step, kw_only=True, frozen=True):
    service: Text


class ServiceEvidence(_Service, kw_only=True, frozen=True):
    """A service that is registered only with the product."""


class ServiceStop(_Service, kw_only=True, frozen=True):
    """Stop a service."""


class ServiceVerify(_Service, kw_only=True, frozen=True):
    """A service that must no longer be registered."""


class ServiceKind(Offers):
    """`service`."""

    models = {"evidence": ServiceEvidence, "stop": ServiceStop, "verify": ServiceVerify}

    def _get(self, step: LoadedStep, scene: Scene) -> Service | None:
        assert isinstance(step.model, _Service)
        return scene.workstation.services.get(step.model.service) if scene.workstation.services else None

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        service = self._get(step, scene)
        if service is not None:
            state = "running" if service.running else "not running"
            yield Sighting(kind="service", what=plain(f"{service.name}, {state}"), where=plain(service.title), line=step.line)

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, _Service)
        action = scene.action(step, "stop" if step.phase == "stop" else "look for", f"service {plain(step.model.service)}")
        service = self._get(step, scene)
        if scene.workstation.services is None:
            action.state, action.reason = ABSENT, "the workstation is not running"
        elif service is None:
            action.state, action.reason = ABSENT, "not registered"
        elif step.phase == "stop":
            action.undo = "started again" if service.running else action.undo
            action.items = 1
            first = scene.workstation.services.dependents(service.name)
            action.shows = [f"stops first what depends on it: {plain(', '.join(first))}"] if first else []
            if not service.running:
                action.state, action.reason = ABSENT, f"not running (starts: {service.start})"
        yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        service = self._get(step, work.scene)
        facet = work.scene.workstation.services
        if facet is None or service is None or not service.running:
            return Outcome(note="not running any more")
        before = [found for name in facet.dependents(service.name) if (found := facet.get(name))]
        for one in (*before, service):
            # Held first: what watches over it must not start it again.
            data = {"name": one.name, "running": one.running, "start": one.start, "held": True}
            effect = work.hands.intend(action.number, SERVICE, data)
            facet.hold(one.name)
            facet.stop(one.name)
            work.hands.done(effect)
        also = f"; with {', '.join(one.name for one in before)}, which depend on it" if before else ""
        return Outcome(items=1 + len(before), note=f"was running, starts: {service.start}{also}")
