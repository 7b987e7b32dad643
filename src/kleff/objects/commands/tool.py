"""A vendor's removal tool in a plan: what of what it lists is chosen, and what it will be told."""

from kleff.objects.base.action import ABSENT, MANUAL, REFUSED, Action
from kleff.objects.base.here import Here
from kleff.objects.commands.programs import arguments, objection_to
from kleff.objects.commands.steps import CHOSEN, CommandUninstall, item_problem
from kleff.objects.spare_contents import product_plan, spare_line
from kleff.procedure.loaded import LoadedStep


def chosen_of(model: CommandUninstall, here: Here) -> list[str]:
    """The names that were chosen."""
    answer = here.answers.get(model.chosen)
    return [answer] if isinstance(answer, str) and answer else list(answer) if isinstance(answer, list) else []


def plan_tool(step: LoadedStep, model: CommandUninstall, here: Here) -> Action:
    """The one action of its step."""
    chosen = chosen_of(model, here)
    argv = arguments(list(model.command), here, chosen=chosen)
    action = here.action(step, "run", " ".join(argv or model.command), items=1)
    if argv is None:
        action.state, action.reason = ABSENT, f"{model.command[0]} is not there"
        return action
    wrong = next((f"{name!r}: {why}" for name in chosen if (why := item_problem(name))), "")
    listing = arguments(list(model.lists), here) if model.lists else argv
    if listing is None:
        action.state, action.reason = MANUAL, f"{model.lists[0]}, which lists what there is, is not there; do it by hand"
    elif why := objection_to(argv, here) or objection_to(listing, here):
        action.state, action.reason = MANUAL, f"{why}; do it by hand"
    elif wrong:
        action.state, action.reason = REFUSED, wrong
    elif CHOSEN in model.command and not chosen:
        action.keep("nothing of what it lists was chosen")
    elif here.options.spare == "off":
        action.without_return, action.undo = True, "cannot be taken back: an outside program does it"
    else:
        spare = product_plan(here)
        action.undo, action.without_return = "brought back from the spare, as far as the procedure names it", not spare.places
        if not spare.places:
            action.undo = "no folder of the product is known, so none is brought back: name it in a [[delete]] step"
        action.shows = [f"what can be chosen was listed by: {' '.join(model.lists)}"] if model.lists else []
        action.shows += [*(f"is told to remove: {name}" for name in chosen), spare_line(here, spare)]
    return action
