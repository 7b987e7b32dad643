"""A folder of procedures, one file per product."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from kleff.case.record.trust import check_trusted
from kleff.errors import ProcedureError
from kleff.objects.base.known import model_table
from kleff.procedure.load import load_procedure, parse_procedure
from kleff.procedure.loaded import RULES, Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host


def load(file: Path) -> Procedure:
    """Load a procedure file, with all kinds of object that are known.

    Raises:
        ProcedureError: it is not valid.
    """
    return load_procedure(file, model_table())


def parse(raw: bytes, name: str, rules: int = RULES) -> Procedure:
    """The same for bytes already read; the copy of a case by the rules it was begun under.

    Raises:
        ProcedureError: it is not valid.
    """
    return parse_procedure(raw, name, model_table(), rules)


@dataclass(frozen=True)
class Library:
    """The procedures of a folder; it need not be there."""

    folder: Path

    def find(self, name: str) -> Path:
        """The file of a procedure named by its path or its id.

        Raises:
            ProcedureError: there is none.
        """
        path = Path(name)
        if path.suffix == ".toml" or os.sep in name or path.exists():
            return path
        found = self.folder / f"{name}.toml"
        if not found.is_file():
            raise ProcedureError(
                [f"{name}: neither a file nor a procedure of the library ({self.folder})"],
                remedy="name the file, or the library with --library",
            )
        return found

    def files(self) -> list[Path]:
        """Every procedure file, in order."""
        return sorted(self.folder.glob("*.toml")) if self.folder.is_dir() else []

    def others(self, procedure: Procedure) -> list[Procedure]:
        """The rest of the library; one that is not valid claims nothing."""
        found = []
        for file in self.files():
            try:
                found.append(load(file))
            except ProcedureError:
                continue  # the list of procedures says so
        return [other for other in found if other.product.id != procedure.product.id]

    def check_sources(self, file: Path, workstation: Workstation) -> None:
        """Refuse a procedure or a library that another account could have written.

        Raises:
            Refused: naming the file or folder.
        """
        check_trusted(file, "the procedure", workstation, host().places().library)
        if self.folder.is_dir():
            check_trusted(self.folder, "the library", workstation, host().places().library)
