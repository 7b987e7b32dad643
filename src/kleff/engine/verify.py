"""Verify: look again with the procedure's own eyes; what is still there is left, what must stay is kept."""

from __future__ import annotations

import msgspec

from kleff.engine.preview import plan_step
from kleff.engine.scene import sightings, steps_here
from kleff.objects.base import ABSENT, KEPT, UNREADABLE, Action, Scene

LEFT, STAYS, UNKNOWN = "left", "kept", "unreadable"


class Finding(msgspec.Struct, kw_only=True):
    """One thing that is still there.

    Attributes:
        state: `left`; `kept` (on purpose); `unreadable` (could not be looked at, so not proven gone).
    """

    state: str
    kind: str
    target: str
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

    def of(self, state: str) -> list[Finding]:
        return [f for f in self.findings if f.state == state]


def verify(scene: Scene) -> Verification:
    """Look at everything the procedure stops, uninstalls, purges, deletes or proves. Nothing is changed."""
    actions = [
        a
        for phase in ("stop", "uninstall", "purge", "delete", "verify")
        for step in steps_here(scene, phase)
        if (phase, step.kind) not in (("stop", "manual"), ("stop", "command"))
        for a in plan_step(step, scene)
    ]
    findings: dict[tuple[str, str, str], Finding] = {}
    for action in actions:
        for finding in _findings(action):
            findings.setdefault((finding.kind, finding.target, finding.account), finding)
    evidence = sightings(scene)
    shown = {f.target.rstrip("\\/") for f in findings.values()}
    for sighting in evidence:
        if sighting.in_range and not any(_covers(target, sighting.what) for target in shown):
            state = UNKNOWN if sighting.unreadable else LEFT
            findings.setdefault(
                (sighting.kind, sighting.what, sighting.account),
                Finding(
                    state=state,
                    kind=sighting.kind,
                    target=sighting.what,
                    reason="evidence of the product",
                    line=sighting.line,
                    phase="evidence",
                    account=sighting.account,
                ),
            )
    listed = list(findings.values())
    return Verification(clean=all(f.state == STAYS for f in listed), looked=len(actions) + len(evidence), findings=listed)


def _covers(target: str, what: str) -> bool:
    return what == target or what.startswith((target + "\\", target + "/", target + " "))


def _findings(action: Action) -> list[Finding]:
    """What an action planned afresh says of the workstation now: whatever there is still to do is left."""
    if action.state == ABSENT:
        return []
    state = {KEPT: STAYS, UNREADABLE: UNKNOWN}.get(action.state, LEFT)
    reason = "it is not empty" if action.details.get("again") else action.reason
    found = Finding(
        state=state, kind=action.kind, target=action.target, reason=reason, line=action.line, phase=action.phase, account=action.account
    )
    if state != STAYS or not action.inside:
        return [found]
    return [msgspec.structs.replace(found, target=t, reason=r) for t, _, r in (i.partition(": ") for i in action.inside)]
