"""What a Linux workstation does by itself once it was restarted: one unit of systemd's, which takes itself away (systemd.service(5))."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.linux.services import run_quickly
from kleff.workstation.posix.calls import write_atomic

NAME = "kleff-resume.service"
FOLDER = Path("/etc/systemd/system")
WANTS = FOLDER / "multi-user.target.wants"
MARK = "# Placed by kleff for one restart; it takes this away again.\n"
TEXT = (
    MARK
    + """[Unit]
Description={title}
After=local-fs.target dbus.service systemd-user-sessions.service
[Service]
Type=oneshot
ExecStart={command}
StandardInput=null
TimeoutStartSec=infinity
[Install]
WantedBy=multi-user.target
"""
)


class SystemdAfterRestart:
    """Implements `AfterRestart`."""

    def arrange(self, title: str, words: Sequence[str]) -> None:
        if (FOLDER / NAME).exists() and not self._ours():
            raise ActionFailed(f"{FOLDER / NAME} is there, and not Kleff's", remedy="look at it; then resume by hand after the restart")
        text = TEXT.format(title=title.replace("%", "%%"), command=" ".join(map(_quoted, words)))
        write_atomic(FOLDER / NAME, text.encode("utf-8", "surrogateescape"), 0o644)
        WANTS.mkdir(exist_ok=True)
        with contextlib.suppress(FileExistsError):
            (WANTS / NAME).symlink_to(FOLDER / NAME)

    def cancel(self) -> None:
        if not self._ours():
            return
        for file in (WANTS / NAME, FOLDER / NAME):
            file.unlink(missing_ok=True)
        run_quickly(["systemctl", "daemon-reload"], ENVIRONMENT)

    def _ours(self) -> bool:
        file = FOLDER / NAME
        return file.is_file() and file.read_text("utf-8", "replace").startswith(MARK)


def _quoted(word: str) -> str:
    """A word of a command line in a unit (systemd.service(5), Command lines)."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"'
