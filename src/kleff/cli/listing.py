"""One line of `kleff list`."""

from __future__ import annotations

from pathlib import Path

from kleff.engine.library import load
from kleff.engine.survey import evidence_of
from kleff.engine.systems import meant_for
from kleff.errors import KleffError, ProcedureError
from kleff.objects.base.here import Options
from kleff.report.documents import ListedProcedure
from kleff.workstation.facets import Workstation


def listed(file: Path, workstation: Workstation, options: Options) -> ListedProcedure:
    """Look at one procedure of the library: valid, and is its product here?"""
    try:
        procedure = load(file)
    except ProcedureError as error:
        return ListedProcedure(file=str(file), id=file.stem, name=str(error.problems[0]), versions="", valid=False, present=None, found=[])
    product = procedure.product
    if meant_for(procedure) and workstation.system not in meant_for(procedure):
        return ListedProcedure(
            file=str(file), id=product.id, name=product.name, versions=product.versions, valid=True, present=None, found=[],
            other_system=True,
        )  # fmt: skip
    try:
        found = evidence_of(procedure, workstation, options)
    except (KleffError, OSError):
        return ListedProcedure(
            file=str(file), id=product.id, name=product.name, versions=product.versions, valid=True, present=None, found=[]
        )
    return ListedProcedure(
        file=str(file),
        id=product.id,
        name=product.name,
        versions=product.versions,
        valid=True,
        present=any(s.in_range and not s.unreadable for s in found),
        found=sorted({s.version for s in found if s.version}),
    )
