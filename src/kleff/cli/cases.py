"""Opening a case together with its procedure and its workstation."""

from __future__ import annotations

from pathlib import Path

import msgspec

from kleff.case.record.folder import Case, check_belongs, open_case
from kleff.cli.common import other_procedures
from kleff.engine.kinds import model_table
from kleff.engine.scene import set_scene
from kleff.errors import DamagedCase
from kleff.objects.base import Scene
from kleff.procedure.conditions import Answer
from kleff.procedure.load import parse_procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.open import open_workstation


def case_workstation(case: Case, on: str | None = None) -> Workstation:
    """The workstation of a case.

    Raises:
        Refused: it is not the one the case was made on.
    """
    workstation = open_workstation(on or case.text("workstation"))
    check_belongs(case, workstation)
    return workstation


def scene_of(case: Case, workstation: Workstation) -> Scene:
    """The case's own copy of its procedure on its workstation."""
    procedure = parse_procedure(case.journal.get("procedure"), case.text("procedure_name"), model_table())
    library = Path(case.text("library")) if case.text("library") else None
    scene = set_scene(workstation, procedure, others=other_procedures(library, procedure), answers=_answers(case))
    scene.spare = case.text("spare") or scene.spare
    return scene


def case_scene(folder: Path, on: str | None = None) -> Scene:
    """The scene of a case that is only looked at."""
    with open_case(folder) as case:
        return scene_of(case, case_workstation(case, on))


def _answers(case: Case) -> dict[str, Answer]:
    """What was answered when the case was begun.

    Raises:
        DamagedCase: it cannot be read.
    """
    try:
        return msgspec.json.decode(case.text("answers") or "{}", type=dict[str, bool | str | list[str]])
    except msgspec.MsgspecError as error:
        raise DamagedCase(
            f"the answers cannot be read: {error}", where=str(case.folder), remedy="restore the case folder from a copy"
        ) from None
