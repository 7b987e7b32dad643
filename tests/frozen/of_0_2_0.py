"""Makes the frozen cases of 0.2.0:  PYTHON_OF_THAT_RELEASE of_0_2_0.py FOLDER

As `of_0_1_0.py`; here on the demo's workstation with its drivers, list items, files in use and registry steps, and on packages with
what is set about them.
"""

from __future__ import annotations

import os
import shutil
import stat
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent))

from making import Work, freeze
from of_0_1_0 import PROCEDURE, TREE_PROCEDURE, make_lab

from debs import build, dpkg, used_for_a_while
from kleff.workstation.lab.demo_workstation import build_demo_workstation
from support import linux_tree, write

SAMPLE = Path(__file__).parent.parent.parent / "src/kleff/samples/tag-studio.toml"
SLOW = PROCEDURE.replace("RESTART", "").replace('patience = "20s"', 'patience = "2s"')
# Everything that is set about a package beside its files.
SET = TREE_PROCEDURE.replace('"libbrindle1"]', '"libbrindle1", "brindlewort-stocktake"]\neven_if_held = true')


def make_demo(folder: Path) -> None:
    """The demo's workstation, with content that packs well."""
    build_demo_workstation(folder, rich=True, held=True)
    for path in (folder / "files").rglob("*"):
        status = path.lstat()
        if stat.S_ISREG(status.st_mode) and status.st_size > 300 and path.suffix != ".lnk":
            path.write_bytes((b"Brindlewort " * status.st_size)[: status.st_size])
            os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def demo(folder: Path) -> Work:
    return Work(folder, SAMPLE.read_text(), make_demo)


def make_slow_lab(folder: Path) -> None:
    make_lab(folder)
    text = (folder / "lab.toml").read_text()
    assert text.count("takes = 0.1") == 1
    (folder / "lab.toml").write_text(text.replace("takes = 0.1", "takes = 5.0"))


def make_set_tree(folder: Path) -> None:
    """Packages that are held, brought in for others, with a file that gives way to another's, an owner that is set, a changed file."""
    top = linux_tree(folder)
    dpkg(top, "-i", *build(folder.parent / "debs", scripts=False))
    shutil.rmtree(folder.parent / "debs")
    used_for_a_while(top, 1001)
    write(top / "etc/brindlewort-bridge/bridge.conf", "listen = 0.0.0.0\n")
    dpkg(top, "--set-selections", said="brindlewort-bridge hold\n")
    write(top / "var/lib/apt/extended_states", "Package: libbrindle1\nArchitecture: all\nAuto-Installed: 1\n\n")
    with (top / "var/lib/dpkg/statoverride").open("a") as file:
        file.write("root daemon 2755 /usr/bin/tagbridge\n")
    (top / "usr/bin/tagbridge").chmod(0o2755)


def main(out: Path) -> None:
    out.mkdir(exist_ok=True)
    top = Path(tempfile.mkdtemp(prefix="frozen-", dir="/root"))

    def made(name: str, work: Callable[[Path], Work], do: Callable[[Work], Any]) -> None:
        one = work(top / name)
        do(one)
        freeze(name, one, out)

    def all_of_it(work: Work) -> None:
        work.run(code=5)
        work.restart()
        done = work("resume", work.case())
        assert done.returncode in (0, 4), done.stderr

    def undone(work: Work) -> None:
        all_of_it(work)
        work("undo", work.case(), "--yes")

    def half_undone(work: Work, write: int) -> None:
        all_of_it(work)
        work.killed("undo", work.case(), "--yes", write=write)

    def cut_after_restart(work: Work) -> None:
        work.run(code=5)
        work.restart()
        work.killed("resume", work.case(), write=7)

    def patience_over(work: Work) -> None:
        work.run(code=1)
        time.sleep(5)  # it ends by itself, when nobody looks any more

    def tree(folder: Path) -> Work:
        return Work(folder, SET, make_set_tree, tree=True)

    def slow(folder: Path) -> Work:
        work = Work(folder, SLOW, make_slow_lab)
        work.confirmed = ("probe",)
        return work

    def small(folder: Path) -> Work:
        work = Work(folder, PROCEDURE.replace("RESTART", ""), make_lab)
        work.confirmed = ("probe",)
        return work

    def back(work: Work) -> None:
        work.run()
        work.killed("undo", work.case(), "--yes", write=4)

    made("demo-waiting", demo, lambda w: w.run(code=5))
    made("demo-finished", demo, all_of_it)
    made("demo-undone", demo, undone)
    made("demo-half-undone-12", demo, lambda w: half_undone(w, 12))
    for at in (9, 60, 90):
        made(f"demo-killed-{at}", demo, lambda w, at=at: w.killed(*w.run_words(), write=at))  # type: ignore[misc]
    made("demo-killed-after-restart", demo, cut_after_restart)
    made("patience-over", slow, patience_over)
    made("locked", small, lambda w: w.run("--passphrase"))
    made("locked-killed", small, lambda w: w.killed(*w.run_words("--passphrase"), write=12))
    made("set-packages", tree, lambda w: w.run())
    for at in (10, 12, 14, 16):
        made(f"set-packages-killed-{at}", tree, lambda w, at=at: w.killed(*w.run_words(), write=at))  # type: ignore[misc]
    made("set-packages-half-undone", tree, back)
    shutil.rmtree(top)


if __name__ == "__main__":
    main(Path(sys.argv[1]))
