"""Advice on a valid procedure: what a careful colleague would ask about it."""

from __future__ import annotations

from kleff.objects.base.kind import Advises, able
from kleff.objects.base.known import kind_of
from kleff.procedure.loaded import LoadedStep, Procedure


def advice(procedure: Procedure) -> list[tuple[int, str]]:
    """(line, text) for each piece of advice, by line."""
    found: list[tuple[int, str]] = []
    if not procedure.phase("backup"):
        found.append((1, "saves nothing: a licence or a person's data cannot be brought back after the set-aside things are discarded"))
    if not procedure.phase("verify"):
        found.append((1, "has no [[verify]] step: only the evidence and the deleted places are looked at in the end"))
    if procedure.product.reviewed is None:
        found.append((1, "says not when it was reviewed; add  reviewed = 2026-11-23  to [product]"))
    if not procedure.product.versions:
        found.append((1, 'touches every version; add  versions = ">=4,<5"  to [product] if others must stay'))
    for step in procedure.steps:
        found += [(step.line, text) for text in _step(step)]
    return sorted(found)


def _step(step: LoadedStep) -> list[str]:
    if step.phase == "backup" and not step.model.label:
        return ["has no label; the bag and the report name what is saved by it"]
    kind = able(kind_of(step.kind), Advises)
    return kind.advice(step) if kind is not None else []
