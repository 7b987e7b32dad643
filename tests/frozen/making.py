"""What makes a frozen case: a workstation in a folder, the release's own program, and what each command that can follow comes to."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent))

from moving import pack, settle, state, unpack

from killing import run_until

GIVEN = {"KLEFF_SECRET_PASSPHRASE_OF_THE_BAG": "three beds of sage", "KLEFF_SECRET_DATABASE_PASSWORD": "plum"}
FOLLOW: dict[str, list[list[str]]] = {
    "open": [["resume"], ["undo", "--yes"]],
    "waiting": [["lab"], ["undo", "--yes"]],
    "undoing": [["undo", "--yes"]],
    "finished": [["undo", "--yes"], ["discard", "--yes"], ["verify"], ["restore", "--dry-run"], ["undo", "--yes", "--only", "keys"]],
    "undone": [["discard", "--yes"]],
    "discarded": [["restore", "--dry-run"]],
}


class Work:
    """One frozen file in the making: `make` puts a workstation into `lab` or `tree` below the folder."""

    confirmed: tuple[str, ...] = ()

    def __init__(self, folder: Path, procedure: str, make: Callable[[Path], None], tree: bool = False) -> None:
        self.folder, self.tree = folder, tree
        folder.mkdir()
        make(folder / ("tree" if tree else "lab"))
        self.procedure = folder / "procedure.toml"
        self.procedure.write_text(procedure)
        self.before = state(folder)

    @property
    def spec(self) -> str:
        return f"root:{self.folder / 'tree'}" if self.tree else f"lab:{self.folder / 'lab'}"

    def words(self, *words: str) -> list[str]:
        return [*words, "--cases", str(self.folder / "cases")]

    def __call__(self, *words: str) -> subprocess.CompletedProcess[str]:
        program = Path(sys.executable).parent / "kleff"
        return subprocess.run(
            [program, *self.words(*words)], capture_output=True, text=True, env={**os.environ, **GIVEN}, stdin=subprocess.DEVNULL
        )

    def run_words(self, *more: str) -> list[str]:
        confirmed = [word for one in self.confirmed for word in ("--confirmed", one)]
        return ["run", str(self.procedure), "--on", self.spec, "--yes", "--ticket", "4711", "--technician", "Till", *confirmed, *more]

    def run(self, *more: str, code: int = 0) -> None:
        done = self(*self.run_words(*more))
        assert done.returncode == code, (done.returncode, done.stdout, done.stderr)

    def restart(self) -> None:
        program = Path(sys.executable).parent / "kleff"
        subprocess.run([program, "lab", "restart", str(self.folder / "lab")], check=True, capture_output=True)

    def case(self) -> str:
        return max((self.folder / "cases").iterdir(), key=lambda p: p.stat().st_mtime_ns).name

    def killed(self, *words: str, write: int) -> None:
        os.environ.update(GIVEN)
        code, _ = run_until(self.words(*words, "--quiet"), write, True, self.folder.parent / "log")
        assert code == -9, code


def follow(work: Work, file: Path) -> list[dict[str, Any]]:
    """What each command that can follow ends with, and leaves, each on a copy of its own."""
    told = []
    case = work.case()
    now = json.loads(work("report", case, "--json").stdout)["case"]["state"]
    for words in FOLLOW[now]:
        if work.tree and "--only" in words:
            continue
        copy = Work.__new__(Work)
        copy.folder, copy.tree, copy.procedure = file.parent / "follow", work.tree, work.procedure
        copy.folder.mkdir()
        unpack(file, copy.folder)
        settle(copy.folder)
        if words == ["lab"]:
            copy.restart()
            done = copy("resume", case)
        else:
            done = copy(words[0], case, *words[1:])
        after = json.loads(copy("report", case, "--json").stdout)["case"]["state"]
        told.append({"words": words, "code": done.returncode, "case": after, "state": state(copy.folder)})
        assert "Traceback" not in done.stderr
        print("   ", words, done.returncode, after, done.stderr.strip().splitlines()[-1:] if done.returncode not in (0, 4) else "")
        shutil.rmtree(copy.folder)
    return told


def freeze(name: str, work: Work, out: Path) -> None:
    """Pack a workstation with its cases, and what the release says of them."""
    print(name)
    case = work.case()
    report = json.loads(work("report", case, "--json").stdout)
    scratch = out / "scratch.tar.zst"
    pack(work.folder, scratch)
    expected = {"case": case, "before": work.before, "report": report, "follow": follow(work, scratch)}
    (work.folder / "expected.json").write_text(json.dumps(expected, indent=1))
    pack(work.folder, out / f"{name}.tar.zst")
    scratch.unlink()
