"""What a case knows of a product that its procedure does not say: what it left undone, what uninstallers named, where it lay."""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Iterator

from kleff.case.effects.base import effect_of
from kleff.case.effects.spared import Spared
from kleff.case.guard.guard import Target
from kleff.case.programs import said
from kleff.case.record.beforehand import Beforehand, read_beforehand
from kleff.case.record.folder import Case
from kleff.engine.cases.rows import Row, rows
from kleff.engine.finding import LEFT, NOT_DONE, NOT_KNOWN, NOT_READ, STAYS, Finding
from kleff.engine.running import Brought
from kleff.engine.verify import FromCase
from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import FAILED, UNKNOWN, WAITING
from kleff.objects.base.here import Here
from kleff.objects.base.noting import keys_in, paths_in
from kleff.objects.base.own import where
from kleff.registry.registry import KeyRef
from kleff.workstation.identity import key_id, path_id
from kleff.workstation.paths import WPath, from_raw

ITS_OWN = ("installed in", "uninstalls")  # clues to places that are nobody else's; a service may be stopped that is


def known_of(case: Case, here: Here) -> FromCase:
    """Everything that speaks for the product besides what the procedure names."""
    noted = read_beforehand(case)
    found = [*_not_done(rows(case)), *_harmed(case, here), *_installed(noted, here), *_named(case, here)]
    return FromCase(found, _brought(case, noted, here))


def _not_done(found: list[Row]) -> Iterator[Finding]:
    """Failed stays failed, also if the thing has gone since by another way."""
    states = {FAILED: NOT_DONE, UNKNOWN: NOT_KNOWN, WAITING: NOT_DONE}
    for row in found:
        if row.state in states and row.action.phase not in ("before", "verify", "after"):
            action = row.action
            yield Finding(
                state=states[row.state], kind=action.kind, target=action.target, about=action.about,
                reason=row.note or action.reason or row.state, line=action.line, phase=action.phase, account=action.account,
            )  # fmt: skip


def _harmed(case: Case, here: Here) -> Iterator[Finding]:
    """What others need, and what a program that removed something has taken or changed."""
    for one in case.journal.effects():
        effect = effect_of(one)
        if isinstance(effect, Spared) and one.state in ("done", "stays"):
            for harmed in effect.harmed:
                path = here.workstation.files.from_raw(b64decode(harmed.path))
                yield Finding(state=NOT_DONE, kind="paths", target=str(path), about=[path_id(path)], reason=harmed.what, phase="delete")


def _brought(case: Case, noted: Beforehand, here: Here) -> Brought:
    style = here.workstation.style
    places = [place for clue in noted.clues if clue.how in ITS_OWN for place in [from_raw(style, clue.place.path)] if _may_go(place, here)]
    files = [p for record in noted.packages for _, text in record.paths if (p := where(text, here))]
    units = [(pattern, record.name) for record in noted.packages for pattern in record.service_patterns]
    return Brought(places, frozenset(p.key for p in files), units, case.id)


def _installed(noted: Beforehand, here: Here) -> Iterator[Finding]:
    """Folders in which what was uninstalled had been."""
    for clue in noted.clues:
        if clue.how == "installed in":
            yield from _there(from_raw(here.workstation.style, clue.place.path), f"{clue.by} was installed in it", here)


def _named(case: Case, here: Here) -> Iterator[Finding]:
    """What uninstallers and package managers named in what they said, and is there."""
    registry = here.workstation.registry
    for one in case.journal.effects():
        effect = effect_of(one)
        if not effect.names_leftovers or one.state not in ("done", "stays"):
            continue
        text = said(case.output(one.id))
        reason = f"{effect.named_by} named it" if text else ""
        for path in paths_in(text, here):
            yield from _there(path, reason, here)
        for key in keys_in(text, here):
            if registry is not None and registry.exists(key) and here.guard.check_key(key).ok:
                yield _key(key, reason)


def _key(key: KeyRef, reason: str) -> Finding:
    return Finding(state=LEFT, kind="key", target=str(key), about=[key_id(key)], reason=reason, phase="delete")


def _there(place: WPath, reason: str, here: Here) -> Iterator[Finding]:
    """A place that is there, unless it is the system's, everybody's, or a package's that stays."""
    files, packages = here.workstation.files, here.workstation.packages
    try:
        place = files.resolve(place).path
        if files.look(place) is None:
            return
    except (OSError, LinkOnTheWay):
        yield Finding(state=NOT_READ, kind="paths", target=str(place), about=[path_id(place)], reason=reason, phase="delete")
        return
    kept = here.guard.stays(place)
    if kept or (_may_go(place, here) and not (packages and packages.owners([place], below=False))):
        yield Finding(
            state=STAYS if kept else LEFT, kind="paths", target=str(place), about=[path_id(place)], reason=kept or reason, phase="delete"
        )


def _may_go(place: WPath, here: Here) -> bool:
    """Whether it could be a product's at all; single files among the system's own only where a package manager knows whose they are."""
    letters = 9 if here.workstation.packages else 0
    return bool(place.parts) and here.guard.check(Target(place, len(place.parts), letters)).ok
