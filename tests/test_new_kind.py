"""A new kind of object is one file and one call: a rule of a small rule file, with effects of its own, goes through everything."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import ClassVar

import pytest

import kleff.engine.job  # noqa: F401  what the engine loads is there before the kind is
from killing import KILLED, run_until
from kleff.case.bag.index import SavedItem
from kleff.case.effects.base import UNDONE, Effect, TakenBack, stays
from kleff.case.hands import Hands
from kleff.case.record.effect import Journaled
from kleff.objects.base.action import ABSENT, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.known import forget, register
from kleff.objects.base.restoring import Restoring
from kleff.procedure.globs import PathStyle, name_matches
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import SavingStep, Step, Text
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath
from support import Kleff, linux_tree, procedure, write

FILE = "etc/brindlewort.rules"
NAME = "tag\u00adstudio"  # a soft hyphen: another name than it looks

# -- the kind: all of it stands here ------------------------------------------------------------------------------


class RuleRemoved(Effect, kw_only=True, frozen=True):
    """A rule was taken out of the file; taken back, it stands there again."""

    kind: ClassVar[str] = "rule removed"
    rule: str
    line: str

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        file = rules_file(hands.workstation.files.host)
        if not file.exists():
            return stays(f"the rule {self.rule} has no file any more")
        if self.line not in file.read_text().split("\n"):
            file.write_text(self.line + "\n" + file.read_text())
        return UNDONE

    def what(self, one: Journaled, style: PathStyle) -> str:
        return self.rule


class RuleAdded(Effect, kw_only=True, frozen=True):
    """A saved rule was written; taken back, it is taken out."""

    kind: ClassVar[str] = "rule added"
    rule: str

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        take_out(rules_file(hands.workstation.files.host), self.rule)
        return UNDONE


class RuleEvidence(Step, kw_only=True, frozen=True):
    """A rule that is there only with the product."""

    rule: Text


class RuleBackup(SavingStep, kw_only=True, frozen=True):
    """Save a rule."""

    rule: Text


class RuleDelete(Step, kw_only=True, frozen=True):
    """Take a rule out of the file."""

    rule: Text


class RuleVerify(Step, kw_only=True, frozen=True):
    """A rule that must be gone."""

    rule: Text


def rules_file(host: object) -> Path:
    from kleff.procedure.globs import POSIX

    return Path(host(WPath(POSIX, "", tuple(FILE.split("/")))))  # type: ignore[operator]


def take_out(file: Path, rule: str) -> None:
    file.write_text("".join(line + "\n" for line in file.read_text().split("\n") if line and line.split(" = ")[0] != rule))


class RuleKind(Kind):
    """`rule`."""

    names = ("rule",)
    models = {"evidence": RuleEvidence, "backup": RuleBackup, "delete": RuleDelete, "verify": RuleVerify}
    condition = "A rule that must, or must not, be there."

    def words(self, phase: str) -> Words:
        return Words("Rules taken out", ("rule", "rules"), total="saved" if phase == "backup" else "")

    def _found(self, step: LoadedStep, here: Here) -> dict[str, str]:
        assert isinstance(step.model, RuleEvidence | RuleBackup | RuleDelete | RuleVerify)
        file = rules_file(here.workstation.files.host)
        lines = [line for line in file.read_text().split("\n") if line] if file.exists() else []
        return {n: line for line in lines if name_matches(step.model.rule, n := line.split(" = ")[0], False)}

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        for name in self._found(step, here):
            yield Sighting(kind="rule", what=name, about=NameId("rule", name, FILE), line=step.line)

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        verb = {"backup": "save", "delete": "take out", "verify": "look for"}[step.phase]
        found = self._found(step, here)
        for name in found:
            yield here.action(step, verb, f"rule {name}", about=[NameId("rule", name, FILE)], items=1, undo="written again")
        if not found:
            yield here.action(step, verb, "rule", state=ABSENT, reason="not there")

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        (about,) = action.about
        assert isinstance(about, NameId)
        line = self._found(step, work.here).get(about.name)
        if line is None:
            return Outcome(note="already gone")
        if step.phase == "backup":
            work.bag.add_settings(action.number, work.item(action, "rule", name=about.name, settings={"line": line}))
            return Outcome(items=1)
        with work.hands.doing(action.number, RuleRemoved(rule=about.name, line=line)):
            take_out(rules_file(work.here.workstation.files.host), about.name)
        return Outcome(items=1)

    def plan_restore(self, item: SavedItem, stem: str, restoring: Restoring) -> Iterator[Action]:
        there = item.settings["line"] in rules_file(restoring.here.workstation.files.host).read_text().split("\n")
        action = restoring.action(item, stem, "write", f"rule {item.name}", items=1, about=[NameId("rule", item.name, FILE)])
        if there:
            action.state, action.reason = ABSENT, "the same is there already"
        yield action

    def restore(self, action: Action, item: SavedItem, restoring: Restoring, work: Work) -> Outcome:
        file = rules_file(restoring.here.workstation.files.host)
        with work.hands.doing(action.number, RuleAdded(rule=item.name)):
            file.write_text(file.read_text() + f"{item.settings['line']}\n")
        return Outcome(items=1)

    def missing(self, item: SavedItem, stem: str, restoring: Restoring, placed: Sequence[WPath]) -> list[str]:
        return []


# -- what it goes through -----------------------------------------------------------------------------------------

STEPS = """
[[evidence]]
rule = "tag*"
[[before]]
rule = "tag*"
must_be = "there"
[[backup]]
label = "rules"
rule = "tag*"
[[delete]]
rule = "tag*"
[[verify]]
rule = "tag*"
"""
LINES = f"{NAME} = 4.2\nother = 1\n"


@pytest.fixture
def rules(tmp_path: Path) -> Iterator[Path]:
    kind = RuleKind()
    register(kind)
    linux_tree(tmp_path / "tree")
    write(tmp_path / "tree" / FILE, LINES)
    procedure(tmp_path / "p.toml", STEPS)
    yield tmp_path
    forget(kind)


def test_a_new_kind_goes_through_everything(rules: Path, capfd: pytest.CaptureFixture[str]) -> None:
    """By the command line itself, in a child of this process, which knows the kind."""
    log = rules / "log.txt"

    def kleff(*words: str, code: int = 0, write: int = 0) -> str:
        log.unlink(missing_ok=True)
        more = ["--cases", str(rules / "cases")] if words[0] in ("run", "resume", "undo", "report", "restore", "verify") else []
        ended, _ = run_until([*words, *more], write, True, log)
        text = log.read_text() if log.exists() else ""
        assert ended == code, text
        return text

    file, on = rules / "tree" / FILE, ("--on", f"root:{rules / 'tree'}")
    toml = str(rules / "p.toml")
    shown = "tag\\xadstudio"
    assert "valid" in kleff("check", toml)
    assert f"rule     {shown}" in kleff("survey", toml, *on)
    preview = kleff("preview", toml, *on)
    assert f"rule {shown}" in preview
    assert "1 rule" in preview
    assert '"exact_b64": "dGFnwq1zdHVkaW8="' in kleff("preview", toml, *on, "--json")
    assert NAME in file.read_text()
    kleff("run", toml, *on, "--yes")
    assert file.read_text() == "other = 1\n"
    case = next((rules / "cases").iterdir())
    for form, wanted in (("text", "Rules taken out: 1 rule"), ("markdown", "## Rules taken out"), ("html", "Rules taken out")):
        assert wanted in kleff("report", str(case), "--format", form)
    told = kleff("report", str(case), "--json")
    assert '"kind": "rule removed"' in told
    assert "is gone" in kleff("verify", str(case))
    kleff("undo", str(case), "--yes")
    assert file.read_text() == LINES
    assert "is not gone" in kleff("verify", str(case), code=4)

    kleff("run", toml, *on, "--yes")
    second = max((rules / "cases").iterdir(), key=lambda p: p.stat().st_mtime_ns)
    assert "1 action to do" in kleff("restore", str(second), "--dry-run", *on)
    kleff("restore", str(second), "--yes", *on)
    assert sorted(file.read_text().split("\n")) == sorted(LINES.split("\n"))
    third = max((rules / "cases").iterdir(), key=lambda p: p.stat().st_mtime_ns)
    kleff("undo", str(third), "--yes")
    assert file.read_text() == "other = 1\n"


@pytest.mark.parametrize("verbs", [("resume",), ("undo", "--yes")])
def test_killed_at_every_write(rules: Path, verbs: tuple[str, ...]) -> None:
    file, log = rules / "tree" / FILE, rules / "log.txt"
    words = ["run", str(rules / "p.toml"), "--on", f"root:{rules / 'tree'}", "--yes", "--cases", str(rules / "cases"), "--quiet"]
    for point in range(3, 30):
        shutil.rmtree(rules / "cases", ignore_errors=True)
        (rules / "tree/var/lib/kleff/unfinished.json").unlink(missing_ok=True)
        file.write_text(LINES)
        code, _ = run_until(words, point, True, log)
        if code != KILLED:
            assert point > 8
            break
        case = next((rules / "cases").iterdir())
        code, _ = run_until([verbs[0], str(case), *verbs[1:], "--quiet"], 0, True, log)
        assert code == 0 or "the case is finished; there is nothing to resume" in log.read_text(), log.read_text()
        assert file.read_text() == ("other = 1\n" if verbs[0] == "resume" else LINES), point


def test_what_no_report_knows_appears_by_itself(rules: Path) -> None:
    """A case with things of a kind that this Kleff has not: told in a general section, and refused to go on with."""
    from kleff.case.record.folder import open_case
    from kleff.report.case_report import report_page

    words = ["run", str(rules / "p.toml"), "--on", f"root:{rules / 'tree'}", "--yes", "--cases", str(rules / "cases"), "--quiet"]
    assert run_until(words, 0, True, rules / "log.txt")[0] == 0
    forget(RuleKind())
    with open_case(next((rules / "cases").iterdir())) as case:
        text = report_page(case).text()
    assert "Deleted: 1 thing" in text
    assert "rule tag\\xadstudio" in text
    assert os.path.exists(rules / "tree" / FILE)


def test_a_second_process(rules: Path, kleff: Kleff) -> None:
    """One that has not the kind shows the case, and neither goes on with it nor takes it back nor discards it; one that has it does."""
    words = ["run", str(rules / "p.toml"), "--on", f"root:{rules / 'tree'}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    assert run_until(words, 0, True, rules / "log.txt")[0] == 0
    case, changed = kleff.case(), (rules / "tree" / FILE).read_text()
    assert "finished" in kleff("cases", installed=True).out
    assert "rule removed" in kleff("report", case, "--json", installed=True).out
    assert "Deleted: 1 thing" in kleff("report", case, installed=True).out
    kept = {path: path.read_bytes() for path in sorted(case.rglob("*")) if path.is_file()}
    for refused in (("undo", case, "--yes"), ("discard", case, "--yes")):
        said = kleff(*refused, code=3, installed=True).err
        assert "made by another Kleff, which has done what this one does not know (rule removed); nothing of it is lost" in said
        assert "use the Kleff that made the case" in said
    assert {path: path.read_bytes() for path in sorted(case.rglob("*")) if path.is_file()} == kept
    assert (rules / "tree" / FILE).read_text() == changed
    assert run_until(["undo", str(case), "--yes", "--quiet"], 0, True, rules / "log.txt")[0] == 0
    assert (rules / "tree" / FILE).read_text() == LINES


def test_a_second_process_of_a_run_that_was_cut_off(rules: Path, kleff: Kleff) -> None:
    words = ["run", str(rules / "p.toml"), "--on", f"root:{rules / 'tree'}", "--yes", "--quiet", "--cases", str(kleff.cases)]
    for point in range(6, 20):  # until the effect is journaled
        shutil.rmtree(kleff.cases, ignore_errors=True)
        (rules / "tree/var/lib/kleff/unfinished.json").unlink(missing_ok=True)
        (rules / "tree" / FILE).write_text(LINES)
        assert run_until(words, point, True, rules / "log.txt")[0] == KILLED
        if "rule removed" in kleff("report", kleff.case(), "--json", installed=True).out:
            break
    assert "made by another Kleff" in kleff("resume", kleff.case(), code=3, installed=True).err
    assert run_until(["resume", str(kleff.case()), "--quiet"], 0, True, rules / "log.txt")[0] == 0
