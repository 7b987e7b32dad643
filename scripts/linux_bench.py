"""A Linux workstation of Alder Row Nursery in a folder, for pictures: the print bridge with what it brought, a neighbour, and leftovers.

    python scripts/linux_bench.py FOLDER

As root; needs dpkg. Writes FOLDER/potting-03 (the tree) and FOLDER/bridge.toml.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from debs import build_one, dpkg, used_for_a_while
from support import linux_tree, write

# name: (version, what it needs, brought in for another, KiB, description)
PACKAGES = {
    "libbrindle1": ("1.4-2", "", True, 640, "labels and their printers, library"),
    "libsoilprobe0": ("0.9-1", "", True, 128, "reads the soil probe"),
    "brindlewort-fonts": ("3.0-1", "", True, 5210, "fonts for labels"),
    "brindlewort-bridge": ("4.2.0-1", "libbrindle1, libsoilprobe0, brindlewort-fonts", False, 2048, "print bridge for plant labels"),
    "brindlewort-suite": ("4.2.0-1", "brindlewort-bridge", False, 4, "everything of Brindlewort's (metapackage)"),
    "brindlewort-themes": ("1.1-1", "brindlewort-bridge", False, 90, "themes for the print bridge"),
    "rakeworks-count": ("2.1-1", "brindlewort-fonts", False, 300, "stocktake, needs the fonts too"),
    "liboldbeds0": ("0.3-4", "", True, 1100, "library of a product that was removed last year"),
    "liboldrows2": ("2.0-1", "liboldbeds0", True, 410, "rows of beds, for the same product"),
    "rakeworks-icons": ("1.0-3", "", True, 8300, "pictures for stocktake"),
}
PROCEDURE = """format = 1
[product]
id = "print-bridge"
name = "Brindlewort print bridge"
vendor = "Brindlewort"
[[evidence]]
package = "brindlewort-bridge"
[[backup]]
label = "queue"
paths = ["/var/lib/brindlewort-bridge"]
[[purge]]
package = ["brindlewort-suite", "brindlewort-bridge"]
allows = ["brindlewort-themes"]
came_along = "these"
[[delete]]
label = "state and logs"
paths = ["/var/lib/brindlewort-bridge", "/var/log/brindlewort-bridge", "/etc/brindlewort-bridge"]
[[delete]]
units_of = "brindlewort-bridge"
[[delete]]
label = "its name"
lines = "bridge.brindlewort.example"
in_file = "/etc/hosts"
[[delete]]
label = "dot-folders"
paths = ["{user.home}/.brindlewort"]
[[delete]]
account = "tagbridge"
"""
HISTORY = """
Start-Date: 2026-03-02  09:14:11
Commandline: apt-get install brindlewort-suite
Install: libbrindle1:all (1.4-2, automatic), libsoilprobe0:all (0.9-1, automatic), brindlewort-fonts:all (3.0-1, automatic), brindlewort-suite:all (4.2.0-1), liboldbeds0:all (0.3-4, automatic)
End-Date: 2026-03-02  09:14:20

Start-Date: 2026-05-18  16:40:02
Commandline: apt-get install rakeworks-count
Install: rakeworks-count:all (2.1-1), rakeworks-icons:all (1.0-3, automatic), liboldrows2:all (2.0-1, automatic)
End-Date: 2026-05-18  16:40:09
"""  # noqa: E501


def build(folder: Path) -> list[Path]:
    made = []
    for name, (version, needs, _, kib, told) in PACKAGES.items():
        source = folder / name
        write(source / f"usr/share/doc/{name}/copyright", "made up")
        if name != "brindlewort-suite":
            write(source / f"usr/lib/{name}/part.so", name)
        more = f"Installed-Size: {kib}\nSection: misc\n" + (f"Depends: {needs}\n" if needs else "")
        made.append(build_one(source, name, version, more, told))
    return made


def main() -> None:
    folder = Path(sys.argv[1])
    top = linux_tree(folder / "potting-03")
    with tempfile.TemporaryDirectory() as debs:
        dpkg(top, "-i", *build(Path(debs)))
    brought = "".join(f"Package: {n}\nArchitecture: all\nAuto-Installed: 1\n\n" for n, told in PACKAGES.items() if told[2])
    write(top / "var/lib/apt/extended_states", brought)
    write(top / "var/log/apt/history.log", HISTORY)
    used_for_a_while(top, 1001)
    write(top / "etc/hostname", "potting-03\n")
    write(top / "etc/hosts", "127.0.0.1 localhost\n10.0.0.5 bridge.brindlewort.example\n10.0.0.9 till.alder-row.example\n")
    write(top / "etc/systemd/system/brindlewort-bridge.service.d/nice.conf", "[Service]\nNice=5\n")
    for file, line in (("passwd", "tagbridge:x:105:110:::/usr/sbin/nologin\n"), ("group", "tagbridge:x:110:mira\n")):
        path = top / "etc" / file
        path.write_text((path.read_text() if path.exists() else "root:x:0:\n") + line)
    (folder / "bridge.toml").write_text(PROCEDURE)


if __name__ == "__main__":
    main()
