"""Starting a Linux workstation anew, and keeping it awake."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.calling import ENVIRONMENT
from kleff.workstation.linux.services import run_quickly
from kleff.workstation.system_facet import AFAR

ENDING = 5.0  # seconds
MAPPED = Path("/sys/block")  # dm-crypt names its devices so (dm/uuid, kernel's device-mapper)
INHIBIT = ["systemd-inhibit", "--what=idle:sleep", "--who=kleff", "--why=a product is being removed", "cat"]  # systemd-inhibit(1)


class LinuxBoots:
    """Implements `Boots`."""

    def restart(self) -> None:
        done = run_quickly(["systemctl", "reboot"], ENVIRONMENT)
        if done.returncode:
            raise ActionFailed(f"the system does not restart: {done.stderr.strip()}", remedy="restart it by hand, then resume")

    def prompts(self) -> list[str]:
        encrypted = any(_starts(file, "CRYPT-") for file in MAPPED.glob("dm-*/dm/uuid"))
        told = ["a drive is encrypted: it may ask for a key before it has started"] if encrypted else []
        return told + ([AFAR] if os.environ.get("SSH_CONNECTION") else [])

    @contextmanager
    def awake(self) -> Iterator[None]:
        """A program of the system's holds it awake until it reads the end of its input, also if Kleff is killed."""
        program = shutil.which(INHIBIT[0], path=ENVIRONMENT["PATH"])
        if program is None or os.geteuid() != 0:
            yield
            return
        null = subprocess.DEVNULL
        holder = subprocess.Popen(
            [program, *INHIBIT[1:]], stdin=subprocess.PIPE, stdout=null, stderr=null, env=ENVIRONMENT, start_new_session=True
        )
        assert holder.stdin is not None
        try:
            yield
        finally:
            holder.stdin.close()
            try:
                holder.wait(ENDING)
            except subprocess.TimeoutExpired:  # as where nothing answers on the system's bus
                holder.kill()
                holder.wait()


def _starts(file: Path, text: str) -> bool:
    try:
        return file.read_text("ascii", "replace").startswith(text)
    except OSError:
        return False
