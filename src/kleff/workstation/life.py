"""What shows that a program is at work."""

from __future__ import annotations

from kleff.workstation.facets import Processes
from kleff.workstation.things import Life, Running


def life_of(running: Running, facet: Processes) -> Life:
    """What shows that a program is at work: what it and all it has started have used, and the windows they show."""
    everything = facet.all()
    own = {running.pid, running.program} - {0}
    grown = True
    while grown:
        more = {p.pid for p in everything if p.parent in own} - own
        own |= more
        grown = bool(more)
    own -= {running.pid} if running.pid != running.program else set()  # the supervisor
    found = [p for p in everything if p.pid in own]
    cpu, written = facet.used(own)
    return Life(cpu, written, len(found), tuple(p.title for p in found if p.title))
