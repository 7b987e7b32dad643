"""What belongs to a package that stays: kept with its data, and put back if a script of a package that goes has taken it."""

from __future__ import annotations

import itertools
import shutil
import subprocess
from pathlib import Path

import pytest

from debs import NEEDED
from kleff.engine.job import Job
from kleff.errors import ProcedureError
from memory import Bench, delete, killed_at, states
from support import IS_ROOT, Kleff, differences, linux_tree, procedure, tree, write

BUSYBOX = Path("/bin/busybox")


def test_a_folder_of_a_package_that_stays_is_kept_with_its_data(folder: Path) -> None:
    """dpkg knows folders, not what lies in them; the step that named it is not clean, unless it says even_if_shared of that very path."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("spade", "1.0", ["/usr/bin/spade"], folders=["/var/lib/shed", "/var/lib/both"])
    bench.on.packages.add("hoe", "1.0", ["/usr/bin/hoe"], folders=["/var/lib/both"])
    for name in ("shed", "both"):
        bench.on.files.add(f"/var/lib/{name}/live.db", "data")
    purge = "[[purge]]\npackage = 'hoe'\n"
    before = bench.files
    reason = "it belongs to the package spade, which stays, with what lies in it"
    planned = bench.plan(purge + delete("/var/lib/shed"), phase="delete")
    assert states(planned) == {"/var/lib/shed": ("kept", reason)}
    job, ended = bench.run(purge + delete("/var/lib/shed", "/var/lib/both"))
    assert bench.names("/var/lib/shed") == ["live.db"]
    assert bench.names("/var/lib/both") == []  # the folder is spade's too; what lies in it was hoe's as well
    assert [(f.state, f.target, f.reason) for f in ended.verification.open] == [("left", "/var/lib/shed", reason)]
    job.undo()
    assert bench.files == before
    job, ended = bench.run(purge + delete("/var/lib/shed", more="even_if_shared = true\n"))
    assert ended.clean
    assert bench.names("/var/lib/shed") == []
    assert bench.on.files.look(bench.on.files.path("/var/lib/shed")) is not None
    job.undo()
    assert bench.files == before
    with pytest.raises(ProcedureError, match="has a wildcard, but even_if_shared is for exact paths"):
        bench.plan(purge + delete("/var/lib/sh*d", more="even_if_shared = true\n"))
    inside, ended = bench.run(purge + delete("/var/lib/shed/live.db"))  # named itself: the folder is not what is deleted
    assert ended.clean
    inside.undo()
    bench.on.packages.add("rake", "1.0", [], folders=["/opt/rakes/own"])
    bench.on.files.add("/opt/rakes/own/data")
    bench.on.files.add("/opt/rakes/other")
    job, ended = bench.run(purge + delete("/opt/rakes"))
    assert ended.clean  # what was named went, but for what stays inside, which is listed
    assert bench.names("/opt/rakes") == ["own", "own/data"]
    assert [f.target for f in ended.verification.of("kept")] == ["/opt/rakes/own"]


@pytest.mark.parametrize("harm", ["delete", "change"])
def test_what_a_script_deletes_of_others_is_put_back(folder: Path, harm: str) -> None:
    """Said before, compared after; what cannot be put back is told and is not clean."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("spade", "1.0", ["/usr/bin/spade"], config=["/etc/shed/spade.conf"])
    bench.on.packages.add("hoe", "1.0", ["/usr/bin/hoe"], scripts={"postrm": "#!/bin/sh\nrm -rf /etc/shed /var/lib/shed\n"})
    bench.on.files.add("/etc/shed/own.conf", "hoe's own")
    bench.on.files.add("/var/lib/shed/data", "hoe's data")
    before = bench.files

    def script() -> None:
        for text in ("/etc/shed/spade.conf", "/etc/shed/own.conf", "/var/lib/shed/data"):
            bench.on.files.remove_single(bench.on.files.path(text))
        bench.on.files.remove_single(bench.on.files.path("/var/lib/shed"))
        if harm == "change":
            bench.on.files.add("/etc/shed/spade.conf", "changed by hoe's script")
        else:
            bench.on.files.remove_single(bench.on.files.path("/etc/shed"))

    bench.on.packages.scripts["hoe"] = script
    body = "[[purge]]\npackage = 'hoe'\n"
    shown = bench.plan(body, phase="purge")[0].shows
    assert any("its own script names /etc/shed, where 1 thing of others is: put back after it" in line for line in shown), shown
    job, ended = bench.run(body)
    there = bench.on.files.look(bench.on.files.path("/etc/shed/spade.conf"))
    assert there is not None
    if harm == "delete":
        assert ended.clean
        assert there == before_look(before, "/etc/shed/spade.conf", bench)
        assert bench.names("/etc/shed") == ["spade.conf"]
        assert "put back after it: 1 thing that belongs to others" in ended.rows[0].note
    else:
        assert not ended.clean
        assert [(f.state, f.target) for f in ended.verification.open] == [("failed", "/etc/shed/spade.conf")]
        assert "which stays" in ended.verification.open[0].reason
    assert bench.on.files.look(bench.on.files.path("/var/lib/shed")) is None
    job.undo()
    if harm == "delete":
        assert bench.files == before


def before_look(before: dict[tuple[str, ...], tuple[object, ...]], text: str, bench: Bench) -> object:
    """What is there now, if its content is what it was."""
    now = bench.files
    key = tuple(p for p in text.split("/") if p)
    found = [k for k in before if k[-len(key) :] == key]
    assert [before[k] for k in found] == [now[k] for k in found]
    return bench.on.files.look(bench.on.files.path(text))


@pytest.mark.skipif(not IS_ROOT or not all(map(shutil.which, NEEDED)) or not BUSYBOX.exists(), reason="needs root, dpkg and busybox-static")
def test_a_real_script_that_deletes_a_neighbours_files(kleff: Kleff, tmp_path: Path) -> None:
    """By dpkg itself: one package's postrm clears a folder in which another, which stays, keeps its configuration and its data."""
    top = linux_tree(tmp_path / "tree")
    shutil.copy(BUSYBOX, top / "usr/bin/busybox")
    for name in ("sh", "rm"):
        (top / "usr/bin" / name).symlink_to("busybox")
    going, staying = tmp_path / "hoe", tmp_path / "spade"
    write(going / "usr/bin/hoe", "hoe")
    write(going / "DEBIAN/postrm", '#!/bin/sh\nset -e\nif [ "$1" = purge ]; then rm -rf /etc/shed /var/lib/shed; fi\n', mode=0o755)
    write(staying / "etc/shed/spade.conf", "blade = 7\n")
    (staying / "var/lib/shed").mkdir(parents=True)
    write(staying / "DEBIAN/conffiles", "/etc/shed/spade.conf\n")
    for source in (going, staying):
        who = "Brindlewort <tools@brindlewort.example>"
        text = f"Package: {source.name}\nVersion: 1.0\nArchitecture: all\nMaintainer: {who}\nDescription: x\n"
        write(source / "DEBIAN/control", text)
        deb = tmp_path / f"{source.name}.deb"
        subprocess.run(["dpkg-deb", "--root-owner-group", "-b", source, deb], check=True, capture_output=True)
        subprocess.run(["dpkg", f"--root={top}", "-i", deb], check=True, capture_output=True)
    write(top / "var/lib/shed/live.db", "years of work")
    write(top / "etc/shed/hoe.conf", "hoe's own, known to nobody")
    before = tree(top)
    file, on = procedure(tmp_path / "p.toml", "[[evidence]]\npackage = 'hoe'\n[[purge]]\npackage = 'hoe'\n"), ("--on", f"root:{top}")
    assert "its own script names /etc/shed, where" in kleff("preview", file, *on).out
    done = kleff("run", file, *on, "--yes", looked=True)
    assert "put back after it" in kleff("report", kleff.case()).out, done.out
    assert (top / "etc/shed/spade.conf").read_text() == "blade = 7\n"
    assert (top / "var/lib/shed/live.db").read_text() == "years of work"
    assert not (top / "usr/bin/hoe").exists()
    assert [d for d in differences(before, tree(top)) if "etc/shed/spade" in d or "var/lib/shed" in d] == []
    kleff("undo", kleff.case(), "--yes")
    found = [d.split(": ", 1)[1] for d in differences(before, tree(top))]
    assert [d for d in found if not d.startswith(("var/lib/dpkg", "var/lib/kleff", "var/log", ".kleff"))] == []


# -- the choice ---------------------------------------------------------------------------------------------------

WHICH = "[[ask]]\nid = 'which'\nquestion = 'Which?'\ntype = 'some'\nfrom = '{0}'\n"
TOP = r"C:\Program Files\Rakeworks"


def three_versions(folder: Path) -> Bench:
    bench = Bench(folder)
    for number in "123":
        place = rf"{TOP}\Hoe {number}"
        bench.on.files.add(rf"{place}\hoe.exe")
        bench.on.entry(f"Hoe{number}", f"Rakeworks Hoe {number}", f"{number}.0", place, rf"{place}\unins.exe", "Rakeworks")
        key = rf"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe{number}"
        bench.on.behaves(rf"{place}\unins.exe", lambda argv, key=key: (bench.on.api.delete_key("HKLM", key), (0, ""))[1])
    return bench


def test_a_product_that_was_not_chosen_keeps_its_places(folder: Path) -> None:
    """Whatever any step names."""
    bench = three_versions(folder)
    body = (
        WHICH.format("versions") + "[[evidence]]\nentry = 'Rakeworks Hoe*'\n"
        "[[uninstall]]\nentry = 'Rakeworks Hoe*'\npublisher = 'Rakeworks'\nchosen = 'which'\n" + delete(rf"{TOP}\Hoe 1", rf"{TOP}\Hoe 3")
        + delete(rf"{TOP}\*") + delete(TOP)
    )  # fmt: skip
    before = bench.files
    job, ended = bench.run(body, "which=2.0")
    assert ended.clean, ended.verification.open
    assert not ended.verification.gone
    assert bench.names(TOP) == ["Hoe 1", "Hoe 1/hoe.exe", "Hoe 1/unins.exe", "Hoe 3", "Hoe 3/hoe.exe", "Hoe 3/unins.exe"]
    job.undo()
    assert bench.files == before


def test_one_whose_registration_is_deleted_goes(folder: Path) -> None:
    """Keys that went while the programs stayed were "gone" once."""
    bench = three_versions(folder)
    key = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Hoe1"
    job, ended = bench.run("[[evidence]]\nentry = 'Rakeworks Hoe 1'\n" + f"[[delete]]\nkey = '{key}'\n" + delete(rf"{TOP}\Hoe 1"))
    assert ended.clean
    assert bench.on.files.look(bench.on.files.path(rf"{TOP}\Hoe 1")) is None
    job.undo()
    _, ended = bench.run("[[evidence]]\nentry = 'Rakeworks Hoe 1'\n" + delete(rf"{TOP}\Hoe 1"))
    assert not ended.clean  # the entry is still there, and keeps it
    assert bench.on.files.look(bench.on.files.path(rf"{TOP}\Hoe 1\hoe.exe")) is not None


def test_the_choice_is_obeyed_in_every_phase(folder: Path) -> None:
    """Of two accounts one is chosen: saved, stopped, deleted is hers alone."""
    bench = Bench(folder)
    for name in ("mira", "tomas"):
        bench.on.files.add(rf"C:\Users\{name}\AppData\Roaming\Hoe\x")
        bench.on.processes.add("hoe.exe", rf"C:\Users\{name}\AppData\Roaming\Hoe\hoe.exe", name)
    step = "paths = ['{user.roaming}\\Hoe']\nchosen = 'which'\n"
    body = WHICH.format("accounts") + f"[[backup]]\nlabel = 'x'\n{step}[[stop]]\nprocess = 'hoe.exe'\nchosen = 'which'\n[[delete]]\n{step}"
    planned = bench.plan(body, "which=mira")
    assert {(a.phase, a.account) for a in planned if a.state == "to do" and a.account} == {("backup", "mira"), ("delete", "mira")}
    assert [a.items for a in planned if a.phase == "stop" and a.state == "to do"] == [1]
    _, ended = bench.run(body, "which=mira")
    assert [p.account for p in bench.on.processes.running] == ["tomas"]
    assert bench.names(r"C:\Users\tomas\AppData\Roaming") == ["Hoe", "Hoe/x"]
    assert ended.clean, ended.verification.open


def test_a_folder_that_two_owned_is_nobody_s_alone_afterwards(folder: Path) -> None:
    """With one of its packages gone it seems the other's alone; what the one had left in it is left, not kept."""
    bench = Bench(folder, "linux")
    for name in ("hoe", "spade"):
        bench.on.packages.add(name, "1.0", [f"/opt/shared/{name}"], folders=["/opt/shared"])
    bench.on.files.add("/opt/shared/cache/x")
    job, ended = bench.run("[[purge]]\npackage = 'hoe'\n" + delete("/opt/shared"))
    assert ended.clean, ended.verification.open
    assert bench.names("/opt/shared") == ["spade"]
    bench.on.files.add("/opt/shared/cache/again")
    assert [(f.state, f.target) for f in job.verify().open] == [("left", "/opt/shared")]


def test_what_is_remembered_of_units_comes_back_after_every_kill(folder: Path) -> None:
    """How a unit is enabled, and what the scripts' own tool remembers of it: undone without a resume, it is as before."""
    kept = ("/var/lib/systemd/deb-systemd-helper-enabled/hoe.service.dsh-also", "/etc/systemd/system/multi-user.target.wants/hoe.service",
            "/var/lib/systemd/deb-systemd-helper-enabled/multi-user.target.wants/hoe.service")  # fmt: skip
    writes = 0
    for write_at in itertools.count(1):
        bench = Bench(folder / str(write_at), "linux")
        bench.on.packages.add("hoe", "1.0", ["/usr/bin/hoe", "/usr/lib/systemd/system/hoe.service"], services=["hoe"])
        for text in kept:
            bench.on.files.add(text, "of hoe")
        bench.on.files.add("/var/lib/systemd/deb-systemd-helper-enabled/spade.service.dsh-also", "of spade")
        bench.on.packages.scripts["hoe"] = lambda b=bench: [b.on.files.remove_single(b.on.files.path(t)) for t in kept]
        before, job = bench.files, bench.job("[[purge]]\npackage = 'hoe'\n")
        made = job.preview()
        with killed_at(write_at, after=True) as seen:
            job.run(made, bench.folder / "cases")
        cases = Job.cases(bench.folder / "cases")
        case = bench.again(job, cases[0]) if cases else None
        if case is not None and case.record().state != "new":
            case.undo()
            assert bench.files == before, write_at
        writes = seen[0]
        if writes < write_at:
            break
    assert writes > 5


def test_a_script_that_names_a_place_of_many_makes_nothing_stay(folder: Path) -> None:
    """`/var/log/$NAME` names /var/log, which another package owns: what the product has there goes, what others have stays."""
    bench = Bench(folder, "linux")
    bench.on.packages.add("base-files", "12", ["/etc/issue"], folders=["/var/log", "/etc/systemd/system/multi-user.target.wants"])
    script = "rm -f /var/log/$NAME.log /etc/systemd/system/multi-user.target.wants/$NAME.service\n"
    bench.on.packages.add("hoed", "1.0", ["/usr/bin/hoed"], scripts={"postrm": script, "prerm": script})
    own = ("/var/log/hoed.log", "/etc/systemd/system/multi-user.target.wants/hoed.service")
    for text in (*own, "/var/log/others.log"):
        bench.on.files.add(text, "x")
    before = bench.files
    job, ended = bench.run("[[purge]]\npackage = 'hoed'\n" + delete("/var/log/hoed.log") + "[[delete]]\nunits_of = 'hoed'\n")
    assert ended.clean
    assert not ended.verification.of("kept")
    assert bench.names("/var/log") == ["others.log"]
    assert bench.names("/etc/systemd/system/multi-user.target.wants") == []
    assert job.undo().stays == []
    assert bench.files == before


def test_rotated_logs_go_by_a_wildcard(folder: Path) -> None:
    """Single files by at least four letters, folders by their whole name; never a folder by a wildcard, nor everybody's logs."""
    bench = Bench(folder, "linux")
    for text in ("hoed.log", "hoed.log.1", "hoed.log.2.gz", "hoed-neighbour/x", "hoed/access", "syslog.1"):
        bench.on.files.add(f"/var/log/{text}", "x")
    bench.on.files.add("/opt/hoed/x", "x")
    _, ended = bench.run(delete("/opt/hoed", "/var/log/hoed.log*", "/var/log/hoed"))
    assert ended.clean
    assert bench.names("/var/log") == ["hoed-neighbour", "hoed-neighbour/x", "syslog.1"]
    bench.on.files.add("/tmp/abc", "x")
    for wide in ("/var/log/hoed*", "/var/log/*.1", "/var/log/*", "/tmp/a*"):
        (action,) = bench.plan(delete(wide), phase="delete")[:1]
        assert action.state == "refused", wide
