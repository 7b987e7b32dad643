"""Package files that apt has kept (apt-get(8), Dir::Cache::Archives): the very versions, to be installed again."""

from __future__ import annotations

import os
import re
import stat
import subprocess
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import quote

from kleff.workstation.things import PackageRecord

FOLDER = "var/cache/apt/archives"
PATIENCE = 60


def archive_of(root: Path | None, environment: Mapping[str, str], record: PackageRecord) -> Path | None:
    """The file of exactly this package; None if it is not kept, is another version, or others than an administrator can change it; and
    if configuration files of the package were changed, which only a package that is built for that brings back as they were.
    """
    if any(c.changed or c.obsolete for c in record.config_files):
        return None  # dpkg would put the package's own version beside the changed one, for ever
    found = re.search(r"^Architecture:[ \t]*(\S+)", record.control, re.MULTILINE)
    name, architecture = record.name.partition(":")[0], found[1] if found else "all"
    file = (root or Path("/")) / FOLDER / f"{name}_{quote(record.version, safe='.+~-')}_{architecture}.deb".replace("%3A", "%3a")
    try:
        status = os.lstat(file)
    except OSError:
        return None
    if not stat.S_ISREG(status.st_mode) or status.st_uid != 0 or status.st_mode & 0o022:
        return None
    form = "--showformat=${Package}\t${Version}\t${Architecture}"
    try:
        done = subprocess.run(["dpkg-deb", "--show", form, "--", file], env=environment, capture_output=True, timeout=PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return None
    same = done.returncode == 0 and done.stdout.decode("utf-8", "replace") == f"{name}\t{record.version}\t{architecture}"
    return file if same else None
