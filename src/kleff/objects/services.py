"""Services: stopped; state and start type before are kept, and given back by undo."""

from collections.abc import Iterator

from kleff.case.effect_names import SERVICE
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, Action, Offers, Outcome, Scene, Sighting, Work
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import SavingStep, Step, Text
from kleff.texts import plain
from kleff.workstation.facets import Service


class _Service(Step, kw_only=True, frozen=True):
    service: Text


class ServiceEvidence(_Service, kw_only=True, frozen=True):
    """A service that is registered only with the product."""


class ServiceStop(_Service, kw_only=True, frozen=True):
    """Stop a service."""


class ServiceBackup(SavingStep, kw_only=True, frozen=True):
    """Save the settings of a service: how it starts, whether it runs, its key in the registry."""

    service: Text


class ServiceVerify(_Service, kw_only=True, frozen=True):
    """A service that must no longer be registered."""


class ServiceKind(Offers):
    """`service`."""

    models = {"evidence": ServiceEvidence, "backup": ServiceBackup, "stop": ServiceStop, "verify": ServiceVerify}

    def _get(self, step: LoadedStep, scene: Scene) -> Service | None:
        assert isinstance(step.model, _Service | ServiceBackup)
        return scene.workstation.services.get(step.model.service) if scene.workstation.services else None

    def look(self, step: LoadedStep, scene: Scene) -> Iterator[Sighting]:
        service = self._get(step, scene)
        if service is not None:
            state = "running" if service.running else "not running"
            yield Sighting(kind="service", what=plain(f"{service.name}, {state}"), where=plain(service.title), line=step.line)

    def plan(self, step: LoadedStep, scene: Scene) -> Iterator[Action]:
        assert isinstance(step.model, _Service | ServiceBackup)
        verb = {"stop": "stop", "backup": "save"}.get(step.phase, "look for")
        action = scene.action(step, verb, f"service {plain(step.model.service)}")
        service = self._get(step, scene)
        if scene.workstation.services is None:
            action.state, action.reason = ABSENT, "the workstation is not running"
        elif service is None:
            action.state, action.reason = ABSENT, "not registered"
        elif step.phase == "backup":
            action.items, action.undo = 1, "stays in the bag"
        elif step.phase == "stop":
            action.undo = "started again" if service.running else action.undo
            action.items = 1
            first = scene.workstation.services.dependents(service.name)
            action.shows = [f"stops first what depends on it: {plain(', '.join(first))}"] if first else []
            if not service.running:
                action.state, action.reason = ABSENT, f"not running (starts: {service.start})"
        yield action

    def _save(self, action: Action, service: Service, work: Work) -> Outcome:
        item = work.item(
            action, "service", name=service.name,
            settings={"title": service.title, "start": service.start, "running": "yes" if service.running else "no"},
        )  # fmt: skip
        registry = work.scene.workstation.registry
        keys = registry.canonical(rf"HKLM\SYSTEM\CurrentControlSet\Services\{service.name}") if registry else []
        trees = [(key, tree) for key in keys if registry and (tree := registry.tree(key)) is not None]
        if trees:
            work.bag.add_keys(action.number, item, trees)
        else:
            work.bag.add_settings(action.number, item)
        return Outcome(items=1, note=f"starts: {service.start}")

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        service = self._get(step, work.scene)
        if step.phase == "backup":
            if service is None:
                raise ActionFailed(f"{action.target} was there at the preview and is gone", remedy="resume with --skip")
            return self._save(action, service, work)
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
