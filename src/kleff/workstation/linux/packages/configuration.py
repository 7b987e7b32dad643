"""What dpkg remembers of the configuration files that a package brought (dpkg-query(1), Conffiles).

A package that is built anew has no content of a file that somebody has changed, so dpkg would take that of a stand-in for what the
package had brought, and ask at the next new version where it needs not to; one that the package does not bring any more it would forget.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from kleff.errors import ActionFailed
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.packages.marks import write_anew
from kleff.workstation.paths import WPath
from kleff.workstation.things import PackageRecord

STATUS = ("var", "lib", "dpkg", "status")
FIELD = re.compile(r"^Conffiles:\n(?: .*\n?)*", re.MULTILINE)
LARGEST = 1 << 28  # bytes


def remember_again(files: FileTree, records: Sequence[PackageRecord]) -> None:
    """Write what was recorded of the configuration files of packages that are back. The caller holds the package manager's locks.

    Raises:
        ActionFailed: it cannot be written.
    """
    path = WPath(files.style, "", STATUS)
    wanted = {_key(r.control, r.name): r for r in records if any(c.said for c in r.config_files)}
    if not wanted:
        return
    try:
        text = files.read(path, LARGEST).decode("utf-8", "surrogateescape")
        paragraphs = text.split("\n\n")
        settled = [_settled(p, wanted.get(_key(p))) for p in paragraphs]
        if settled != paragraphs:
            write_anew(files, path, "\n\n".join(settled), 0o644)
    except OSError as error:
        raise ActionFailed(
            f"what dpkg knows of configuration files cannot be written: {error.strerror}", remedy="see  dpkg --verify"
        ) from None


def _key(paragraph: str, name: str = "") -> tuple[str, str]:
    """Name and architecture."""
    told = dict(re.findall(r"^(Package|Architecture):\s*(.*)$", paragraph, re.MULTILINE))
    return told.get("Package", name.partition(":")[0]), told.get("Architecture", "")


def _settled(paragraph: str, record: PackageRecord | None) -> str:
    if record is None or f"Version: {record.version}\n" not in f"{paragraph}\n":
        return paragraph
    field = "Conffiles:\n" + "".join(f" {c.path} {c.said}\n" for c in record.config_files)
    ending = "" if paragraph.endswith("\n") else "\n"
    if FIELD.search(paragraph + ending):
        whole = FIELD.sub(lambda match: field, paragraph + ending, count=1)
    else:  # dpkg writes it before the description (dpkg's own order of fields)
        whole = re.sub(r"^(?=Description:)", lambda match: field, paragraph + ending, count=1, flags=re.MULTILINE)
    return whole.removesuffix("\n") if ending else whole
