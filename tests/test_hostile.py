"""An ordinary account works against an administrator's Kleff: nothing outside is read into a bag, moved, changed or deleted."""

from __future__ import annotations

import base64
import json
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from killing import run_until
from support import IS_ROOT, differences, lasting, linux_tree, procedure, tree, write

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: two accounts, one of them an administrator")
SECONDS = float(os.environ.get("KLEFF_HOSTILE_SECONDS", "6"))

# Exchanges a folder of the product with a link to somewhere else, as fast as it can; says at its end how often.
SWAPPER = """
import ctypes, os, signal, sys
swap = ctypes.CDLL(None).renameat2
cases, pairs = sys.argv[1], [(os.fsencode(a), os.fsencode(b)) for a, b in zip(sys.argv[2::2], sys.argv[3::2])]
stop = []
signal.signal(signal.SIGTERM, lambda *_: stop.append(1))
print("swapping", flush=True)
count = 0
while not stop:
    if cases and not (os.path.isdir(cases) and os.listdir(cases)):
        continue   # lies in wait until the preview is over
    for _ in range(50):
        for a, b in pairs * 2:   # twice each: between the turns everything is as it was
            count += swap(-100, a, -100, b, 2) == 0   # RENAME_EXCHANGE
print(count)
"""


@contextmanager
def swapping(cases: str, *pairs: tuple[Path, Path]) -> Iterator[list[int]]:
    """While inside, the pairs are exchanged all the time (while there is a case, if `cases` is given); then the list holds how often."""
    words = [cases, *(str(p) for pair in pairs for p in pair)]
    child = subprocess.Popen([sys.executable, "-c", SWAPPER, *words], stdout=subprocess.PIPE, text=True)
    assert child.stdout is not None
    assert child.stdout.readline() == "swapping\n"
    count: list[int] = []
    try:
        yield count
    finally:
        child.send_signal(signal.SIGTERM)
        count.append(int(child.communicate(timeout=20)[0]))


def bench(tmp_path: Path) -> tuple[Path, Path]:
    """A tree with a product in mira's home, and things outside it that must never be touched."""
    top = linux_tree(tmp_path / "tree")
    outside = top / "srv/precious"
    for number in range(20):
        write(outside / f"deep/secret{number}", f"secret {number}", mode=0o600)
    write(top / "etc/brindlewort-secret", "root's own", mode=0o600)
    home = top / "home/mira"
    for number in range(30):
        write(home / f".cache/studio/a/b/file{number}", f"cache {number}")
        write(home / f".config/studio/x/file{number}", f"config {number}")
    (home / "evil-a").symlink_to("/srv/precious")
    (home / "evil-b").symlink_to("../../../srv/precious/deep")
    (home / "evil-c").symlink_to("/srv")
    for path in [home, *home.rglob("*")]:
        os.chown(path, 1001, 1001, follow_symlinks=False)
    return top, outside


STEPS = """
[[backup]]
label = "settings"
optional = true
paths = ['{user.home}/.config/studio', '{user.home}/.cache/studio/**']
[[delete]]
optional = true
paths = ['{user.home}/.config/studio']
[[delete]]
optional = true
paths = ['{user.home}/.cache/studio/a/b']
[[delete]]
optional = true
paths = ['{user.home}/.cache/studio/a/*']
"""


@pytest.mark.parametrize("after_preview", [False, True], ids=["always", "after the preview"])
def test_folders_swapped_for_links_all_the_time(tmp_path: Path, after_preview: bool) -> None:
    """During preview, run, undo and discard: what is outside is neither read, moved, changed nor deleted."""
    top, outside = bench(tmp_path)
    home = top / "home/mira"
    file = procedure(tmp_path / "p.toml", STEPS)
    before, secret = tree(outside), tree(top / "etc")
    cases, log = tmp_path / "cases", tmp_path / "log"
    pairs = [
        (home / ".cache/studio", home / "evil-a"),
        (home / ".config/studio", home / "evil-b"),
        (home / ".cache/studio/a", home / "evil-c"),
    ]
    ended: dict[int, int] = {}
    with swapping(str(cases) if after_preview else "", *pairs) as swaps:
        for rounds in lasting(SECONDS, at_least=5):
            words = ["run", str(file), "--on", f"root:{top}", "--yes", "--quiet", "--cases", str(cases)]
            code = run_until(words, 0, False, log)[0]
            ended[code] = ended.get(code, 0) + 1
            assert differences(before, tree(outside)) == [], f"round {rounds}, code {code}"
            for case in sorted(cases.iterdir()) if cases.exists() else []:
                look_into(case, top)
                verb = "discard" if rounds % 4 == 3 else "undo"
                for _ in range(30):
                    if run_until([verb, str(case), "--yes", "--quiet"], 0, False, log)[0] in (0, 3):
                        break
                else:
                    run_until(["undo", str(case), "--yes", "--quiet"], 0, False, log)
                assert differences(before, tree(outside)) == [], f"{verb} in round {rounds}"
                shutil.rmtree(case)
            shutil.rmtree(top / "var/lib/kleff", ignore_errors=True)
    assert differences(secret, tree(top / "etc")) == []
    assert "Traceback" not in log.read_text(errors="replace"), log.read_text(errors="replace")[-3000:]
    assert set(ended) <= {0, 1, 3, 4}, ended
    assert swaps[0] > 30_000, (rounds, swaps)
    print(f"{swaps[0]:,} swaps, {rounds} rounds, ended {ended}")


def look_into(case: Path, top: Path) -> None:
    """Nothing from outside is in a bag or in the set-aside area."""
    for index in case.glob("bag/data/*.index.json"):
        for member in json.loads(index.read_text()).get("members", []):
            assert b"secret" not in base64.b64decode(member["path_b64"]), member
    aside = top / ".kleff"
    assert not [p for p in aside.rglob("*") if "secret" in p.name or p.name == "precious"] if aside.exists() else True
