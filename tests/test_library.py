"""Kleff as a library: what docs/library.md shows, and what another front end may rely on."""

from __future__ import annotations

import inspect
import re
from pathlib import Path

import pytest

from kleff.engine.job import Job
from kleff.errors import Interrupted, KleffError, Refused
from kleff.progress import Silent
from support import differences, hives, tree

PAGE = (Path(__file__).parent.parent / "docs/library.md").read_text("utf-8")


def test_the_program_of_the_page(lab: Path, tag_studio: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Previews, removes, takes back: the lab is as before."""
    found = re.search(r"```python\n(.*?)```", PAGE, re.S)
    assert found
    text = tag_studio.read_text()
    tag_studio.write_text(re.sub(r"(?ms)^\[\[before\]\]\nmanual.*?\n\n", "", text))  # nobody is there to do it by hand
    monkeypatch.chdir(tmp_path)
    before, registry = tree(lab / "files"), hives(lab)
    said: list[str] = []
    exec(compile(found[1], "library.md", "exec"), {"print": lambda *words: said.append(" ".join(map(str, words)))})
    assert any(" to do set aside C:\\ProgramData\\Brindlewort\\Tag Studio" in line for line in said)
    assert said[-2].endswith("tag-studio-1 gone")
    assert differences(before, tree(lab / "files")) == []
    assert hives(lab) == registry


def test_the_page_names_every_call() -> None:
    calls = {name for name, value in inspect.getmembers(Job, callable) if not name.startswith("_")}
    beside = {"begin", "check_begin", "check_secrets", "context", "folder", "settled"}  # what the calls themselves are made of
    named = set(re.findall(r"`[jJ]ob\.(\w+)\(", PAGE))
    assert named | {"with_options"} == calls - beside


class StopAfter(Silent):
    """Asks to stop at the so-manieth action."""

    def __init__(self, actions: int) -> None:
        self.left = actions

    def act(self, number: int, what: str) -> None:
        self.left -= 1

    def should_stop(self) -> bool:
        return self.left <= 0


def test_stopped_gone_on_with_and_taken_back(lab: Path, tag_studio: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    """Nothing is printed; what goes wrong is an error with its remedy; a case can be gone on with in the same process."""
    text = tag_studio.read_text()
    tag_studio.write_text(re.sub(r"(?ms)^\[\[before\]\]\nmanual.*?\n\n", "", text))
    before, registry = tree(lab / "files"), hives(lab)
    job = Job.open(tag_studio, on=f"lab:{lab}")
    assert job.survey().present
    with pytest.raises(Refused) as refused:
        job.undo()
    assert refused.value.remedy
    preview = job.preview()
    assert preview.anything
    with pytest.raises(Interrupted):
        job.run(preview, tmp_path / "cases", progress=StopAfter(9))
    (case,) = Job.cases(tmp_path / "cases")
    begun = Job.of_case(case)
    assert begun.record().state == "open"
    with pytest.raises(KleffError):
        job.run(preview, tmp_path / "cases")  # the workstation has an unfinished case
    assert begun.resume().clean
    assert begun.verify().clean
    assert begun.restore() is not None
    Job.of_case(Job.cases(tmp_path / "cases")[1]).undo()
    assert begun.undo().stays == []
    assert differences(before, tree(lab / "files")) == []
    assert hives(lab) == registry
    assert capfd.readouterr() == ("", "")
