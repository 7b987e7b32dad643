"""What apt has written down of its installations: /var/log/apt/history.log and its older parts (apt.conf(5), Dir::Log::History)."""

from __future__ import annotations

import gzip
import re
import zlib

from kleff.workstation.files.folders import real_folder
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath
from kleff.workstation.things import Installed

FOLDER = ("var", "log", "apt")
NAME = re.compile(r"history\.log(?:\.\d+(?:\.gz)?)?\Z")
MOST = 1 << 24  # bytes of one part
# One package of a list: its name and architecture, and in brackets its version, and whether it was brought in for another.
ENTRY = re.compile(r"([a-z0-9][a-z0-9+.-]*)(?::[\w-]+)? \(([^)]*)\)")


def history(files: FileTree) -> dict[str, Installed]:
    """The last installation of each package that is still written down."""
    found: dict[str, Installed] = {}
    folder = real_folder(files, WPath(files.style, "", FOLDER))
    for name in sorted(filter(NAME.match, files.names(folder)), key=_age, reverse=True):  # the oldest first
        for paragraph in _text(files, folder.child(name)).split("\n\n"):
            for package, installed in _installed(paragraph):
                found[package] = installed
    return found


def _age(name: str) -> int:
    number = re.search(r"\.(\d+)", name)
    return int(number[1]) if number else 0


def _text(files: FileTree, path: WPath) -> str:
    try:
        data = files.read(path, MOST)
        return (gzip.decompress(data) if path.name.endswith(".gz") else data).decode("utf-8", "replace")
    except (OSError, EOFError, zlib.error):  # what cannot be read tells nothing
        return ""


def _installed(paragraph: str) -> list[tuple[str, Installed]]:
    fields = dict(re.findall(r"^([\w-]+): (.*)$", paragraph, re.MULTILINE))
    entries = [(name, "automatic" in told.split(", ")) for name, told in ENTRY.findall(fields.get("Install", ""))]
    asked = [name for name, automatic in entries if not automatic]
    when = "T".join(fields.get("Start-Date", "").split())
    return [(name, Installed(when=when, command=fields.get("Commandline", ""), with_=asked)) for name, _ in entries]
