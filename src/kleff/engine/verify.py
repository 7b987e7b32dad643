"""Verify: look again with the procedure's own eyes; what is still there is left, what must stay is kept."""

from __future__ import annotations

from collections.abc import Hashable

import msgspec

from kleff.engine.context import sightings, steps_here
from kleff.engine.plan import plan_step
from kleff.objects.base.action import ABSENT, KEPT, UNKNOWN, UNREADABLE, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import kind_of
from kleff.procedure.globs import PathStyle
from kleff.workstation.identity import Identity, covers, sameness, shown

LEFT, STAYS, NOT_READ, NOT_KNOWN = "left", "kept", "unreadable", "unknown"


class Finding(msgspec.Struct, kw_only=True):
    """One thing that is still there.

    Attributes:
        state: `left`; `kept` (on purpose); `unreadable` (could not be looked at), `unknown` (there is nothing where one could look): not
            proven gone.
        target: for people; about: what exactly.
    """

    state: str
    kind: str
    target: str
    about: list[Identity] = []
    reason: str = ""
    line: int = 0
    phase: str = ""
    account: str = ""


class Verification(msgspec.Struct, kw_only=True):
    """The result: clean if nothing is left and everything could be looked at.

    Attributes:
        looked: how many places were looked at.
    """

    clean: bool
    looked: int
    findings: list[Finding]

    @property
    def open(self) -> list[Finding]:
        """Everything that keeps it from being clean: what is left, and what is not proven gone."""
        return [f for f in self.findings if f.state != STAYS]

    def of(self, state: str) -> list[Finding]:
        return [f for f in self.findings if f.state == state]


def verify(here: Here) -> Verification:
    """Look at everything the procedure stops, uninstalls, purges, deletes or proves. Nothing is changed."""
    style = here.workstation.style
    actions = [
        a
        for phase in ("stop", "uninstall", "purge", "delete", "verify")
        for step in steps_here(here, phase)
        if kind_of(step.kind).proves(phase)
        for a in plan_step(step, here)
    ]
    findings: dict[Hashable, Finding] = {}
    for action in actions:
        for finding in _findings(action, style):
            findings.setdefault(_same(finding, style), finding)
    evidence = sightings(here)
    told = [identity for f in findings.values() for identity in f.about]
    for sighting in evidence:
        about = sighting.about
        if not sighting.in_range or (about is not None and any(covers(outer, about, style) for outer in told)):
            continue
        finding = Finding(
            state=NOT_READ if sighting.unreadable else LEFT, kind=sighting.kind, target=sighting.what,
            about=[about] if about is not None else [], reason="evidence of the product", line=sighting.line, phase="evidence",
            account=sighting.account,
        )  # fmt: skip
        findings.setdefault(_same(finding, style), finding)
    listed = list(findings.values())
    return Verification(clean=all(f.state == STAYS for f in listed), looked=len(actions) + len(evidence), findings=listed)


def _same(finding: Finding, style: PathStyle) -> Hashable:
    """What two findings of one thing share: what it is; where nothing was found that could be told exactly, its text."""
    about = tuple(sameness(i, style) for i in finding.about)
    return finding.kind, about or finding.target, finding.account


def _findings(action: Action, style: PathStyle) -> list[Finding]:
    """What an action planned afresh says of the workstation now: whatever there is still to do is left."""
    if action.state == ABSENT:
        return []
    state = {KEPT: STAYS, UNREADABLE: NOT_READ, UNKNOWN: NOT_KNOWN}.get(action.state, LEFT)
    reason = "it is not empty" if action.later else action.reason
    found = Finding(
        state=state, kind=action.kind, target=action.target, about=action.about, reason=reason, line=action.line, phase=action.phase,
        account=action.account,
    )  # fmt: skip
    if state != STAYS or not action.stays:
        return [found]
    return [msgspec.structs.replace(found, target=shown(i.what, style), about=[i.what], reason=i.reason) for i in action.stays]
