"""Running a vendor's removal tool: once, to its end, with a spare taken before."""

from kleff.errors import ActionFailed
from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Work
from kleff.objects.commands.programs import arguments, objection_to
from kleff.objects.commands.steps import BY_INPUT, CommandUninstall
from kleff.objects.commands.tool import chosen_of
from kleff.objects.entries.patience import Patience
from kleff.objects.entries.watching import Watch
from kleff.objects.entries.ways import Way
from kleff.objects.spare_contents import product_plan
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.versions import parse_duration
from kleff.workstation.things import Given


def run_tool(action: Action, step: LoadedStep, model: CommandUninstall, work: Work) -> Outcome:
    """Run it; one that was begun is followed, never begun again.

    Raises:
        ActionFailed: it failed, or it is not known how it ended.
    """
    from kleff.case.effects.uninstaller_ran import UninstallerRan, run_uninstaller, started_by

    hands, patience = work.hands, parse_duration(model.patience)
    tries = [(e, e.effect) for e in hands.case.journal.effects(action.number) if isinstance(e.effect, UninstallerRan)]
    way = Way(tuple(model.command), tuple(model.ok + model.absent), tuple(model.restart), patience)
    watch = Watch(action, work, way, lambda: True, Patience(patience))
    for one, effect in tries:
        running = started_by(one, hands)
        if not effect.pid or (running is not None and watch.over(running) and not running.begun):
            continue  # nothing was started
        if effect.code is None and running is not None and (not watch.over(running) or running.code is not None):
            return watch.follow(one, running)
        if effect.code in model.fine:
            return watch.finish(one, effect.code, None)
        how = f"ended with exit code {effect.code}" if effect.code is not None else "was cut off"
        raise ActionFailed(
            f"{effect.command[0]} {how}; a removal tool is not run a second time",
            remedy=f"look what it has done; go past it with  --skip {action.number} --because TEXT",
        )
    argv = arguments(list(model.command), work.here, chosen=chosen_of(model, work.here))
    if argv is None:
        return Outcome(note="is not there any more")
    if objection := objection_to(argv, work.here):
        raise ActionFailed(objection, remedy="do it by hand, then resume with --skip")
    plan = None if work.here.options.spare == "off" else product_plan(work.here)
    return watch.follow(*run_uninstaller(hands, action.number, argv[0], argv, plan, _given(model, work, patience)))


def _given(model: CommandUninstall, work: Work, patience: float) -> Given:
    name, how = model.need
    value = work.here.secrets.get(name) if name else ""
    return Given(
        text=value + "\n" if name and how == BY_INPUT else "", environment={how: value} if name and how != BY_INPUT else {},
        hide=work.here.secrets.known(), lasting=True, linger=patience,
    )  # fmt: skip
