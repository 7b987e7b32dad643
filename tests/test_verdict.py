"""Gone is only what is gone: one verdict at the end of a run and by verify, over everything that speaks against it."""

from __future__ import annotations

import itertools
import re
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kleff.case.record.folder import open_case
from kleff.engine.finding import Verification
from kleff.engine.job import Job
from kleff.report.case_report import report_page
from kleff.workstation.things import ServiceParts
from memory import Bench, delete, killed_at
from support import Kleff, procedure

HOE = r"C:\Program Files\Rakeworks\Hoe"
KEY = r"HKLM\SOFTWARE\Rakeworks\Hoe"
ENTRY = "[[evidence]]\nentry = 'Rakeworks Hoe'\n[[uninstall]]\nentry = 'Rakeworks Hoe'\npublisher = 'Rakeworks'\n"


def left(result: Verification) -> list[tuple[str, str, str]]:
    """What is open, without where the line is."""
    return [(f.state, f.target, f.reason) for f in result.open]


def installed(bench: Bench, says: str = "", code: int = 0, removes: bool = True) -> None:
    """A product with an uninstaller that says something and unregisters it."""
    bench.on.entry("Hoe", "Rakeworks Hoe", "2.0", HOE, rf"{HOE}\unins.exe", "Rakeworks")
    bench.on.files.add(rf"{HOE}\hoe.exe")

    def behaves(argv: object) -> tuple[int, str]:
        if removes:
            bench.on.api.delete_key("HKLM", r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe")
        return code, says

    bench.on.behaves(rf"{HOE}\unins.exe", behaves)


def test_evidence_that_is_kept_is_still_there(folder: Path) -> None:
    """What survey calls the product cannot be gone, whatever keeps it."""
    bench = Bench(folder, "linux")
    bench.on.files.add("/opt/hoe/hoe.conf")
    bench.on.files.add("/opt/hoe/x")
    job, ended = bench.run("[keep]\npaths = ['/opt/hoe/*.conf']\n[[evidence]]\npath = '/opt/hoe/hoe.conf'\n" + delete("/opt/hoe"))
    assert job.survey().present
    for result in (ended.verification, job.verify()):
        assert (result.clean, result.gone) == (True, False)
        kept = "evidence of the product; the procedure keeps /opt/hoe/*.conf"
        assert [(f.state, f.target, f.reason) for f in result.findings] == [("kept", "/opt/hoe/hoe.conf", kept)]
    with open_case(job.folder()) as case:
        assert "not gone, as was wanted" in report_page(case).text()


def test_what_failed_is_not_gone(folder: Path) -> None:
    """Also if a later step took away what would have shown it, and also by a later verify of the case."""
    bench = Bench(folder)
    installed(bench, "cannot", code=7, removes=False)
    key = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe"
    body = ENTRY + "optional = true\n" + delete(HOE) + f"[[delete]]\nkey = '{key}'\n"
    job, ended = bench.run(body)
    assert not ended.clean
    assert [(f.state, f.target) for f in ended.verification.open] == [("failed", "Rakeworks Hoe (2.0)")]
    assert "exit code 7" in ended.verification.open[0].reason
    assert [(f.state, f.target) for f in job.verify().open] == [("failed", "Rakeworks Hoe (2.0)")]


def test_what_the_uninstaller_named_and_left(folder: Path) -> None:
    """Paths and keys in its output that are there; not the system's own, not what is kept, not what is gone."""
    bench = Bench(folder)
    says = (
        r"Could not remove D:\Rake Data\old shed because it is in use." "\r\n"
        rf"skipping key {KEY}\Users, HKEY_LOCAL_MACHINE\SOFTWARE\Rakeworks\Gone and {HOE}\hoe.exe" "\r\n"
        r"kept: 'D:\Rake Data\mine.txt'; using C:\Windows\System32\msiexec.exe, C:\Program Files and C:\nowhere\x" "\r\n"
    )  # fmt: skip
    installed(bench, says)
    bench.on.files.add(r"D:\Rake Data\old shed\x")
    bench.on.files.add(r"D:\Rake Data\mine.txt")
    bench.on.api.add(rf"{KEY}\Users", Own="x")
    body = "[keep]\npaths = ['D:\\Rake Data\\mine.txt']\n" + ENTRY + delete(HOE)
    job, ended = bench.run(body)
    named = "the uninstaller of Rakeworks Hoe (2.0) named it"
    wanted = {("left", r"D:\Rake Data\old shed", named), ("left", rf"{KEY}\Users (64-bit view)", named)}
    assert set(left(ended.verification)) == wanted
    assert [f.target for f in ended.verification.of("kept")] == [r"D:\Rake Data\mine.txt"]
    assert set(left(job.verify())) == wanted
    alone = bench.job(body).verify()
    assert alone.clean
    assert alone.not_known == ["no case: what the uninstaller named is not known"]
    assert not ended.verification.not_known
    assert not bench.job(delete(HOE)).verify().not_known


def test_the_folder_it_was_registered_in(folder: Path) -> None:
    """No step names it, but the entry did, before it went."""
    bench = Bench(folder)
    installed(bench)
    job, ended = bench.run(ENTRY)
    assert left(ended.verification) == [("left", HOE, "Rakeworks Hoe was installed in it")]
    job.undo()
    _, ended = bench.run(f"[keep]\npaths = ['{HOE}']\n" + ENTRY)
    assert ended.clean
    assert [f.target for f in ended.verification.of("kept")] == [HOE]


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_what_runs_on_is_not_gone(folder: Path, system: str) -> None:
    """Programs from the product's places, wherever these are now; not a neighbour's."""
    bench = Bench(folder, system)
    place, other = (HOE, r"C:\Program Files\Rakeworks\Spade") if system == "windows" else ("/opt/rakeworks/hoe", "/opt/rakeworks/spade")
    separator = "\\" if system == "windows" else "/"
    for top in (place, other):
        bench.on.files.add(f"{top}{separator}bin{separator}run.exe")
        bench.on.processes.add("run.exe", f"{top}{separator}bin{separator}run.exe", "mira")
    before = bench.job(delete(place)).verify()
    assert "program run.exe, number 1001" in [f.target for f in before.open]
    job, ended = bench.run(delete(place))
    program = f"{place}{separator}bin{separator}run.exe"
    assert left(ended.verification) == [("left", "program run.exe, number 1001", f"it runs still, from {program}")]
    assert not job.verify().clean
    bench.on.processes.running = [p for p in bench.on.processes.running if p.pid != 1001]
    assert job.verify().clean


def test_units_and_programs_of_packages_that_went(folder: Path) -> None:
    """An instance of a template unit that runs on, and a program that no step names; nothing of a package that stays."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("hoe-db", "1.0", ["/usr/bin/hoe-db", "/usr/lib/systemd/system/hoe-db@.service"], services=["hoe-db@"])
    bench.on.packages.add("spade", "1.0", ["/usr/bin/spade", "/usr/lib/systemd/system/spade.service"], services=["spade"])
    bench.on.services.add("hoe-db@main", parts=ServiceParts(programs=("/usr/bin/hoe-db",)))
    bench.on.services.add("spade", parts=ServiceParts(programs=("/usr/bin/spade",)))
    bench.on.processes.add("hoe-db", "/usr/bin/hoe-db", "root")
    bench.on.processes.add("spade", "/usr/bin/spade", "root")
    body = "[[purge]]\npackage = 'hoe-db'\n"
    _, ended = bench.run(body)
    assert {(f.target, f.reason) for f in ended.verification.open} == {
        ("program hoe-db, number 1001", "it runs still, from /usr/bin/hoe-db"),
        ("service hoe-db@main", "it runs still, and hoe-db has brought it"),
    }
    bench = Bench(folder / "again", "linux")
    bench.on.packages.add("hoe-db", "1.0", ["/usr/bin/hoe-db"], services=["hoe-db@"])
    bench.on.services.add("hoe-db@main")
    planned = bench.plan("[[stop]]\nservice = 'hoe-db@*'\n", phase="stop")
    assert [(a.state, a.target) for a in planned] == [("to do", "service hoe-db@main")]
    job, ended = bench.run("[[stop]]\nservice = 'hoe-db@*'\n" + body)
    assert not bench.on.services.known["hoe-db@main"].running
    assert ended.clean
    job.undo()
    assert bench.on.services.known["hoe-db@main"].running


def test_a_service_whose_program_was_the_product(folder: Path) -> None:
    """It is registered still: not gone, whether it runs or not."""
    bench = Bench(folder)
    bench.on.files.add(rf"{HOE}\svc.exe")
    bench.on.service("hoesvc", rf'"{HOE}\svc.exe" -k')
    bench.on.service("other", r"C:\Windows\System32\msiexec.exe")
    _, ended = bench.run("[[stop]]\nservice = 'hoesvc'\n" + delete(HOE))
    assert left(ended.verification) == [("left", "service hoesvc", rf"it is registered still, for {HOE}\svc.exe")]


# -- whatever there is --------------------------------------------------------------------------------------------

RUNS = itertools.count()
NAMES = ("a", "b", "a.conf")
PLACES = [f"/opt/hoe/{n}" for n in NAMES] + [f"/home/{who}/.hoe/{n}" for who in ("mira", "tomas") for n in NAMES] + ["/var/lib/hoe/db"]
PATHS = ["/opt/hoe", "/opt/hoe/*", "/opt/hoe/*.conf", "{user.home}/.hoe", "/var/lib/hoe"]
EVIDENCE = ["/opt/hoe/a", "{user.home}/.hoe/a.conf", "/var/lib/hoe/db", "/opt/hoe/*.conf"]


@settings(deadline=None, max_examples=80, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    there=st.sets(st.sampled_from(PLACES)), deleted=st.lists(st.sampled_from(PATHS), max_size=3, unique=True),
    kept=st.lists(st.sampled_from(PATHS), max_size=2, unique=True),
    evidence=st.lists(st.sampled_from(EVIDENCE), min_size=1, max_size=2, unique=True),
    accounts=st.sampled_from(["", "accounts = ['mira']\n", "accounts = ['mira', 'nobody']\n"]),
    installed=st.sampled_from(["", "1.0", "2.0"]), versions=st.sampled_from(["", "<2"]), runs=st.booleans(),
)  # fmt: skip
def test_never_gone_while_survey_finds_it(
    folder: Path, there: set[str], deleted: list[str], kept: list[str], evidence: list[str], accounts: str, installed: str, versions: str,
    runs: bool,
) -> None:  # fmt: skip
    """And never clean with a required thing undone, or with something there that a step names and nothing keeps."""
    bench = Bench(folder / str(next(RUNS)), "linux")
    for text in there:
        bench.on.files.add(text, uid=1001 if "mira" in text else 1002 if "tomas" in text else 0)
    if installed:
        bench.on.packages.add("hoe", installed, ["/usr/bin/hoe"])
    if runs:
        bench.on.processes.add("a", "/opt/hoe/a")
    lines = [f"[keep]\npaths = {kept}\n"] if kept else []
    lines += [f"[[evidence]]\npath = '{one}'\n" for one in evidence] + ["[[evidence]]\npackage = 'hoe'\n"]
    lines += ["[[purge]]\npackage = 'hoe'\n"] + [delete(one, more=accounts if "user" in one else "") for one in deleted]
    job = bench.job("".join(lines), versions=versions)
    made = job.preview()
    case, ended = job.run(made, bench.folder / "cases")
    job = bench.again(job, case)
    for result in (ended.verification, job.verify()):
        assert not result.gone or not job.survey().present
        if result.clean:
            assert all(r.state in ("done", "absent", "kept", "skipped") for r in ended.rows)
            named = [p for one in deleted for p in PLACES if _names(one, p) and not (accounts and "tomas" in p)]
            stays = [p for p in PLACES if any(_names(k, p) for k in kept)]
            assert not [p for p in named if p not in stays and bench.on.files.look(bench.on.files.path(p)) is not None]
            assert not (runs and "/opt/hoe" in deleted and "/opt/hoe/a" not in stays)
    job.undo()


def _names(text: str, path: str) -> bool:
    """Whether a path of a procedure names one of the places, or a folder above it."""
    for whole in [text.replace("{user.home}", f"/home/{who}") for who in ("mira", "tomas")] if "{user" in text else [text]:
        pattern = re.escape(whole).replace(r"\*", "[^/]*")
        if re.fullmatch(f"{pattern}(/.*)?", path):
            return True
    return False


def test_it_is_said_at_the_command_line(kleff: Kleff, lab: Path, tmp_path: Path) -> None:
    """The page, the exit code and JSON say the same."""
    on = ("--on", f"lab:{lab}")
    file = procedure(tmp_path / "p.toml", "[[uninstall]]\nentry = 'nothing'\npublisher = 'x'\n[[delete]]\npaths = ['C:\\nothing']\n")
    alone = kleff("verify", file, *on)
    assert "no case: what the uninstaller named is not known" in alone.out
    assert kleff("verify", file, *on, "--json").json()["not_known"] == ["no case: what the uninstaller named is not known"]


@pytest.mark.parametrize("quiet", [True, False])
def test_failed_stays_failed_after_every_kill(folder: Path, quiet: bool) -> None:
    """A later step deletes what showed that it failed, Kleff is killed, the case goes on: nobody has done it by hand."""
    key = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe"
    body = ENTRY + f"optional = true\n[[delete]]\nkey = '{key}'\n" + delete(HOE)
    writes = 1
    for write in itertools.count(1):
        bench = Bench(folder / f"{write}", "windows")
        installed(bench, "cannot", code=7, removes=False)
        if not quiet:
            bench.on.api.delete_value("HKLM", key.removeprefix("HKLM\\"), "QuietUninstallString")
        job = bench.job(body)
        made = job.preview()
        with killed_at(write, after=True) as seen:
            job.run(made, bench.folder / "cases")
        writes = seen[0]
        if writes < write:
            break
        found = [c for c in Job.cases(bench.folder / "cases") if (c / "case.db").exists()]
        case = bench.again(job, found[0]) if found else None
        if case is None or case.record().state in ("new", "finished"):
            continue
        ended = case.resume()
        assert not ended.clean, write
        failed = [r for r in ended.rows if r.action.phase == "uninstall"]
        assert [(r.state, "by hand" in r.note and quiet) for r in failed] == [("failed", False)], (write, failed[0].note)
        assert failed[0].note.count("deleted since") <= 1
        case.undo()
    assert writes > 10
