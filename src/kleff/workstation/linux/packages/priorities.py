"""What the archive says of a package's priority, where the package itself says another.

apt never offers to remove what is `required` (apt(8), autoremove), and believes the archive. Kleff asks it without the archive's lists,
which takes a thirtieth of the time; so what differs is put into what it is asked with.
"""

from __future__ import annotations

import re
import subprocess
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from kleff.workstation.linux.packages.apt import within

REQUIRED = "required"
PATIENCE = 60


def archive_priorities(root: Path | None, environment: Mapping[str, str], versions: Mapping[str, str]) -> dict[str, str]:
    """Of packages in the very versions that are installed: the priority by the archive, where its lists have them.

    Args:
        versions: by name without architecture.
    """
    options = [word for option in within(root) for word in ("-o", option)]
    try:
        done = subprocess.run(
            ["apt-cache", *options, "show", "--", *versions], capture_output=True, env=environment, timeout=PATIENCE, check=False
        )
    except (OSError, subprocess.TimeoutExpired):
        return {}
    found: dict[str, str] = {}
    for paragraph in done.stdout.decode("utf-8", "replace").split("\n\n"):
        fields = dict(re.findall(r"^(Package|Version|Priority|Filename|Status):[ \t]*(\S+)", paragraph, re.MULTILINE))
        name = fields.get("Package", "")
        if "Filename" in fields and fields.get("Version") == versions.get(name):  # only what the archive says has a place there
            found.setdefault(name, fields.get("Priority", ""))
    return {name: priority for name, priority in found.items() if priority}


@contextmanager
def status_with(root: Path | None, priorities: Mapping[str, str]) -> Iterator[Path]:
    """A copy of the package database's status with other priorities; gone afterwards."""
    status = (root or Path("/")) / "var/lib/dpkg/status"
    paragraphs = status.read_text("utf-8", "surrogateescape").split("\n\n")
    with TemporaryDirectory(prefix="kleff-") as folder:
        Path(folder).chmod(0o755)
        made = Path(folder) / "status"
        made.write_text("\n\n".join(_changed(p, priorities) for p in paragraphs), "utf-8", "surrogateescape")
        made.chmod(0o644)
        yield made


def _changed(paragraph: str, priorities: Mapping[str, str]) -> str:
    name = re.search(r"^Package:[ \t]*(\S+)", paragraph, re.MULTILINE)
    priority = priorities.get(name[1]) if name else None
    return re.sub(r"^Priority:.*$", f"Priority: {priority}", paragraph, count=1, flags=re.MULTILINE) if priority else paragraph


def differing(found: Mapping[str, str], own: Mapping[str, str]) -> dict[str, str]:
    """Those that the archive does not call required though they do themselves."""
    return {name: priority for name, priority in found.items() if own.get(name) == REQUIRED and priority != REQUIRED}


def suspects(own: Mapping[str, str], brought: Collection[str]) -> list[str]:
    """The packages of which it matters: brought in for others, and required by what they say themselves."""
    return [name for name, priority in own.items() if priority == REQUIRED and name in brought]
