"""The dialogue before a run belongs to the engine: one plan, and from then on only what an answer concerns; any front end has it."""

from __future__ import annotations

import ast
import sys
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import hypothesis.strategies as st
import pytest
from hypothesis import given, settings

from kleff.case.bag.encryption import BagKey
from kleff.engine.dialogue import Dialogue
from kleff.engine.job import Job, Preview
from kleff.engine.opening import Ticket
from kleff.engine.plan import Planning, plan_step
from kleff.errors import Refused, RestartNeeded
from kleff.objects.base.action import Action
from kleff.objects.base.here import Here
from kleff.objects.base.holders import Holder
from kleff.procedure.loaded import LoadedStep
from kleff.procedure.model import Ask
from kleff.progress import Progress, Silent
from kleff.workstation.lab.demo_workstation import build_demo_workstation
from memory import Bench
from support import differences, hives, tree
from test_came_along import shed

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
from climbs import Code, climbs, way

SOURCE = Path(__file__).parent.parent / "src/kleff"


PROBE = r"SYSTEM\ControlSet001\Enum\USB\Brindlewort soil probe"


@dataclass
class Plain:
    """A whole front end: it agrees to everything, and notes what it was asked."""

    unplug: Any = None
    said: list[str] = field(default_factory=list)
    asks = True

    def draw(self, made: Preview) -> None:
        self.said.append(f"plan of {len(made.plan.actions)}")

    def nothing(self, made: Preview) -> None:
        self.said.append("nothing")

    def answer(self, question: Ask) -> str:
        self.said.append(question.id)
        return ""

    def along(self, offered: Sequence[Action]) -> bool:
        self.said.append("along")
        return True

    def holders(self, left: Sequence[Holder]) -> set[str]:
        self.said.append("holders")
        return {str(h.number) for h in left if h.may_be_stopped}

    def by_hand(self, action: Action, number: int, count: int, proof: bool, again: bool) -> bool:
        self.said.append(f"by hand{' again' * again}")
        if again:
            self.unplug()
        return True

    def looked(self, action: Action) -> None: ...

    def synced(self, found: Sequence[Action]) -> bool:
        self.said.append("synced")
        return True

    def agree(self, made: Preview) -> None:
        self.said.append("agree")

    def key(self) -> BagKey:
        raise AssertionError

    def begun(self, case: Path) -> None:
        self.said.append("begun")

    def watching(self) -> AbstractContextManager[Progress]:
        return nullcontext(Silent())


@dataclass
class Seen:
    whole: int = 0
    steps: list[LoadedStep] = field(default_factory=list)


@pytest.fixture
def seen(monkeypatch: pytest.MonkeyPatch) -> Seen:
    """How often a plan is made whole, and which steps are resolved."""
    found, whole = Seen(), Planning.whole.__func__  # type: ignore[attr-defined]

    def counted(cls: type[Planning], here: Here) -> Planning:
        found.whole += 1
        return whole(cls, here)  # type: ignore[no-any-return]

    def noted(step: LoadedStep, here: Here) -> list[Action]:
        found.steps.append(step)
        return plan_step(step, here)

    monkeypatch.setattr(Planning, "whole", classmethod(counted))
    for module in ("plan", "dialogue"):
        monkeypatch.setattr(f"kleff.engine.{module}.plan_step", noted)
    return found


def test_a_front_end_runs_the_demo_with_all_its_questions(tmp_path: Path, tag_studio: Path, seen: Seen) -> None:
    """The procedure's own question, the step by hand with its proof, the agreement; the restart; and it is taken back."""
    lab = tmp_path / "POTTING-02"
    build_demo_workstation(lab, rich=True, held=True)
    before, registry = tree(lab / "files"), hives(lab)
    file = lab / "registry/HKLM.reg"
    without = file.read_bytes()
    file.write_bytes(without + f"\r\n[HKEY_LOCAL_MACHINE\\{PROBE}]\r\n".encode("utf-16-le"))
    job, front = Job.open(tag_studio, on=f"lab:{lab}"), Plain(lambda: file.write_bytes(without))
    with pytest.raises(RestartNeeded):
        Dialogue(job, front, who="the test").run([], tmp_path / "cases", Ticket("T-1"))
    asked = [word for word in front.said if not word.startswith("plan of")]
    assert asked == ["coming-back", "holders", "by hand", "by hand again", "agree", "begun"]
    assert seen.whole == 1, "the other answer of the question is planned from the same steps"
    Job.of_case(next((tmp_path / "cases").iterdir())).undo()
    assert differences(before, tree(lab / "files")) == []
    assert hives(lab) == registry


def test_what_came_along_is_planned_with_its_packages_alone(folder: Path, seen: Seen) -> None:
    """Asked and taken: the plan is shown again; saving, stopping and what is only looked at are not resolved a second time."""
    bench = shed(folder)
    bench.on.services.add("hoe")
    bench.on.files.add("/srv/hoe/rows", "7")
    body = (
        "[[backup]]\nlabel = 'rows'\npaths = ['/srv/hoe']\n[[stop]]\nservice = 'hoe'\n"
        "[[purge]]\npackage = 'hoe'\nallows = ['hoe-plugin*']\n[[delete]]\npaths = ['/srv/hoe']\n"
    )
    job, front = bench.job(body), Plain()
    made = Dialogue(job, front).agreed([], bench.folder / "cases")
    assert made is not None
    assert front.said[0].startswith("plan of")
    assert front.said[1:] == ["along", front.said[2], "agree"]
    assert seen.whole == 1
    assert [s.kind for s in seen.steps].count("paths") <= 3
    assert [s.phase for s in seen.steps].count("backup") == 1
    assert {"libhoe1", "libbeds2"} <= {name for a in made.plan.actions for name in a.target.replace(",", " ").split()}


def test_nobody_there_and_what_is_not_agreed(folder: Path) -> None:
    bench = Bench(folder, "linux")
    bench.on.files.add("/srv/hoe/rows", "7")
    before = bench.files

    class Says(Plain):
        asks = False

        def agree(self, made: Preview) -> None:
            raise Refused("not agreed")

    front = Says()
    with pytest.raises(Refused, match="not agreed"):
        Dialogue(bench.job("[[delete]]\npaths = ['/srv/hoe']\n"), front).run([], bench.folder / "cases", Ticket())
    assert bench.files == before
    assert front.said == ["plan of 1"]
    assert not (bench.folder / "cases").exists()


PARTS = {
    "before": "[[before]]\nmanual = 'Say so.'\nid = 'say'\n",
    "saved": "[[backup]]\nlabel = 'rows'\npaths = ['/srv/hoe/rows']\n",
    "stopped": "[[stop]]\nservice = 'hoe'\n",
    "process": "[[stop]]\nprocess = 'hoed'\n",
    "package": "[[purge]]\npackage = 'hoe'\nallows = ['hoe-plugin*']\n",
    "package too": "[[purge]]\npackage = 'rake'\n",
    "folder": "[[delete]]\npaths = ['/srv/hoe']\n",
    "inside": "[[delete]]\npaths = ['/srv/hoe/beds']\n",
    "library": "[[delete]]\npaths = ['/usr/lib/libhoe1', '/usr/lib/hoe']\n",
    "verified": "[[verify]]\npaths = ['/srv/hoe']\n",
}
WHEN = ("", "when = 'again'\n", "unless = 'again'\n", "when = 'edition is school'\n", "unless = 'edition is school'\n")
ASKS = (
    "[[ask]]\nid = 'again'\nquestion = 'Again?'\ndefault = false\n"
    "[[ask]]\nid = 'edition'\nquestion = 'Which?'\ntype = 'one'\nchoices = ['school', 'garden']\ndefault = 'garden'\n"
)


@settings(max_examples=120, deadline=None)
@given(st.data())
def test_planned_again_is_planned_anew(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    """After any answer, and with what came along: action by action what a whole new plan says."""
    bench = shed(tmp_path_factory.mktemp("again"))
    bench.on.services.add("hoe")
    for name in ("rows", "beds/one", "rows/two.keep"):
        bench.on.files.add(f"/srv/hoe/{name}", name)
    chosen = data.draw(st.lists(st.sampled_from(list(PARTS)), min_size=1, unique=True))
    steps = "".join(PARTS[name] + (data.draw(st.sampled_from(WHEN)) if name != "verified" else "") for name in PARTS if name in chosen)
    keep = data.draw(st.sampled_from(("", "[keep]\npaths = ['/srv/hoe/**/*.keep']\n")))
    job = bench.job(ASKS + keep + steps)
    answers = [f"again={data.draw(st.sampled_from(('yes', 'no')))}", f"edition={data.draw(st.sampled_from(('school', 'garden')))}"]
    first = job.preview(answers)
    other = {"again": data.draw(st.booleans()), "edition": data.draw(st.sampled_from(("school", "garden")))}
    options = job.options
    if data.draw(st.booleans()):
        options = type(options)(came_along=data.draw(st.sampled_from(("these", "all", "none"))))
    here = job.with_options(options).context(other, first.here.procedure)
    anew = Planning.whole(job.with_options(options).context(other, first.here.procedure)).plan()
    assert first.planned_again(here).plan == anew
    assert job.preview(answers).plan == first.plan, "the first is as it was"


# Measured before the dialogue lay in the engine.
BEFORE = {"cli.work:run": 15, "cli.restoring:restore": 11, "cli.undoing:undo": 4, "cli.work:resume": 5}


def test_commands_go_down_and_stay_there() -> None:
    """`run` climbs back a third as often as it did, the others no more often; and the measure sees a climb."""
    code = Code.read()
    found = {start: climbs(way(code, (start.partition(":")[0], start.partition(":")[2]))) for start in BEFORE}
    assert found["cli.work:run"] <= BEFORE["cli.work:run"] / 3
    assert all(found[start] <= BEFORE[start] for start in BEFORE), found
    assert climbs(["cli.work", "engine.job", "cli.work", "texts", "errors", "cli.common"]) == 2


def test_the_command_line_plans_nothing() -> None:
    wrong = []
    for file in sorted((SOURCE / "cli").rglob("*.py")):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            names = {alias.name for alias in node.names} if isinstance(node, ast.ImportFrom) else set()
            if names & {"make_plan", "plan_step", "Planning", "make_context", "look_only"} or "kleff.engine.context" in ast.dump(node):
                wrong.append(f"{file.name}:{getattr(node, 'lineno', 0)}")
            if isinstance(node, ast.Attribute) and node.attr == "context":
                wrong.append(f"{file.name}:{node.lineno}")
    assert wrong == []
