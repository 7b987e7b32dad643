"""What a shell script sets: the one thing for which a shell is used, with nothing in its hands."""

from __future__ import annotations

import os
import resource
import shutil
import signal
import subprocess

from kleff.errors import ActionFailed
from kleff.workstation.linux.packages.calling import ENVIRONMENT

PATIENCE = 5  # seconds
MOST = 4096  # bytes that are read of a variable
NOBODY = "65534"  # Debian policy 9.2.2
MEMORY = 256 << 20
# $1 is the script, $2 the variable; what the script itself says goes nowhere.
ASKED = '. "$1" </dev/null >/dev/null 2>&1; eval "printf %s \\"\\${$2-}\\""'
ALONE = ["unshare", "--net", "--pid", "--fork", "--kill-child", "--"]  # what it leaves running ends with it
AS_NOBODY = ["setpriv", f"--reuid={NOBODY}", f"--regid={NOBODY}", "--clear-groups", "--no-new-privs", "--"]


def variable_of(script: str, variable: str) -> str:
    """What a variable holds once a script was sourced by a clean `sh` (POSIX, Shell Command Language, `.`): as an account that owns
    nothing where Kleff is an administrator, without network where the system lets it, five seconds at most.

    Raises:
        ActionFailed: it does not end, or cannot be asked so.
    """
    asked = ["/bin/sh", "-c", ASKED, "sh", script, variable]
    if os.geteuid() == 0:
        if shutil.which("setpriv", path=ENVIRONMENT["PATH"]) is None:
            raise ActionFailed("setpriv is not installed, and it is not sourced as an administrator")
        asked = [*AS_NOBODY, *asked]
        if _may(ALONE):
            asked = [*ALONE, *asked]
    environment = {"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8", "HOME": "/nonexistent"}
    with subprocess.Popen(
        asked, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=environment, cwd="/",
        start_new_session=True, preexec_fn=_limit,
    ) as process:  # fmt: skip
        try:
            said, _ = process.communicate(timeout=PATIENCE)
        except subprocess.TimeoutExpired:
            raise ActionFailed(f"{script} has not ended after {PATIENCE} s") from None
        finally:
            _end(process.pid)
    return said[:MOST].decode("utf-8", "replace").replace("\0", "")


def _may(words: list[str]) -> bool:
    try:
        done = subprocess.run([*words, "true"], env=ENVIRONMENT, capture_output=True, timeout=PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return False
    return done.returncode == 0


def _limit() -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (PATIENCE, PATIENCE))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))


def _end(session: int) -> None:
    """The shell, and whatever it has started."""
    try:
        os.killpg(session, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        return
