"""The package that the system's installer keeps of a product: it goes once the product is gone."""

from dataclasses import replace

from kleff.case.guard.guard import Target
from kleff.objects.base.action import Action, Outcome
from kleff.objects.base.here import Work
from kleff.objects.entries.matching import still_there
from kleff.procedure.globs import literal_count
from kleff.workstation.identity import NameId
from kleff.workstation.things import Entry


def package_goes(outcome: Outcome, action: Action, entry: Entry, work: Work) -> Outcome:
    """Set the package aside, unless the product is there still, as before a restart."""
    from kleff.case.effects.moved import set_aside

    files = work.here.workstation.files
    place = files.path(entry.package)
    product = replace(entry, id=NameId("product", entry.product_code))
    if place is None or files.look(place) is None or still_there(product, work.here):
        return outcome
    target = Target(place, len(place.parts), literal_count(place.name))
    set_aside(work.hands, [(action.number, target)], lambda number, move: None)
    outcome.note = "; ".join(n for n in (outcome.note, f"its package {entry.package} was set aside") if n)
    return outcome
