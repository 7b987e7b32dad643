"""How a preview and a run come to their plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from kleff.cli.common import Told, ask_on_terminal, scene_with
from kleff.engine.choices import Choice, choices, settle, with_found
from kleff.engine.preview import Plan, preview
from kleff.objects.base import Scene

if TYPE_CHECKING:
    from kleff.procedure.conditions import Answer
    from kleff.procedure.load import Procedure
    from kleff.workstation.facets import Workstation


@dataclass(frozen=True)
class Planned:
    """A plan on its scene, and the questions with what their other answers would change."""

    scene: Scene
    plan: Plan
    choices: list[Choice] = field(default_factory=list)


def planned(
    workstation: Workstation, procedure: Procedure, library: Path | None, spare: str, given: Sequence[str], told: Told,
    asked: bool = False, compared: bool = True,
) -> Planned:  # fmt: skip
    """Settle the questions and resolve every step.

    Args:
        given: answers of the command line, as `ID=VALUE`.
        asked: whether a person at the terminal is asked for the others.
        compared: whether it is told what other answers would change.

    Raises:
        UsageError: an answer that no question knows.
        Refused: a question without an answer.
    """
    procedure = with_found(procedure, scene_with(workstation, procedure, library))
    answers = settle(procedure, list(given), ask_on_terminal if asked else None)
    scene = scene_with(workstation, procedure, library, spare, told.answered(answers))
    plan = preview(scene)

    def again(other: dict[str, Answer]) -> Plan:
        return preview(scene_with(workstation, procedure, library, spare, told.answered(other, scene.told)))

    said = [f"{name}=" for name in answers] if asked else given
    return Planned(scene, plan, choices(procedure, answers, said, plan, again) if compared else [])
