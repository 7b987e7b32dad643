"""A procedure that was read: its steps, each with where it stands."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

from kleff.procedure.model import Ask, Keep, Product, Step

# By which procedures are read; a case keeps the number of those it was begun under. 2: keys are literal, no control characters in
# paths and keys, an account that is named and not here is seen. 3: no name of a registered product means all of them.
RULES = 3
PHASES = ("before", "backup", "stop", "uninstall", "purge", "delete", "verify", "after")
M = TypeVar("M", bound=Step, covariant=True)
N = TypeVar("N", bound=Step)


@dataclass(frozen=True)
class LoadedStep:
    """One step and where it stands.

    Attributes:
        phase: `evidence` or one of `PHASES`.
        kind: the key that names the object kind.
        index: its place within the phase, from 0.
        line: its line in the file.
    """

    phase: str
    kind: str
    index: int
    line: int
    model: Step


@dataclass(frozen=True)
class StepOf(LoadedStep, Generic[M]):
    """The same, of the models that a kind offers: what a kind's own methods are given."""

    model: M


def steps_of(steps: Iterable[LoadedStep], model: type[N]) -> list[StepOf[N]]:
    """Those of one model."""
    return [s for s in steps if isinstance(s, StepOf) and isinstance(s.model, model)]


@dataclass(frozen=True)
class Procedure:
    """A procedure that is valid as far as can be told without a workstation."""

    name: str
    raw: bytes
    product: Product
    places: dict[str, list[str]]
    keep: Keep
    evidence: tuple[LoadedStep, ...]
    steps: tuple[LoadedStep, ...]
    asks: tuple[Ask, ...] = ()
    rules: int = RULES

    def phase(self, name: str) -> list[LoadedStep]:
        return [s for s in self.steps if s.phase == name]
