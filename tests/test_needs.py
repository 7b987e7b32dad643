"""What technicians need, each as a procedure and a lab (needs/): gone, all else as it was, taken back, and resumed after a kill."""

from __future__ import annotations

import re
import shutil
import threading
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from killing import points
from kleff.engine.cases.run import Ended
from kleff.engine.job import Job
from kleff.errors import NeverBegun, RestartNeeded, UsageError
from kleff.objects.base.here import Options
from kleff.workstation.lab.lab import Lab
from kleff.workstation.lab.workstation import at_start
from memory import killed_at
from needs.lab import HERE, build
from support import differences, hives, tree

NEEDS = sorted(path.name.removesuffix(".lab.toml") for path in HERE.glob("*.lab.toml"))
KILLS = 3


class Need:
    """A need on a lab of its own.

    Attributes:
        goes: what may be gone or changed afterwards, by the beginning of its path or key.
    """

    def __init__(self, folder: Path, name: str) -> None:
        self.lab, self.cases = folder / "lab", folder / "cases"
        self.described: dict[str, Any] = build(self.lab, name)
        self.procedure = HERE / f"{name}.toml"
        self.restarts = 0
        self.before = self.stands()
        self.over = threading.Event()
        self.person = threading.Thread(target=self._answer, daemon=True)
        if "window" in self.described:
            self.person.start()

    def close(self) -> None:
        self.over.set()
        if self.person.is_alive():
            self.person.join()

    def _answer(self) -> None:
        """A person sits before it, for as long as the test lasts."""
        while not self.over.wait(0.1):
            with suppress(UsageError, OSError):
                Lab(self.lab).answer(self.described["window"], True)

    def stands(self) -> tuple[dict[str, Any], dict[str, Any]]:
        return tree(self.lab / "files"), hives(self.lab)

    def job(self) -> Job:
        options = Options(without_uninstallers=self.described.get("without_uninstallers", False), somebody=True)
        return Job.open(self.procedure, f"lab:{self.lab}", options=options)

    def run(self) -> tuple[Job, Ended]:
        job = self.job()
        try:
            _, ended = job.run(job.preview(self.described.get("answers", ()), compared=False), self.cases)
        except RestartNeeded:
            return self.case(), self.after_restart()
        return self.case(), ended

    def case(self) -> Job:
        job = Job.of_case(next(self.cases.iterdir()))
        return job.with_options(replace(job.options, somebody=True))

    def after_restart(self) -> Ended:
        with pytest.raises(RestartNeeded, match="has not been restarted since"):
            self.case().resume()
        self.restart()
        return self.case().resume()

    def restart(self) -> None:
        self.restarts += 1
        Lab(self.lab).start(at_start(Lab(self.lab)))

    def resume(self) -> Ended:
        try:
            return self.case().resume()
        except RestartNeeded:
            return self.after_restart()

    def check_gone(self, ended: Ended) -> None:
        """What is to go has gone, and nothing else has; what an uninstaller has named and left is told, and keeps it from being clean."""
        told = sorted(re.sub(r" \(64-bit view\)$", "", finding.target).casefold() for finding in ended.verification.open)
        assert told == sorted(left.casefold() for left in self.described.get("left", [])), [row.note for row in ended.failed]
        assert ended.clean == ("left" not in self.described)
        self.check_agreed(ended)
        files, keys = self.stands()
        for goes in self.described["goes"]:
            assert not (self.lab / "files/C").joinpath(*goes[3:].split("\\")).exists() if goes[1] == ":" else goes not in keys, goes
        assert self.others(differences(self.before[0], files)) == []
        assert self.others(differences(self.before[1], keys)) == []

    def check_agreed(self, ended: Ended) -> None:
        """The run, `verify CASE` and `verify PROC` say the same of one state; the last without an answer, which the case has."""
        of_case, by_procedure = self.case().verify(), self.job().verify(cases=self.cases)
        assert by_procedure.case == next(self.cases.iterdir()).name
        of_run = ended.verification
        for other in (of_case, by_procedure):
            assert (other.clean, other.gone) == (of_run.clean, of_run.gone), other.findings
            assert {(f.state, f.target) for f in other.findings} == {(f.state, f.target) for f in of_run.findings}

    def others(self, found: list[str]) -> list[str]:
        """Differences in what was to stay; of the folders above what goes the times are others."""
        changed = [c[3:].replace("\\", "/").casefold() if c[1] == ":" else c.casefold() for c in self.described.get("changes", [])]
        mine = [goes[3:].replace("\\", "/").casefold() if goes[1] == ":" else goes.casefold() for goes in self.described["goes"]]
        left = []
        for line in found:
            kind, name = line.split(": ", 2)[:2]
            path = name.casefold().removeprefix("c/")
            above = kind == "changed" and (path == "c" or any(goes.startswith(f"{path}/") for goes in (*mine, *changed)))
            above = above or (kind == "changed" and any(path == c or path.startswith(f"{c}/") for c in changed))
            if not above and not any(path == goes or path.startswith((f"{goes}/", f"{goes}\\")) for goes in mine):
                left.append(line)
        return left

    def check_back(self, job: Job) -> None:
        undone = job.undo()
        assert undone.stays == []
        files, keys = self.stands()
        # The scheduler registers a task anew, in a file of the time of day.
        assert [line for line in differences(self.before[0], files) if not line.startswith("changed: C/Windows/System32/Tasks")] == []
        assert differences(self.before[1], keys) == []


@pytest.mark.parametrize("name", NEEDS)
def test_there_and_back(name: str, tmp_path: Path) -> None:
    with closing(Need(tmp_path, name)) as need:
        _there_and_back(need)


def _there_and_back(need: Need) -> None:
    job, ended = need.run()
    assert need.restarts == need.described.get("restarts", 0)
    need.check_gone(ended)
    assert Job.of_case(next(need.cases.iterdir())).verify().clean == ended.clean
    done = [row.action.target for row in job.record().rows if row.action.phase == "uninstall" and row.state == "done"]
    if "order" in need.described:
        assert [next(n for n, part in enumerate(done) if wanted in part) for wanted in need.described["order"]] == [0, 1, 2]
    need.check_back(job)


@pytest.mark.parametrize("name", NEEDS)
def test_killed_on_the_way(name: str, tmp_path: Path) -> None:
    """At some of the journal's writes: resumed it is gone, and taken back all is there."""
    with killed_at(0, False) as writes, closing(Need(tmp_path / "whole", name)) as need:
        need.run()
    for number, after in points(writes[0], len(name), KILLS, ends=name == NEEDS[0]):
        folder = tmp_path / f"{number}{after}"
        with closing(Need(folder, name)) as need:
            with killed_at(number, after), suppress(RestartNeeded):
                need.run()
            with suppress(NeverBegun, StopIteration):
                job = need.case()
                if job.record().rows and job.record().state != "finished":
                    need.check_gone(need.resume())
                need.check_back(need.case())
        shutil.rmtree(folder)
