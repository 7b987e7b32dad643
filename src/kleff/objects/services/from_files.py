"""Services of a Linux that does not run: nobody can be asked, so its files tell which there are."""

from __future__ import annotations

from kleff.objects.base.here import Here
from kleff.procedure.globs import name_matches
from kleff.workstation.files.folders import inside
from kleff.workstation.things import Service

# Where units of the system lie (systemd.unit(5)), the first counts; then scripts of the older kind.
UNITS = ("/etc/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")
SCRIPTS = "/etc/init.d"
ENDING = ".service"


def registered(here: Here, pattern: str) -> list[Service]:
    """Those of that name, as far as they are registered; none of them runs.

    Raises:
        OSError, LinkOnTheWay: a place where they are registered cannot be looked at.
    """
    files, wanted = here.workstation.files, pattern.removesuffix(ENDING)
    found: dict[str, Service] = {}
    for text in (*UNITS, SCRIPTS):
        top = files.path(text)
        for path in inside(files, top) if top is not None else ():
            is_unit = path.name.endswith(ENDING)
            name = path.name.removesuffix(ENDING)
            if is_unit is (text != SCRIPTS) and name_matches(wanted, name, False):
                found.setdefault(name, Service(name, False, "not known"))
    return list(found.values())
