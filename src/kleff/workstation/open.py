"""From `this`, `root:FOLDER` or `lab:FOLDER` to a workstation. Only the system that is named is loaded."""

from __future__ import annotations

import sys
from pathlib import Path

from kleff.errors import NoSuchWorkstation
from kleff.workstation.facets import Workstation


def open_workstation(spec: str) -> Workstation:
    """Open the workstation a technician named.

    Raises:
        NoSuchWorkstation: not a workstation, or it cannot be used.
    """
    kind, _, folder = spec.partition(":")
    remedy = "use  this,  root:FOLDER  or  lab:FOLDER"
    if kind == "lab" and folder:
        from kleff.workstation.lab.workstation import open_lab

        return open_lab(Path(folder).absolute(), loads=True)
    if spec == "this" and sys.platform == "win32":
        from kleff.workstation.windows.host.this import open_this as open_this_windows

        return open_this_windows()
    if spec == "this" or (kind == "root" and folder):
        if not sys.platform.startswith("linux"):
            raise NoSuchWorkstation("not on this system", where=spec, remedy="use  this  or  lab:FOLDER")
        from kleff.workstation.linux.workstation import open_root, open_this

        return open_this() if spec == "this" else open_root(Path(folder))
    raise NoSuchWorkstation("not a workstation", where=spec, remedy=remedy)
