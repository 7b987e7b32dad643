"""Whether a file or folder can be trusted: nobody but an administrator could have changed it."""

from __future__ import annotations

from pathlib import Path

from kleff.errors import Refused
from kleff.workstation.facets import Workstation
from kleff.workstation.this_machine import host


def check_trusted(path: Path, what: str, workstation: Workstation, better: Path | None = None) -> None:
    """As administrator, trust only what nobody else can change, in folders nobody else can change.

    It need not be safer than the workstation itself: where others can change the very folder that is the workstation
    (a person's own lab), nothing is asked of the rest.

    A volume that knows no rights, such as most sticks have, can be changed by everybody.

    Args:
        better: where it would be safe; the usual place for cases if that is not said.

    Raises:
        Refused: naming the folder or file.
    """
    weak = host().weak_spot(path)
    if weak is not None and host().weak_spot(workstation.ground) is None:
        raise Refused(
            f"others than an administrator can change {what}", where=str(weak),
            remedy=f"keep it where only administrators can write, such as {better or host().places().cases}",
        )  # fmt: skip


def standing(cases: Path) -> Path:
    """The folder for cases, or the nearest above it that is there.

    Raises:
        Refused: none is; there is no such drive.
    """
    whole = cases.absolute()
    for folder in (whole, *whole.parents):
        if folder.exists():
            return folder
    raise Refused("there is no such drive", where=str(cases), remedy="name another folder with --cases")
