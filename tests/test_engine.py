"""The engine asked directly, on workstations in memory: what is planned, chosen, refused, kept, verified, killed and taken back."""

from __future__ import annotations

import itertools
import re
import shutil
from pathlib import Path

import pytest

from kleff.case.guard.tables import NAMED, NEVER, of_system
from kleff.engine.job import Job
from kleff.errors import DamagedCase, Refused, UsageError
from kleff.registry.regfile import RegKey
from memory import Bench, delete, killed_at, states
from test_choices import ASKS

FOLDER = r"C:\Program Files\Rakeworks\Hoe"
UNINSTALL = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe"


# -- the guard ----------------------------------------------------------------------------------------------------

# a path, and why it is refused; "" where it is not
REFUSED_WINDOWS = {
    "C:\\": "root of a volume", "D:\\": "root of a volume", r"C:\Users": "holds the home folder", "{user.home}": "is the home folder",
    r"C:\Users\mira": "is the home folder of mira", r"c:\USERS\Mira": "is the home folder of mira", "{user.documents}": "documents folder",
    r"{user.documents}\**": "without a wildcard", r"{user.documents}\pl*": "without a wildcard", r"{user.desktop}\*": "without a wildcard",
    r"{user.documents}\plan.txt": "", "{user.pictures}": "pictures folder of", "{user.downloads}": "downloads folder of",
    r"{user.home}\AppData": "system's own", "{user.roaming}": "system's own", "{user.local}": "system's own", r"{user.local}\Rakeworks": "",
    r"{program_files}\*": "must be named in full", r"{program_files}\Rake*": "must be named in full", "{program_files}": "system's own",
    r"{program_files}\Rakeworks": "", r"{program_files}\Rakeworks\*": "", r"{program_data}\*": "must be named in full",
    "{program_data}": "system's own", r"C:\Windows": "system's own", r"C:\Windows\System32": "system's own",
    r"C:\Windows\System32\drivers": "system's own", r"C:\Windows\System32\*.exe": "four letters",
    r"C:\Windows\System32\config": "system's own",
    r"C:\Windows\System32\drivers\rake.sys": "", r"C:\Windows\System32\drivers\rake*.sys": "",
    r"C:\Windows\System32\drivers\r*.sys": "three",
}  # fmt: skip
REFUSED_LINUX = {
    "/": "root of a volume", "/usr": "system's own", "/usr/bin": "system's own", "/home": "holds the home folder", "/opt/rakeworks": "",
    "/home/mira": "home folder of mira", "{user.home}": "home folder of", "/root": "home folder of root", "/etc/passwd": "system's own",
    "{user.documents}/*": "without a wildcard", "{user.documents}": "documents folder of", "/opt/*": "must be named in full",
    "/usr/bin/ra*": "four letters", "/usr/bin/rake": "", "/var/lib/r*": "must be named in full", "/tmp": "system's own",
    "/var/log": "system's own", "/var/lib/rake": "", "/var/log/rake.log": "",
}  # fmt: skip


THERE = {
    "windows": [
        rf"{FOLDER}\hoe.exe", r"C:\Windows\System32\drivers\rake.sys", r"C:\Windows\System32\config\SAM", r"C:\ProgramData\Rakeworks\x",
    ],
    "linux": ["/opt/rakeworks/x", "/usr/bin/rake", "/var/lib/rake/x", "/var/log/rake.log", "/tmp/x"],
}  # fmt: skip


@pytest.mark.parametrize(("system", "path", "why"), [
    *(("windows", *one) for one in REFUSED_WINDOWS.items()), *(("linux", *one) for one in REFUSED_LINUX.items()),
])  # fmt: skip
def test_places_that_are_refused(folder: Path, system: str, path: str, why: str) -> None:
    bench = Bench(folder, system)
    for text in THERE[system]:
        bench.on.files.add(text)
    for account in ("mira", "tomas") if system == "windows" else ():
        for name in ("Desktop", "Pictures", "Downloads", "Documents"):
            bench.on.files.add(rf"C:\Users\{account}\{name}\plan.txt", "own")
        bench.on.files.add(rf"C:\Users\{account}\AppData\Roaming\Rakeworks\x")
        bench.on.files.add(rf"C:\Users\{account}\AppData\Local\Rakeworks\x")
    planned = bench.plan(delete(path), phase="delete")
    refused = [a.reason for a in planned if a.state == "refused"]
    assert (refused != []) == bool(why), states(planned)
    assert all(why in reason for reason in refused)
    assert why or any(a.state == "to do" for a in planned), states(planned)


@pytest.mark.parametrize(("system", "table"), [(name, of_system(name).places) for name in ("windows", "linux")])
def test_every_place_of_the_tables(folder: Path, system: str, table: dict[str, str]) -> None:
    """Itself never; what lies directly in it only as its table says: by its whole name, or single files by four letters."""
    bench, style = Bench(folder, system), "\\" if system == "windows" else "/"
    if system == "linux":
        bench.on.files.add("/etc/login.defs", "")  # as a folder it would say of no account whether it is a person's
    for text, rule in table.items():
        place = text.replace("{drive}", "C:").replace("*", "any").replace("?", "x")
        if "{" in place or place.rstrip(style) in ("C:", ""):
            continue
        there = bench.on.files.look(bench.on.files.path(place))
        if there is not None and there.is_file:
            continue
        child = f"{place}{style}rakeworks"
        if bench.on.files.look(bench.on.files.path(child)) is None:
            bench.on.files.add(child, folder=True)
        assert [a.state for a in bench.plan(delete(place), phase="delete")] == ["refused"], place
        if rule in (NEVER, NAMED) and child.replace("C:", "{drive}") not in table:
            wanted = "to do" if rule == NAMED else "refused"
            assert [a.state for a in bench.plan(delete(child), phase="delete")] == [wanted], child
        assert {a.state for a in bench.plan(delete(f"{place}{style}ra*"), phase="delete")} <= {"refused"}, place


def test_at_most_counts_each_pattern(folder: Path) -> None:
    bench = Bench(folder, "linux")
    for number in range(51):
        bench.on.files.add(f"/opt/rake/cache/{number}")
    assert "more than at_most = 50" in bench.plan(delete("/opt/rake/cache/*"), phase="delete")[0].reason
    assert {a.state for a in bench.plan(delete("/opt/rake/cache/*", more="at_most = 51\n"), phase="delete")} == {"to do"}
    assert {a.state for a in bench.plan(delete("/opt/rake/cache/1*", "/opt/rake/cache/2*"), phase="delete")} == {"to do"}


@pytest.mark.parametrize(
    ("key", "why"),
    [
        (r"HKLM\Software\Microsoft", "system's own"), (r"HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows", "system's own"),
        (r"HKLM\SYSTEM\CurrentControlSet", "system's own"), (r"HKCU\Software", "system's own"), (r"HKCR\CLSID", "system's own"),
        (r"HKLM\Software\Microsoft\Windows\CurrentVersion\Run", "system's own"), (r"HKLM\Software\Rakeworks", ""),
        (r"HKCU\Software\Rakeworks", ""), (r"HKLM\SYSTEM\CurrentControlSet\Services\rakesvc", ""),
    ],
)  # fmt: skip
def test_keys_that_are_refused(folder: Path, key: str, why: str) -> None:
    bench = Bench(folder)
    for text in (r"HKLM\SOFTWARE\Rakeworks", r"HKU\S-1-5-21-1-2-3-1001\Software\Rakeworks", r"HKLM\SOFTWARE\Classes\CLSID",
                 r"HKLM\SYSTEM\ControlSet001\Services\rakesvc", r"HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows",
                 r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run"):  # fmt: skip
        bench.on.api.add(text, Value="x")
    planned = bench.plan(f"[[delete]]\nkey = '{key}'\n", phase="delete")
    found = {a.state for a in planned if a.state != "absent"}
    assert found == ({"refused"} if why else {"to do"}), states(planned)
    assert all(why in a.reason for a in planned if a.state == "refused")


def test_links_on_the_way(folder: Path) -> None:
    """Those that only an administrator can change are followed and told; another's refuses the run."""
    bench = Bench(folder, "linux")
    bench.on.files.add("/usr/lib/rake/x")
    bench.on.files.add("/lib", target="usr/lib")
    planned = bench.plan(delete("/lib/rake"), phase="delete")
    assert (planned[0].target, planned[0].state) == ("/usr/lib/rake", "to do")
    assert "reached by the link /lib -> usr/lib" in " ".join(planned[0].shows)
    bench.on.files.add("/srv/theirs/x")
    bench.on.files.add("/home/mira/rake", target="/srv/theirs", uid=1001)
    planned = bench.plan(delete("{user.home}/rake/x"), phase="delete")
    assert {a.state for a in planned if "mira" in (a.account, a.target)} == {"refused"}
    planned = bench.plan(delete("{user.home}/rake"), phase="delete")
    assert "only the link goes" in " ".join(a.reason + " ".join(a.shows) for a in planned)


# -- what has to stay ---------------------------------------------------------------------------------------------


def test_neighbours_stay(folder: Path) -> None:
    """Registered products and packages that are not removed, with what lies in their places."""
    bench = Bench(folder)
    for name in ("Hoe", "Rake"):
        bench.on.files.add(rf"C:\Program Files\Rakeworks\{name}\{name}.exe")
        bench.on.entry(name, name, "2.0", rf"C:\Program Files\Rakeworks\{name}")
    _, ended = bench.run(delete(r"C:\Program Files\Rakeworks"))
    assert bench.names(r"C:\Program Files\Rakeworks") == ["Hoe", "Hoe/Hoe.exe", "Rake", "Rake/Rake.exe"]
    assert {f.state for f in ended.verification.findings} == {"kept"}
    linux = Bench(folder / "linux", "linux")
    linux.on.packages.add("rake", "1", ["/opt/rakeworks/rake/bin"])
    linux.on.files.add("/opt/rakeworks/rake/state", "live")
    linux.on.files.add("/opt/rakeworks/other", "x")
    linux.run(delete("/opt/rakeworks"))
    assert linux.names("/opt/rakeworks") == ["rake", "rake/bin"]  # a package owns its own paths alone, not what lies beside them


def test_a_folder_that_leads_elsewhere_is_kept(folder: Path) -> None:
    bench = Bench(folder, "linux")
    bench.on.files.add("/home/mira/.config/user-dirs.dirs", 'XDG_DOCUMENTS_DIR="/etc/rakeworks"\n', uid=1001)
    bench.on.files.add("/etc/rakeworks/labels/x")
    found = states(bench.plan(delete("{user.documents}/labels"), phase="delete"))
    assert found["/etc/rakeworks/labels"] == ("kept", "the folder /etc/rakeworks of mira lies outside the home folder")


def test_a_folder_that_has_become_empty_goes_too(folder: Path) -> None:
    """Whichever step stands first: it is looked at again in the end."""
    bench = Bench(folder, "linux")
    bench.on.files.add("/opt/rakeworks/hoe/x")
    before = bench.files
    job, ended = bench.run(delete("/opt/rakeworks", more="only_if_empty = true\n") + delete("/opt/rakeworks/hoe"))
    assert bench.names("/opt") == []
    assert ended.clean
    job.undo()
    assert bench.files == before


# -- kinds --------------------------------------------------------------------------------------------------------


def equipped(folder: Path) -> Bench:
    """A Windows workstation with a product of every kind of thing."""
    bench = Bench(folder)
    on = bench.on
    for name in ("hoe.exe", "un.exe", r"data\soil.txt"):
        on.files.add(rf"{FOLDER}\{name}", name)
    on.files.add(r"C:\Users\mira\AppData\Roaming\Rakeworks\hoe.ini", "mira's")
    on.files.add(r"C:\Users\mira\Documents\plan.txt", "mine")
    on.entry("Hoe", "Hoe 2", "2.0", FOLDER, rf"{FOLDER}\un.exe", "Rakeworks")
    on.service("hoesvc", rf"{FOLDER}\hoe.exe")
    on.processes.add("hoe.exe", rf"{FOLDER}\hoe.exe", "mira")
    on.api.add(r"HKLM\SOFTWARE\Rakeworks\Hoe", Path=FOLDER)
    on.api.add(r"HKU\S-1-5-21-1-2-3-1001\Software\Rakeworks\Hoe", Last="x")
    on.api.add(r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run", Hoe=rf"{FOLDER}\hoe.exe", Other=r"C:\other.exe")

    def uninstall(argv: object) -> tuple[int, str]:
        on.files.open_folder(on.files.path(FOLDER)).delete_tree("data", lambda n: None)
        for hive, path in (("HKLM", UNINSTALL[5:]),):
            on.api.delete_key(hive, path)
        return 0, "bye"

    on.behaves(rf"{FOLDER}\un.exe", uninstall)
    return bench


WHOLE = f"""
[[evidence]]
entry = "Hoe*"
publisher = "Rakeworks"
[[backup]]
label = "settings"
paths = ['{{user.roaming}}\\Rakeworks\\hoe.ini']
[[backup]]
label = "keys"
key = 'HKLM\\Software\\Rakeworks\\Hoe'
[[stop]]
process = "hoe.exe"
[[stop]]
service = "hoesvc"
[[uninstall]]
entry = "Hoe*"
publisher = "Rakeworks"
[[delete]]
paths = ['{FOLDER}', '{{user.roaming}}\\Rakeworks']
[[delete]]
key = 'HKLM\\Software\\Rakeworks\\Hoe'
[[delete]]
key = 'HKCU\\Software\\Rakeworks\\Hoe'
[[delete]]
value = "Hoe"
in_key = 'HKLM\\Software\\Microsoft\\Windows\\CurrentVersion\\Run'
"""


def registry(bench: Bench) -> list[str]:
    """All keys and values."""
    lines: list[str] = []

    def take(key: RegKey, path: str) -> None:
        lines.extend(f"{path}: {value}" for value in key.values.values())
        lines.append(path)
        for below in key.keys.values():
            take(below, f"{path}\\{below.name}")

    take(bench.on.api.root, "")
    return sorted(lines)


def test_a_whole_product_goes_and_comes_back(folder: Path) -> None:
    bench = equipped(folder)
    before, keys = bench.files, registry(bench)
    job, ended = bench.run(WHOLE)
    assert ended.clean
    assert bench.on.commands.ran == [[rf"{FOLDER}\un.exe", "/s"]]
    assert not bench.on.control.running("hoesvc")
    assert bench.names(r"C:\Program Files") == ["Rakeworks"]
    assert bench.names(r"C:\Users\mira") == [
        "AppData", "AppData/Roaming", "Documents", "Documents/plan.txt",
    ]  # fmt: skip
    assert bench.undo(job).stays == []
    assert bench.files == before
    assert registry(bench) == keys
    assert bench.on.control.running("hoesvc")


@pytest.mark.parametrize("way", ["resume", "undo"])
def test_killed_at_every_write(folder: Path, way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Before and after each: resume ends as an uninterrupted run does, undo ends as if nothing had been."""
    monkeypatch.setattr("kleff.case.effects.spared.STILL", 0.01)
    monkeypatch.setattr("kleff.objects.processes.SETTLING", 0.01)
    bench = equipped(folder / "whole")
    with killed_at(0, False) as writes:
        bench.run(WHOLE)
    wanted, left = sorted(bench.files), registry(bench)
    for write, after in itertools.product(range(1, writes[0] + 1), (False, True)):
        where = folder / f"{write}-{after}"
        bench = equipped(where)
        before, keys = bench.files, registry(bench)
        job = bench.job(WHOLE)
        preview = job.preview(compared=False)
        with killed_at(write, after):
            job.run(preview, where / "cases")
        begun = goes_on(bench, job, next((where / "cases").iterdir()), way)
        if way == "resume" and begun:
            assert (sorted(bench.files), registry(bench)) == (wanted, left), (write, after)
            assert len(bench.on.commands.ran) == 1, (write, after)
        else:
            assert bench.files == before, (write, after)
            assert registry(bench) == keys, (write, after)
        shutil.rmtree(where)


def goes_on(bench: Bench, job: Job, case: Path, way: str) -> bool:
    """Go on with a killed case, or take it back; False if it was never begun, or is finished."""
    try:
        again = bench.again(job, case)
        if way == "resume":
            again.resume()
        else:
            again.undo()
    except (DamagedCase, Refused) as error:
        said = str(error)
    else:
        return True
    assert any(told in said for told in ("never begun", "cut off before its plan", "is finished")), said
    return "is finished" in said


# -- choices ------------------------------------------------------------------------------------------------------

CHOSEN = {
    "/opt/rakeworks/profile": ('unless = "coming-back"', lambda back, edition, parts: not back),
    "/srv/school": ('when = "edition is school"', lambda back, edition, parts: edition == "school"),
    "/srv/printing": ('when = "parts has printing and not coming-back"', lambda back, edition, parts: "printing" in parts and not back),
    "/srv/other": ('unless = "not parts has scanning"', lambda back, edition, parts: "scanning" in parts),
}


@pytest.mark.parametrize("parts", [[], ["printing"], ["scanning"], ["printing", "scanning"]])
@pytest.mark.parametrize("edition", ["school", "garden"])
@pytest.mark.parametrize("back", [True, False])
def test_answers_decide(folder: Path, back: bool, edition: str, parts: list[str]) -> None:
    """What an answer does without stays, also below a folder that another step names; a case remembers, and verifies by that."""
    bench = Bench(folder, "linux")
    for place in ("/opt/rakeworks/bin", *(f"{place}/x" for place in CHOSEN)):
        bench.on.files.add(place)
    body = ASKS + delete("/opt/rakeworks") + "".join(delete(place, more=f"{when}\n") for place, (when, _) in CHOSEN.items())
    answers = [f"coming-back={'yes' if back else 'no'}", f"edition={edition}", f"parts={','.join(parts)}"]
    before = bench.files
    job, ended = bench.run(body, *answers)
    for place, (_, goes) in CHOSEN.items():
        assert (bench.on.files.look(bench.on.files.path(place)) is None) == goes(back, edition, parts), place
    assert bench.on.files.look(bench.on.files.path("/opt/rakeworks/bin")) is None
    assert ended.clean
    assert job.verify().clean
    assert job.undo().stays == []
    assert bench.files == before


@pytest.mark.parametrize(("answer", "why"), [
    ("edition=tree", "'tree' does not answer: Which edition is it?"), ("coming-back=perhaps", "answer with yes|no"),
    ("parts=printing,glue", "several with commas"), ("other=1", "nothing is asked with the id 'other'"),
    ("edition", "write  --answer ID=VALUE"),
    ("coming-back=yes", "not answered: Which edition is it?"),
])  # fmt: skip
def test_answers_that_are_none(folder: Path, answer: str, why: str) -> None:
    with pytest.raises((UsageError, Refused), match=re.escape(why)):
        Bench(folder, "linux").preview(ASKS + delete("/opt/x"), answer)
