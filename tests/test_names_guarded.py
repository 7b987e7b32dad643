"""The guard of everything that goes by a name: the system's own, too wide a name, another's of the same name."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from kleff.case.guard.tables import as_data, of_system, system_names
from kleff.engine.checking.static import always_refused
from kleff.engine.library import parse
from kleff.workstation.things import Task
from memory import Bench, delete, states
from support import Kleff, procedure

HOE = r"C:\Program Files\Rakeworks\Hoe"
HEAD = 'format = 1\n[product]\nid = "sample"\nname = "Sample"\n[[evidence]]\npath = \'{temp}/x\'\n'


def refusals(bench: Bench, body: str) -> list[str]:
    return [a.reason for a in bench.plan(body) if a.state == "refused"]


@pytest.mark.parametrize("system", ["windows", "linux"])
def test_what_is_the_system_s_own(folder: Path, system: str) -> None:
    """Every process of the table, by its exact name and within a wider one; nothing is ended."""
    bench = Bench(folder, system)
    own = [n for n in of_system(system).names["process"] if not set("*?") & set(n)]
    for name in own:
        bench.on.processes.add(name, "", "root")
    for name in own:
        assert refusals(bench, f"[[stop]]\nprocess = '{name}'\n") == [f"{name} is the system's own"], name
    assert refusals(bench, "[[stop]]\nprocess = '*'\n") == [
        "a name with a wildcard must have at least 4 letters besides wildcards and ending"
    ]
    wide = {"windows": "*explorer*", "linux": "*dbus-daemon*"}[system]
    assert "is the system's own" in refusals(bench, f"[[stop]]\nprocess = '{wide}'\n")[0]


def test_services_units_tasks_starts_and_packages(folder: Path) -> None:
    """The tables, the letters, and how many."""
    linux = Bench(folder / "l", "linux")
    for name in ("dbus", "systemd-journald", "hoe", *(f"hoes-{n}" for n in range(60))):
        linux.on.services.add(name)
    linux.on.packages.add("apt", "2.6", [])
    linux.on.packages.add("tzdata", "2024a", [])
    linux.on.packages.add("hoe", "1.0", [])
    for n in range(60):
        linux.on.packages.add(f"libhoes-{n}", "1.0", [])
    for body, why in {
        "[[stop]]\nservice = 'dbus'\n": "dbus is the system's own", "[[stop]]\nservice = 'systemd-journald'\n": "the system's own",
        "[[stop]]\nservice = 'h*'\n": "at least 4 letters", "[[stop]]\nservice = 'hoes-*'\n": "the name matches 60, more than at_most = 50",
        "[[purge]]\npackage = 'apt'\n": "apt is the system's own", "[[purge]]\npackage = ['hoe', 'tzdata']\n": "tzdata is the system's own",
        "[[purge]]\npackage = '*'\n": "at least 4 letters", "[[purge]]\npackage = 'libhoes-*'\n": "the name matches 60",
    }.items():  # fmt: skip
        found = refusals(linux, body)
        assert found, body
        assert all(why in reason for reason in found), (body, found)
    assert not refusals(linux, "[[stop]]\nservice = 'hoe'\n[[purge]]\npackage = 'hoe'\n")
    assert not refusals(linux, "[[stop]]\nservice = 'hoes-*'\nat_most = 60\n")
    windows = Bench(folder / "w")
    windows.on.service("Dnscache", "C:\\Windows\\System32\\svchost.exe")
    run = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run"
    windows.on.api.add(run, SecurityHealth="C:\\Windows\\System32\\x.exe", Hoe=rf'"{HOE}\hoe.exe"')
    windows.on.api.add(r"HKU\S-1-5-21-1-2-3-1001\Environment", Path="C:\\a;C:\\b", HOE_HOME=HOE)
    for body, why in {
        "[[stop]]\nservice = 'dnscache'\n": "is the system's own",
        "[[delete]]\nkey = 'HKLM\\SYSTEM\\CurrentControlSet\\Services\\Dnscache'\n": "the service Dnscache is the system's own",
        "[[delete]]\nkey = 'HKLM\\SYSTEM\\CurrentControlSet\\Services\\Dnscache\\Parameters'\n": "the service Dnscache is the system's own",
        "[[stop]]\nstartup = '*'\n": "at least 4 letters", "[[stop]]\nstartup = 'SecurityHealth'\n": "is the system's own",
        "[[delete]]\nvalue = 'path'\nin_key = 'HKCU\\Environment'\n": "the value path is the system's own",
    }.items():  # fmt: skip
        windows.on.api.add(r"HKLM\SYSTEM\ControlSet001\Services\Dnscache\Parameters", X="y")
        found = refusals(windows, body)
        assert found, body
        assert all(why in reason for reason in found), (body, found)
    assert not refusals(windows, "[[delete]]\nvalue = 'HOE_HOME'\nin_key = 'HKCU\\Environment'\n[[stop]]\nstartup = 'Hoe'\n")


def test_another_s_of_the_same_name_is_left(folder: Path) -> None:
    """Where the product's places are known: its program, its task, its start entry, not a neighbour's."""
    bench, run = Bench(folder), r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run"
    other = r"C:\Program Files\Alder\planner.exe"
    for path in (rf"{HOE}\planner.exe", other):
        bench.on.files.add(path)
        bench.on.processes.add("planner.exe", path, "mira")
    bench.on.processes.add("planner.exe", r"C:\Windows\py.exe", "mira")  # what an interpreter runs cannot be told by its place
    bench.on.api.add(run, Planner=rf'"{HOE}\planner.exe" /tray', Rota=rf'"{other}" /tray')
    tasks = [Task(r"\Hoe\nightly", rf'"{HOE}\planner.exe"', True), Task(r"\Alder\nightly", rf'"{other}"', True)]
    body = "[[stop]]\nprocess = 'planner.exe'\n[[stop]]\nstartup = 'planner.exe'\n[[stop]]\ntask = 'planner.exe'\n"
    places = f"[places]\nprogram = ['{HOE}']\n"
    for known, rest in ((places, {other}), ("", set())):
        planned = bench.plan(known + body + delete(HOE), phase="stop")
        assert [a.items for a in planned if a.kind == "process"] == [3 - len(rest)]
        assert ("left alone" in str([a.shows for a in planned])) == bool(rest)
        starts = states([a for a in planned if a.kind == "startup"])
        assert starts["start of Planner"][0] == "to do"
        assert starts["start of Rota"][0] == ("kept" if rest else "to do")
    from kleff.objects.tasks import TaskKind

    workstation = bench.on.open()
    workstation.tasks = type("Tasks", (), {"all": lambda self: tasks})()
    job = bench.job(places + body + delete(HOE))
    from dataclasses import replace

    planned = [a for a in replace(job, workstation=workstation).preview().plan.actions if a.kind == "task"]
    assert TaskKind.names == ("task",)
    assert [(a.state, a.target) for a in planned] == [("to do", r"task \Hoe\nightly"), ("kept", r"task \Alder\nightly")]
    _, ended = bench.run(places + "[[stop]]\nprocess = 'planner.exe'\n" + delete(HOE))
    assert [p.path for p in bench.on.processes.running] == [other]
    assert ended.clean, ended.verification.open


@pytest.mark.parametrize("path", [
    "/etc/pam.d/common-auth", "/etc/nsswitch.conf", "/etc/ld.so.cache", "/etc/systemd/system/multi-user.target.wants",
    "/usr/lib/x86_64-linux-gnu", "/home/mira/.bashrc", "{user.home}/.bashrc", "/usr/share/locale", "/etc/systemd/system/*.wants",
])  # fmt: skip
def test_places_that_were_open_once(folder: Path, path: str) -> None:
    bench = Bench(folder, "linux")
    fine = ["/etc/systemd/system/multi-user.target.wants/hoe.service", "/usr/share/locale/de/LC_MESSAGES/hoe.mo"]
    for text in ("/etc/pam.d/common-auth", "/etc/nsswitch.conf", "/etc/ld.so.cache", "/home/mira/.bashrc",
                 "/usr/lib/x86_64-linux-gnu/hoe/x", *fine):  # fmt: skip
        bench.on.files.add(text)
    assert refusals(bench, delete(path)), path
    assert not refusals(bench, delete("/usr/lib/x86_64-linux-gnu/hoe", *fine))


def test_kleff_itself_is_never_touched(kleff: Kleff, tmp_path: Path) -> None:
    import kleff as installed

    own = Path(installed.__file__).parent
    for place in (own, own.parent, own / "cli"):
        found = kleff("preview", procedure(tmp_path / "p.toml", f"[[delete]]\npaths = ['{place}']\n"), "--json", code=3).json()["actions"]
        assert [a["reason"] for a in found] == ["Kleff itself is installed there"], place


REFUSED = {
    "[[stop]]\nprocess = '*'\n": "at least 4 letters", "[[stop]]\nprocess = 'explorer.exe'\non = 'windows'\n": "is the system's own",
    "[[delete]]\npaths = ['/etc/*']\n": "must be named in full", "[[delete]]\npaths = ['/usr/bin']\n": "it is one of the system's own",
    "[[delete]]\npaths = ['C:\\Windows']\n": "it is one of the system's own", "[[delete]]\npaths = ['{user.home}']\n": "is the home folder",
    "[[delete]]\npaths = ['%ProgramFiles%']\n": "it is one of the system's own", "[[delete]]\nkey = 'HKLM\\Software'\n": "system's own",
    "[[delete]]\nvalue = 'Path'\nin_key = 'HKCU\\Environment'\n": "the value Path is the system's own",
    "[[purge]]\npackage = 'apt'\n": "apt is the system's own", "[[stop]]\nservice = '*'\n": "at least 4 letters",
    "[[stop]]\nstartup = '*'\n": "at least 4 letters", "[[stop]]\ntask = '\\Microsoft\\Windows\\Time'\n": "is the system's own",
    "[[delete]]\npaths = ['{user.documents}/**']\n": "without a wildcard",
}  # fmt: skip


@pytest.mark.parametrize("body", REFUSED)
def test_check_says_what_will_always_be_refused(body: str) -> None:
    found = always_refused(parse((HEAD + body).encode(), "p.toml"))
    assert found, body
    assert all(REFUSED[body] in text and "; name the product's own" in text for _, text in found), found
    assert [line for line, _ in found] == [7]


def test_check_ends_with_2_and_advises(kleff: Kleff, tmp_path: Path) -> None:
    file = procedure(tmp_path / "p.toml", "[[delete]]\npaths = ['/etc/*', '/opt/hoe']\n")
    said = kleff("check", file, code=2).out
    assert re.search(r"p\.toml:\d+:\d+: always refused: /etc/\*: what lies directly in /etc must be named in full", said)
    wide = "[[evidence]]\nentry = 'Hoe'\n[[uninstall]]\nentry = '*'\npublisher = 'Rakeworks*'\n"
    assert "entry = '*' means every product of that maker" in kleff("check", procedure(tmp_path / "q.toml", wide)).out


def test_the_tables_are_told(tmp_path: Path) -> None:
    """docs/guard.md holds every place and name of every table."""
    page = (Path(__file__).parent.parent / "docs/guard.md").read_text("utf-8")
    for system in system_names():
        for section in as_data(system).values():
            for names in section.values():
                assert all(f"`{name}`" in page for name in names)
