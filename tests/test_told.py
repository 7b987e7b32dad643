"""What a person is told: the same words and sums wherever a thing is told, and nothing that is not so."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.case.record.folder import open_case
from kleff.engine.cases.rows import rows
from kleff.engine.job import Job
from kleff.progress import Silent
from kleff.report.case_facts import case_info
from kleff.report.case_report import report_page
from kleff.report.full_plan import full_plan
from kleff.report.pages import verify_page
from kleff.report.plan_parts import totals_lines
from kleff.report.summary import closing_page
from memory import Bench, delete
from support import Kleff, procedure, write


class Lines(Silent):
    """Keeps what is said."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[str] = []

    def act(self, number: int, what: str) -> None:
        self.lines.append(what)

    def say(self, line: str) -> None:
        self.lines.append(line)


def report(job: Job) -> str:
    with open_case(job.folder()) as case:
        return report_page(case).text()


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    for number in range(3):
        bench.on.files.add(f"/opt/shed/cache/{number}", "x" * 100)
    bench.on.files.add("/opt/shed/own/mine", "y" * 1000)
    bench.on.files.add("/opt/vendor/other", "z")
    return bench


NESTED = delete("/opt/shed/cache/*") + delete("/opt/shed") + delete("/opt/shed/cache")


def test_nested_places_are_counted_once(folder: Path) -> None:
    """The same sum in preview, run, cases, report and discard."""
    bench = shed(folder)
    job = bench.job(NESTED)
    made = job.preview()
    assert (made.plan.totals.aside_items, made.plan.totals.aside_size) == (7, 1300)
    case, ended = job.run(made, bench.folder / "cases")
    job = bench.again(job, case)
    assert (sum(r.items for r in ended.rows), sum(r.size for r in ended.rows)) == (7, 1300)
    with open_case(case) as opened:
        info = case_info(opened)
    assert (info.aside_items, info.aside_size) == (7, 1300)
    assert "7 items, 1.3 KiB" in report(job)
    held = job.discard()
    assert (held.items, held.size) == (7, 1300)


def test_what_is_kept_is_not_told_as_set_aside(folder: Path) -> None:
    """Progress names what is done; of what is looked at again, what came of it."""
    bench = shed(folder)
    job, lines = bench.job(delete("/opt/vendor", more="only_if_empty = true\n") + delete("/opt/shed")), Lines()
    job.run(job.preview(), bench.folder / "cases", progress=lines)
    assert not [line for line in lines.lines if line.startswith("set aside /opt/vendor")]
    assert "look again at /opt/vendor" in lines.lines
    assert [line for line in lines.lines if "kept" in line and "not empty" in line]


def test_after_an_undo_everything_is_undone(folder: Path) -> None:
    """Nothing is set aside any more, and no action is told as done."""
    bench = shed(folder)
    job, _ = bench.run(delete("/opt/shed/cache") + delete("/opt/shed/own"))
    assert "set aside" in report(job).lower()
    job.undo(only={1})
    with open_case(job.folder()) as case:
        assert [r.state for r in rows(case)] == ["undone", "done"]
        assert case_info(case).aside_items == 2
    assert "/opt/shed/cache" not in report(job).partition("Set aside")[2].partition("\n\n")[0]
    job.undo()
    with open_case(job.folder()) as case:
        assert {r.state for r in rows(case)} == {"undone"}
        assert case_info(case).aside_items == 0
    told = report(job)
    assert "Taken back" in told
    assert "freed by discard" not in told
    assert "Set aside" not in told


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_programs_that_are_ended_are_not_taken_back(folder: Path, system: str) -> None:
    bench = Bench(folder, system)
    path = "/opt/shed/hoe" if system == "linux" else r"C:\Shed\hoe.exe"
    bench.on.files.add(path)
    bench.on.processes.add(path[-7:], path, "mira")
    made = bench.preview(f"[[stop]]\nprocess = '{path}'\n")
    told = "\n".join(totals_lines(made.plan))
    assert "everything can be taken back" not in told
    assert "1 program is ended and not started again by undo" in told
    both = bench.preview(f"[[stop]]\nprocess = '{path}'\n" + delete(path))
    told = "\n".join(totals_lines(both.plan))
    assert "everything else can be taken back until it is discarded" in told
    none = bench.preview(delete(path + "nothing"))
    assert "taken back" not in "\n".join(totals_lines(none.plan))
    assert "taken back" not in full_plan(none.here, none.plan).text()


def test_a_service_that_cannot_be_held_is_not_told_as_held(folder: Path) -> None:
    bench = Bench(folder, "linux")
    bench.on.services.add("shed")
    bench.on.services.can_hold = False
    job, _ = bench.run("[[stop]]\nservice = 'shed'\n")
    effect = job.record().effects[0].effect
    assert getattr(effect, "held") is False  # noqa: B009
    row = job.record().rows[0]
    assert "may be started again by something else: it cannot be held here" in row.note


def test_a_procedure_that_only_saves_says_saved(folder: Path) -> None:
    """Not gone, and not "not gone" either; a required thing that could not be saved is told."""
    bench = shed(folder)
    body = "[[evidence]]\npath = '/opt/shed'\n[[backup]]\nlabel = 'own'\npaths = ['/opt/shed/own']\n"
    job, ended = bench.run(body)
    assert (ended.clean, ended.verification.saved, ended.verification.gone) == (True, True, False)
    assert verify_page("Shed", "here", ended.verification).text().startswith("What Shed has is saved from here; nothing was to be removed")
    assert "saved; nothing was to be removed" in report(job)
    with open_case(job.folder()) as case:
        assert "left" not in closing_page(case, ended).text()
    _, ended = bench.run(body + "[[backup]]\nlabel = 'x'\npaths = ['{user.home}/x']\naccounts = ['nobody']\nrequired = false\n")
    assert not ended.clean


def test_a_report_is_the_technician_s_alone(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """It names people's files: nobody else may read it until she hands it on."""
    write(lab / "files/C/Garden/seed.txt")
    kleff("run", procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['C:\\Garden']\n"), "--on", f"lab:{lab}", "--yes")
    for form in ("text", "markdown", "html", "json"):
        kleff("report", kleff.case(), "--format", form, "--output", tmp_path / form)
        assert (tmp_path / form).stat().st_mode & 0o777 == 0o600
        assert "reports never overwrite" in kleff("report", kleff.case(), "--output", tmp_path / form, code=3).err
