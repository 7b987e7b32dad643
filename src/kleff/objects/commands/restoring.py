"""What a command exported, taken in by the procedure's own `restore` command."""

from __future__ import annotations

from contextlib import ExitStack

from kleff.case.bag.index import SavedItem
from kleff.errors import ActionFailed
from kleff.objects.base.action import KEPT, MANUAL, REFUSED, TO_DO, Action, Outcome
from kleff.objects.base.here import Work
from kleff.objects.base.restoring import FromBag, Restoring
from kleff.objects.commands.programs import arguments, counted, list_of, objection_to, run_program
from kleff.objects.commands.steps import SAVED, CommandBackup, item_problem
from kleff.procedure.versions import parse_duration
from kleff.texts import plural


def plan(item: SavedItem, stem: str, restoring: Restoring) -> Action:
    """What having it taken in again means here. Nothing is changed."""
    action = restoring.action(item, stem, "take in", item.name, items=1, undo="cannot be taken back by Kleff", without_return=True)
    model = _step_of(item, restoring)
    if model is None or not model.restore:
        action.state = MANUAL
        action.reason = f"the procedure has no restore command for it; it is {restoring.bag.payload(item.file)}"
        return action
    if why := item_problem(_one(item)):
        action.state, action.reason = REFUSED, f"{_one(item)}: {why}"
        return action
    saved = str(restoring.bag.payload(item.file))
    argv = arguments(model.restore, restoring.here, _one(item), saved)
    if argv is None:
        action.state, action.reason = MANUAL, f"{model.restore[0]} is not there; install the product first"
        return action
    action.shows = ["runs: " + " ".join(argv)]
    if not restoring.own:
        action.shows.append("what it is given comes from elsewhere: it does whatever it finds written there")
    why = objection_to(argv, restoring.here)
    if why:
        action.state, action.reason = MANUAL, why
    elif model.lists:
        _compare(item, restoring, model, action)
    return action


def _compare(item: SavedItem, restoring: Restoring, model: CommandBackup, action: Action) -> None:
    try:
        present = list_of(model, restoring.here)
    except ActionFailed as error:
        action.shows.append(f"could not be listed: {error.what}")
        return
    if _one(item):
        present = [name for name in present if name == _one(item)]
    if present:
        action.state, action.without_return = KEPT, False
        remain = "remains as it is" if len(present) == 1 else "remain as they are"
        named = f": {', '.join(present)}" if restoring.here.options.show_items else ""
        action.reason = f"holds {plural(len(present), 'thing')} already, which {remain}{named}"
    if item.listed:
        action.shows.append(f"saved were {plural(len(item.listed), 'thing')}")


def restore(action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
    """Have it taken in; never twice.

    Raises:
        ActionFailed: naming the thing and the remedy.
    """
    from kleff.case.effects.command_ran import earlier, running_command

    now = plan(item, action.details_as(FromBag).stem, restoring)
    model = _step_of(item, restoring)
    before = earlier(work.hands, action.number).how
    if before == "cut off":
        raise ActionFailed(
            f"{item.name} was being taken in when the last try was cut off; part of it may be there",
            remedy="look what is in it; then resume with --skip",
        )
    if now.state == KEPT or before:
        return Outcome(note="" if before else now.reason)
    if now.state != TO_DO or model is None:
        raise ActionFailed(now.reason, remedy="do it by hand, then resume with --skip")
    work.progress.start(f"taking in {item.name}")
    what = f"what {model.restore[0]} took in of {item.name}"
    folder = work.hands.case.folder / "output"
    passing = folder / f"passing-{action.number:04d}"
    with running_command(work.hands, action.number, what) as command, ExitStack() as stack:
        path, verified = stack.enter_context(restoring.bag.feeding(item.file, passing))
        argv = arguments(model.restore, restoring.here, _one(item), str(path))
        assert argv is not None
        by_path = any(SAVED in word for word in model.restore)
        stdin = None if by_path else verified or stack.enter_context(path.open("rb"))
        patience = parse_duration(model.patience)
        argv = command.runs(argv, restoring.here.secrets.known())
        run_program(restoring.here, argv, command.output, patience, stdin=stdin, secret=model.need, known=command.known)
    return Outcome(items=1, size=restoring.bag.payload(item.file).stat().st_size)


def missing(item: SavedItem, restoring: Restoring) -> list[str]:
    """Its list again: what was listed when it was saved must be there."""
    model = _step_of(item, restoring)
    if model is None or not model.lists or not model.restore or not item.listed:
        return []
    try:
        present = set(list_of(model, restoring.here))
    except ActionFailed as error:
        return [f"{item.name} could not be listed: {error.what}"]
    lacks = [name for name in item.listed if name not in present]
    return [f"{item.name}: of {plural(len(item.listed), 'thing')} not there are {counted(lacks, restoring.here)}"] if lacks else []


def _step_of(item: SavedItem, restoring: Restoring) -> CommandBackup | None:
    """The step of the technician's own procedure that saves this; by its label and the name it saves as."""
    for model in restoring.steps(CommandBackup):
        assert isinstance(model, CommandBackup)
        if model.label == item.label and item.name in (model.saves_as, model.saves_as.replace("{item}", _one(item))):
            return model
    return None


def _one(item: SavedItem) -> str:
    """The one thing of a list that this export is of; "" if it is of all."""
    return str(item.settings.get("item", ""))
