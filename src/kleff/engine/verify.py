"""Verify: look again with the procedure's own eyes; what is still there is left, what must stay is kept."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass, field

import msgspec

from kleff.engine.accounts import left_out, looked_at
from kleff.engine.context import pieces, steps_here
from kleff.engine.finding import LEFT, NOT_DONE, NOT_KNOWN, NOT_READ, STAYS, Finding, Verification
from kleff.engine.plan import plan_step
from kleff.engine.running import Brought, still_running
from kleff.objects.base.action import ABSENT, KEPT, UNKNOWN, UNREADABLE, Action, Sighting
from kleff.objects.base.here import Here
from kleff.objects.base.known import kind_of
from kleff.procedure.globs import PathStyle
from kleff.workstation.identity import Identity, covers, sameness, shown

REMOVES = ("stop", "uninstall", "purge", "delete", "verify")
REMOVED_BY_PROGRAMS = ("uninstall", "purge")


@dataclass(frozen=True)
class FromCase:
    """What a case knows besides the procedure.

    Attributes:
        findings: what was left undone, and what else of the product is there.
        brought: what the product consisted of.
    """

    findings: list[Finding] = field(default_factory=list)
    brought: Brought = field(default_factory=Brought)


def verify(here: Here, case: FromCase | None = None) -> Verification:
    """Look at everything the procedure stops, uninstalls, purges, deletes or proves, and at what speaks for the product besides.

    Nothing is changed.
    """
    if case is not None and not any(steps_here(here, phase) for phase in REMOVES):
        return _of_saving(case)
    actions, evidence = _still_to_do(here), pieces(here)
    found = _found(here, case or FromCase(), actions, evidence)
    looked = sum(not action.nowhere for action in actions) + len(evidence)
    if not looked and not found.all:
        found.add([_nothing_looked_at(here)])
    programs = any(steps_here(here, phase) for phase in REMOVED_BY_PROGRAMS)
    not_known = ["no case: what the uninstaller named is not known"] if case is None and programs else []
    return Verification(
        clean=all(f.state == STAYS for f in found.all), looked=looked, findings=found.all, not_known=not_known,
        shows=found.shows, accounts=sorted(here.options.accounts), left_out=len(left_out(here)),
    )  # fmt: skip


def _of_saving(case: FromCase) -> Verification:
    """The verdict on a procedure that only saves."""
    undone = [f for f in case.findings if f.state in (NOT_DONE, NOT_KNOWN)]
    return Verification(clean=not undone, looked=0, findings=undone, saved=True)


def _still_to_do(here: Here) -> list[Action]:
    """What the steps would do now that show by it that the product is not gone."""
    steps = (step for phase in REMOVES for step in steps_here(here, phase) if kind_of(step.kind).proves(phase))
    return [action for step in steps for action in plan_step(step, here)]


def _found(here: Here, case: FromCase, actions: list[Action], evidence: list[Sighting]) -> _Findings:
    """Everything that is there, each thing once."""
    style = here.workstation.style
    found = _Findings(style)
    found.add(f for action in actions for f in _findings(action, style))
    found.add_evidence(evidence)
    found.add_besides(looked_at(still_running(here, actions, case.brought), here))
    found.add_besides(looked_at(case.findings, here))
    return found


def _nothing_looked_at(here: Here) -> Finding:
    """That nothing was found proves nothing where nothing could be looked for."""
    what = f"{here.procedure.product.name}: no step of the procedure looks anywhere on such a workstation"
    return Finding(state=NOT_KNOWN, kind="", target=what, reason="nothing was looked at", phase="verify")


class _Findings:
    """Each thing once, by what it is; `shows`: evidence is among what is kept."""

    def __init__(self, style: PathStyle) -> None:
        self._style = style
        self._by: dict[Hashable, Finding] = {}
        self.shows = False

    @property
    def all(self) -> list[Finding]:
        return list(self._by.values())

    def add(self, findings: Iterable[Finding]) -> None:
        """What steps have found; of two that are the same, the one that speaks against "gone"."""
        for finding in findings:
            known = self._by.get(self._same(finding))
            if known is None or (known.state == STAYS and finding.state != STAYS):
                self._by[self._same(finding)] = finding

    def add_besides(self, findings: Iterable[Finding]) -> None:
        """What is there without a step's saying so, unless it is told already. What was left undone is told beside what is there of it."""
        for finding in findings:
            if finding.state == NOT_DONE or not self._covering(finding.about, {LEFT, STAYS, NOT_READ, NOT_KNOWN}):
                self.add([finding])

    def add_evidence(self, evidence: list[Sighting]) -> None:
        """It may lie in something that is told already; if that is kept, the evidence is too, and is told as such."""
        for sighting in evidence:
            about = [sighting.about] if sighting.about is not None else []
            if not sighting.in_range or self._covering(about, {LEFT, NOT_READ}):
                continue
            finding = Finding(
                state=NOT_READ if sighting.unreadable else LEFT, kind=sighting.kind, target=sighting.what, about=about,
                reason="evidence of the product", line=sighting.line, phase="evidence", account=sighting.account,
            )  # fmt: skip
            keeping = next(iter(self._covering(about, {STAYS})), None)
            if keeping is not None:
                self.shows = True
                finding.state, finding.reason = STAYS, f"evidence of the product; {keeping.reason}"
                if keeping.about == about:
                    finding.target = keeping.target
                    self._by.pop(self._same(keeping), None)
            self._by.setdefault(self._same(finding), finding)

    def _covering(self, about: list[Identity], states: set[str]) -> list[Finding]:
        """The findings that tell all of it."""
        told = [f for f in self._by.values() if f.state in states]
        return [f for f in told if about and all(any(covers(outer, one, self._style) for outer in f.about) for one in about)]

    def _same(self, finding: Finding) -> Hashable:
        """What two findings of one thing share: what it is; where nothing was found that could be told exactly, its text."""
        about = tuple(sameness(i, self._style) for i in finding.about)
        return finding.kind, about or finding.target, finding.account, finding.state == NOT_DONE


def _findings(action: Action, style: PathStyle) -> Iterator[Finding]:
    """What an action planned afresh says of the workstation now: whatever there is still to do is left."""
    if action.state == ABSENT:
        return
    state = {KEPT: LEFT if action.not_clean else STAYS, UNREADABLE: NOT_READ, UNKNOWN: NOT_KNOWN}.get(action.state, LEFT)
    reason = "it is not empty" if action.later else action.reason
    found = Finding(
        state=state, kind=action.kind, target=action.target, about=action.about, reason=reason, line=action.line, phase=action.phase,
        account=action.account,
    )  # fmt: skip
    if state != STAYS or not action.stays:
        yield found
        return
    for inside in action.stays:
        yield msgspec.structs.replace(found, target=shown(inside.what, style), about=[inside.what], reason=inside.reason)
