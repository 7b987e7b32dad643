"""Survey: is it here, which versions, where, who uses it, what of it runs."""

from __future__ import annotations

import msgspec

from kleff.engine.context import look, look_only, sightings, steps_here
from kleff.objects.base.action import Sighting
from kleff.objects.base.here import Here, Options
from kleff.objects.base.kind import Used, able
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.identity import NameId


class Survey(msgspec.Struct, kw_only=True):
    """What a survey found.

    Attributes:
        present: some evidence within the procedure's versions.
        versions: those that were found, whether meant or not.
        evidence: what speaks for the product as meant; others: other versions, which are kept.
        accounts: who has files or settings of it.
        running: programs and services of it that run now.
    """

    present: bool
    versions: list[str]
    evidence: list[Sighting]
    others: list[Sighting]
    unreadable: list[Sighting]
    accounts: list[str]
    running: list[str]


def evidence_of(procedure: Procedure, workstation: Workstation, options: Options) -> list[Sighting]:
    """The evidence alone that counts, without a look at anything else."""
    return sightings(look_only(workstation, procedure, options))


def survey(here: Here) -> Survey:
    """Look; nothing is changed."""
    found = sightings(here)
    meant = [s for s in found if s.in_range and not s.unreadable]
    return Survey(
        present=bool(meant),
        versions=sorted({s.version for s in found if s.version}),
        evidence=meant,
        others=[s for s in found if not s.in_range],
        unreadable=[s for s in found if s.unreadable],
        accounts=_users(here),
        running=[_running(s) for step in steps_here(here, "stop") for s in look(step, here) if s.running],
    )


def _users(here: Here) -> list[str]:
    names: set[str] = set()
    for step in [*steps_here(here, "backup"), *steps_here(here, "delete")]:
        kind = able(kind_of(step.kind), Used)
        names |= kind.users(step, here) if kind is not None else set()
    return sorted(names)


def _running(sighting: Sighting) -> str:
    who = f" ({sighting.account})" if sighting.account else ""
    name = sighting.about.name if isinstance(sighting.about, NameId) else sighting.what
    return f"{'program' if sighting.kind == 'process' else sighting.kind} {name}{who}"
