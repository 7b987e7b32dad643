"""A procedure on a workstation, and what on it must stay: the context everything is planned in."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import replace

from kleff.case.guard.guard import Guard
from kleff.case.guard.kept import Kept
from kleff.case.record.unfinished import last_at_work
from kleff.engine.accounts import for_all, keep_left_out, looked_at
from kleff.engine.systems import applies
from kleff.errors import ActionFailed, LinkOnTheWay, Refused
from kleff.objects.base.action import Sighting
from kleff.objects.base.here import Here, Options, Programs
from kleff.objects.base.kind import Claimed, Claims, Keeps, Looks, able
from kleff.objects.base.known import kind_of, kinds_of_whole
from kleff.objects.base.own import named_places
from kleff.objects.base.places import OwnPlaces
from kleff.objects.base.resolve import Resolver
from kleff.objects.base.secrets import Secrets
from kleff.procedure.conditions import Answer
from kleff.procedure.loaded import LoadedStep, Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath
from kleff.workstation.short_names import may_be_short

# What stands for an answer that nobody needed to give (a look at a procedure, without a plan).
_NONE: dict[str, Answer] = {"yes-no": False, "one": "", "some": []}


UNSEEN = (OSError, LinkOnTheWay, ActionFailed)  # what a kind meets that cannot look


def why_unseen(error: OSError | LinkOnTheWay | ActionFailed) -> str:
    return f"it cannot be looked at: {error.strerror}" if isinstance(error, OSError) else error.what


def look_only(workstation: Workstation, procedure: Procedure, options: Options | None = None) -> Here:
    """A context in which evidence can be asked, and nothing planned."""
    resolver = Resolver(workstation, procedure, options.accounts if options else ())
    return Here(
        workstation, procedure, Guard(workstation), resolver, _defaults(procedure), options=options or Options(),
        since=last_at_work(workstation),
    )  # fmt: skip


def make_context(
    workstation: Workstation, procedure: Procedure, others: Sequence[Procedure] = (), answers: dict[str, Answer] | None = None,
    options: Options | None = None, secrets: Secrets | None = None, programs: Programs | None = None, planning: bool = True,
) -> Here:  # fmt: skip
    """A context for planning and running; without `planning` for looking only, which asks nothing of what has to stay.

    Args:
        others: the other procedures of the library; what they claim stays while their product is present.
        answers: to the procedure's questions; the defaults where they are left out.
    """
    here = replace(
        look_only(workstation, procedure, options), answers={**_defaults(procedure), **(answers or {})}, secrets=secrets or Secrets(),
        programs=programs or Programs(),
    )  # fmt: skip
    by_version = any("version" in s.model.when + s.model.unless for s in procedure.steps)
    found = sightings(here) if planning or by_version else []
    if by_version:
        here = replace(here, versions=tuple(sorted({s.version for s in found if s.version})))
    if planning:
        here = replace(here, present=any(s.in_range for s in found), own=_own_places(here))
        _fill_guard(for_all(here, procedure), others)
    return here


def _fill_guard(here: Here, others: Sequence[Procedure]) -> None:
    """What has to stay, as it is before anything is done."""
    kept = here.guard.kept
    keep_left_out(here, kept)
    _keep_named(here, kept)
    _keep_unwanted(here, kept)
    _keep_what_stays(here, kept)
    for other in others:
        _keep_claimed(replace(look_only(here.workstation, other), guard=here.guard), kept)


def _defaults(procedure: Procedure) -> dict[str, Answer]:
    return {ask.id: ask.default if ask.default is not None and not ask.from_ else _NONE[ask.type] for ask in procedure.asks}


def secrets_needed(procedure: Procedure, system: str) -> list[str]:
    """The names of the secrets that steps of a procedure need on a system."""
    return list(dict.fromkeys(s.model.needs_secret for s in procedure.steps if s.model.on in (None, system) and s.model.needs_secret))


def steps_here(here: Here, phase: str) -> list[LoadedStep]:
    """The steps of a phase that can apply on this system."""
    steps = here.procedure.evidence if phase == "evidence" else here.procedure.phase(phase)
    return [s for s in steps if applies(s, here.workstation.system)]


def going_steps(here: Here, *phases: str) -> list[LoadedStep]:
    """The steps of phases that are meant for this system and wanted by the answers."""
    return [s for phase in phases for s in steps_here(here, phase) if not here.not_wanted(s.model)]


def look(step: LoadedStep, here: Here) -> Iterator[Sighting]:
    """What of a step's thing is there; nothing if its kind cannot tell."""
    kind = able(kind_of(step.kind), Looks)
    if kind is None:
        return
    try:
        yield from looked_at(kind.look(step, here), here)
    except UNSEEN as error:
        yield Sighting(kind=step.kind, what=f"line {step.line} ({why_unseen(error)})", line=step.line, unreadable=True)


def pieces(here: Here) -> list[Sighting]:
    """All evidence that is there, each piece by itself."""
    return [found for step in going_steps(here, "evidence") for found in look(step, here)]


def sightings(here: Here) -> list[Sighting]:
    """The evidence that counts: pieces that belong together only where all of them are there, and in the version that one of them shows."""
    found: list[Sighting] = []
    groups: dict[str, list[list[Sighting]]] = {}
    for step in going_steps(here, "evidence"):
        seen = list(look(step, here))
        if step.model.together:
            groups.setdefault(step.model.together, []).append(seen)
        else:
            found += seen
    for group in groups.values():
        seen = [sighting for one in group for sighting in one]
        if all(group):
            telling = [s for s in seen if s.version] or seen
            for sighting in seen:
                sighting.in_range = all(s.in_range for s in telling)
            found += seen
        else:
            found += [s for s in seen if s.unreadable]
    return found


def claimed_by(here: Here, steps: Sequence[LoadedStep]) -> Claimed:
    """What steps name as the product's own."""
    claimed = Claimed()
    for step in steps:
        kind = able(kind_of(step.kind), Claims)
        if kind is not None:
            with contextlib.suppress(*UNSEEN):  # the plan says so where it stands
                claimed.add(kind.claims(step, here))
    return claimed


def _places(here: Here, steps: Sequence[LoadedStep]) -> list[WPath]:
    return list({target.path.key: target.path for target, _ in claimed_by(here, steps).targets}.values())


def _own_places(here: Here) -> OwnPlaces:
    """Where the product is: what the procedure calls its places, what is deleted, what its registration tells."""
    claimed = claimed_by(here, going_steps(here, "uninstall", "purge", "delete"))
    whole = [target.path for target, whole in claimed.targets if whole]
    named = named_places(here)
    known = bool(named or claimed.folders or claimed.files)
    return OwnPlaces((*named, *whole, *claimed.folders), frozenset(path.key for path in claimed.files), known)


def _keep_named(here: Here, kept: Kept) -> None:
    """What the procedure keeps.

    Raises:
        Refused: where that is cannot be told.
    """
    for text in here.procedure.keep.paths:
        for expanded in here.resolver.meanings(text):
            if expanded.unknown:
                what = f"[keep] {text}: {expanded.unknown}: what it protects cannot be known"
                raise Refused(what, where=here.procedure.name, remedy="mend that first; nothing was changed")
            if not expanded.absent:
                reason = f"the procedure keeps {text}"
                kept.patterns.append((expanded.volume, expanded.pattern, reason))
                if here.workstation.style.folded and any(map(may_be_short, expanded.pattern)):
                    found = here.workstation.files.expand(expanded.volume, expanded.pattern)
                    kept.places += [(path, reason) for path in found]


def _keep_unwanted(here: Here, kept: Kept) -> None:
    """What a step would delete that the answers do without stays, also where another step names a folder above it."""
    for step in steps_here(here, "delete"):
        reason = here.not_wanted(step.model)
        if reason:
            kept.places += [(place, f"{reason} (line {step.line})") for place in _places(here, [step])]
        ask = next((a for a in here.procedure.asks if a.id == step.model.chosen and a.from_ == "accounts"), None)
        if ask is not None:
            chosen = here.answers.get(ask.id, [])
            for account in here.resolver.accounts(step.model.concerns):
                model = step.model.of_account(account.name)
                if model is not None and account.name not in (chosen if isinstance(chosen, list) else [chosen]):
                    one = replace(step, model=model)
                    why = f"not chosen: {account.name} (line {step.line})"
                    kept.places += [(place, why) for place in _places(here, [one]) if account.home.holds(place)]


def _keep_what_stays(here: Here, kept: Kept) -> None:
    """What each kind knows to stay: products that are not uninstalled, packages that are not removed."""
    claimed = claimed_by(here, going_steps(here, "purge", "delete"))
    steps = going_steps(here, "uninstall", "purge")
    for kind in kinds_of_whole():
        keeping = able(kind, Keeps)
        if keeping is not None:
            found = keeping.keep(steps, here, claimed)
            kept.places += found.places
            kept.single.update(found.single)
            kept.owned |= found.owned


def _keep_claimed(other: Here, kept: Kept) -> None:
    """Paths that another procedure would delete, while its product is there."""
    if any(s.in_range and not s.unreadable for s in sightings(other)):
        reason = f"the procedure of {other.procedure.product.name}, which is present, claims it"
        kept.places += [(place, reason) for place in _places(other, going_steps(other, "delete"))]
