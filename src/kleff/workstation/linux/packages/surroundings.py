"""What the scripts of packages change beside their packages' own files."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from kleff.workstation.files.folders import real_folder
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.linux.account_records import ACCOUNT_FILES, GROUP_FILES
from kleff.workstation.package_facet import Surroundings
from kleff.workstation.paths import WPath
from kleff.workstation.programs.supervised import last_at_work

DATABASE = ("var", "lib", "dpkg", "info")
# What maintainer scripts change beside their package's own files (Debian policy 6, 9, 10.7.4, 11.6; deb-systemd-helper(1p), ucf(1)).
CHANGED_BY_SCRIPTS = (
    "/etc", "/var/lib/systemd/deb-systemd-helper-enabled", "/var/lib/systemd/deb-systemd-helper-masked",
    "/var/lib/systemd/deb-systemd-user-helper-enabled", "/var/lib/systemd/deb-systemd-user-helper-masked", "/var/lib/dpkg/alternatives",
    "/var/lib/dpkg/diversions", "/var/lib/dpkg/statoverride", "/var/lib/dpkg/triggers/File", "/var/lib/ucf", "/var/lib/apt/extended_states",
    "/var/lib/shells.state", "/var/lib/shells.d", "/var/spool/cron",
)  # fmt: skip
# What triggers make anew whenever packages come and go (deb-triggers(5)), the same content or another.
MADE_BY_TRIGGERS = (
    "/usr/share/applications/mimeinfo.cache", "/usr/share/info/dir",
    "/usr/share/glib-2.0/schemas/gschemas.compiled",
)  # fmt: skip
# The same, each file of it replaced by a new one, never written in place (update-mime-database(1)).
REPLACED_BY_TRIGGERS = ["/usr/share/mime"]
THEMES, CACHE = ("usr", "share", "icons"), "icon-theme.cache"  # of each theme (gtk-update-icon-cache(1))
ALTERNATIVES = ("var", "lib", "dpkg", "alternatives")
ACTED_ON = (("var", "log", "dpkg.log"), ("var", "lib", "dpkg", "status"), ("var", "lib", "dpkg", "updates"))

BY_NAME = [f"/etc/{name}{old}" for name in (*ACCOUNT_FILES, *GROUP_FILES) for old in ("", "-")]
SILENT = 60 * 10**9  # ns that a script may work without a word


def surroundings(files: FileTree) -> Surroundings:
    """All of it, whether it is there or not."""
    folder = WPath(files.style, "", DATABASE)
    lists = [f"/{'/'.join(DATABASE)}/{name}" for name in files.names(real_folder(files, folder)) if name.endswith(".list")]
    links = list(dict.fromkeys(_alternative_links(files)))
    themes = WPath(files.style, "", THEMES)
    copied = [*CHANGED_BY_SCRIPTS, *MADE_BY_TRIGGERS, *(str(themes.child(name, CACHE)) for name in files.names(real_folder(files, themes)))]
    folders = list(dict.fromkeys(place.rpartition("/")[0] for place in (*links, *copied)))
    return Surroundings(copied=copied, linked=[*lists, *REPLACED_BY_TRIGGERS], alone=[*filter(None, folders), *links], by_name=BY_NAME)


def _alternative_links(files: FileTree) -> Iterator[str]:
    """The links that stand for alternatives. The first paragraph of each file names them, after a line that says how it is chosen: the
    link, then name and link of each that follows it (update-alternatives(1), FILES).
    """
    top = real_folder(files, WPath(files.style, "", ALTERNATIVES))
    for name in files.names(top):
        with contextlib.suppress(OSError):
            text = files.read(top.child(name)).decode("utf-8", "surrogateescape")
            yield from (line for line in text.partition("\n\n")[0].splitlines()[1:] if line.startswith("/"))


def last_acted(files: FileTree, output: Path) -> int:
    """When a removal last did something, in ns: by what is noted of it, and by what it writes: into its output, dpkg's log and database.

    What dpkg wrote long after its output belongs to another call of it.
    """
    said = output.stat().st_mtime_ns if output.exists() else 0
    times = [said, last_at_work(output)]
    for names in ACTED_ON:
        with contextlib.suppress(OSError):
            look = files.look(WPath(files.style, "", names))
            times += [look.times[1]] if look is not None else []
    return max(times[1], *(time for time in times if time <= said + SILENT))
