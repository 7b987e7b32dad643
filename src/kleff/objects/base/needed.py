"""What later steps still have to run or read: it must not be deleted before them."""

from kleff.objects.base.here import Here
from kleff.objects.base.kind import Needs, able
from kleff.objects.base.known import kind_of
from kleff.workstation.paths import WPath

LATER = ("uninstall", "purge", "backup", "verify", "after")  # a backup's program takes in again what it has saved


def needed_later(path: WPath, here: Here) -> str:
    """Why a path must not be deleted before the product is uninstalled; "" if it may."""
    for phase in LATER:
        for step in here.procedure.phase(phase):
            needing = able(kind_of(step.kind), Needs)
            if needing is None or here.not_wanted(step.model):
                continue
            for needed, what in needing.needs(step, here):
                if path.holds(needed):
                    return f"it holds {needed}, {what}"
    return ""
