"""A whole booted workstation: real systemd, real dpkg, a real restart."""

from __future__ import annotations

import json
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from booted import Booted, boots, make_base
from debs import build, build_one, build_shed
from support import until, write

pytestmark = boots("booted")
SAMPLE = Path(__file__).parent.parent / "src/kleff/samples/print-bridge.toml"


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Booted]:
    folder = tmp_path_factory.mktemp("booted")
    box = Booted(make_base(tmp_path_factory), folder)
    packages = build(folder / "debs", scripts=True)
    shutil.copytree(folder / "debs", box.top / "srv/debs", ignore=lambda d, names: [n for n in names if not n.endswith(".deb")])
    write(box.top / "srv/print-bridge.toml", SAMPLE.read_bytes())
    write(box.top / "srv/restart.toml", SAMPLE.read_text().replace('vendor = "Brindlewort"', 'vendor = "Brindlewort"\nrestart = "always"'))
    box.do("useradd", "-m", "-u", "1001", "mira", code=0)
    box.packages = [f"/srv/debs/{p.name}" for p in packages]  # type: ignore[attr-defined]
    yield box
    box.stop()


def install(bench: Booted) -> None:
    bench.do("dpkg", "-i", *bench.packages, code=0)  # type: ignore[attr-defined]
    bench.do("systemctl", "enable", "--now", "brindlewort-bridge", code=0)
    write(bench.top / "etc/brindlewort-bridge/own.conf", "own")
    write(bench.top / "etc/systemd/system/brindlewort-bridge.service.d/override.conf", "[Service]\nNice=5\n")


def test_stopped_and_started_again(bench: Booted) -> None:
    install(bench)
    write(bench.top / "srv/stop.toml", SAMPLE.read_text().split("[[purge]]")[0] + "\n[[delete]]\npaths = ['/var/log/brindlewort-bridge']\n")
    bench.kleff("run", "/srv/stop.toml", "--on", "this", "--yes", code=4)  # the packages are left: it only stops
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "inactive"
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    assert case.startswith("/var/lib/kleff/cases/")
    bench.kleff("undo", case, "--yes")
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "active"
    assert bench.do("systemctl", "is-enabled", "brindlewort-bridge").stdout.strip() == "enabled"


def test_a_service_is_kept_from_starting_with_what_depends_on_it(bench: Booted) -> None:
    """A timer that starts it every second cannot, until the end; units of an account's own session are stopped and started again too."""
    install(bench)
    units = {
        "label-queue.service": "[Unit]\nRequires=brindlewort-bridge.service\n[Service]\nExecStart=/bin/sleep 9999\n",
        "kick.service": "[Service]\nType=oneshot\nExecStart=/bin/systemctl start --no-block brindlewort-bridge label-queue\n",
        "kick.timer": "[Timer]\nOnActiveSec=1\nOnUnitActiveSec=1\nAccuracySec=100ms\n",
    }
    for name, text in units.items():
        write(bench.top / "etc/systemd/system" / name, text)
    home = bench.top / "home/mira/.config/systemd/user"
    write(home / "label-tray.service", "[Service]\nExecStart=/bin/sleep 9999\n")
    bench.do("chown", "-R", "mira:mira", "/home/mira/.config", code=0)
    bench.do("systemctl", "daemon-reload", code=0)
    bench.do("systemctl", "start", "label-queue", "kick.timer", "user@1001.service", code=0)
    mine = ("setpriv", "--reuid=1001", "--regid=1001", "--clear-groups", "env", "XDG_RUNTIME_DIR=/run/user/1001", "systemctl", "--user")
    bench.do(*mine, "start", "label-tray", code=0)
    body = '[[stop]]\nservice = "brindlewort-bridge"\n[[stop]]\nunit = "label-tray.service"\n'
    slow = "[[stop]]\ncommand = ['/bin/sleep', '4']\n[[delete]]\npaths = ['/srv/garden']\n"
    head = SAMPLE.read_text().split("[[backup]]")[0]
    write(bench.top / "srv/hold.toml", head + body + slow)
    write(bench.top / "srv/garden/seed")
    inside = [
        "nsenter",
        "-t",
        bench._leader(),
        "-a",
        "env",
        "-i",
        "PATH=/usr/sbin:/usr/bin:/sbin:/bin",
        f"PYTHONPATH={bench.path}",
        "HOME=/root",
    ]
    child = subprocess.Popen([*inside, "python3", "-m", "kleff", "run", "/srv/hold.toml", "--on", "this", "--yes"])
    states = set()
    while child.poll() is None:
        time.sleep(0.3)
        if not Path(bench.top / "srv/garden").exists():
            break
        masked = bench.do("systemctl", "is-enabled", "brindlewort-bridge").stdout.strip() == "masked-runtime"
        if masked:
            states.add(bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip())
    assert child.wait(30) in (0, 4)
    assert "inactive" in states or "failed" in states, states
    assert bench.do(*mine, "is-active", "label-tray").stdout.strip() == "inactive"
    assert bench.do(*mine, "is-enabled", "label-tray").stdout.strip() != "masked-runtime"
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    assert bench.do("systemctl", "is-enabled", "brindlewort-bridge").stdout.strip() == "enabled"
    bench.do("systemctl", "stop", "kick.timer", code=0)
    bench.kleff("undo", case, "--yes")
    for name in ("brindlewort-bridge", "label-queue"):
        assert bench.do("systemctl", "is-active", name).stdout.strip() == "active", name
    assert bench.do(*mine, "is-active", "label-tray").stdout.strip() == "active"
    bench.do("systemctl", "stop", "label-queue", "user@1001.service", code=0)


def test_purged_and_put_back(bench: Booted) -> None:
    """A procedure that does no more than purge: packages, service and its setting come back; the service runs again."""
    install(bench)
    write(bench.top / "srv/purge.toml", SAMPLE.read_text().split("[[backup]]")[0] + '[[purge]]\npackage = ["brindlewort-bridge"]\n')

    def said() -> list[str]:
        verified = bench.do("dpkg", "--verify", "brindlewort-bridge").stdout
        listed = bench.do("dpkg-query", "-s", "brindlewort-bridge", code=0).stdout
        states = [bench.do("systemctl", word, "brindlewort-bridge").stdout for word in ("is-active", "is-enabled")]
        return [verified, listed, *states]

    before = said()
    assert before[2:] == ["active\n", "enabled\n"]
    bench.kleff("run", "/srv/purge.toml", "--on", "this", "--yes", code=4)
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout == "inactive\n"
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    bench.kleff("undo", case, "--yes")
    assert said() == before
    assert not (bench.top / "usr/sbin/policy-rc.d").exists()
    assert bench.do("dpkg", "--audit", code=0).stdout == ""


def test_a_program_outlives_the_unit_kleff_is_in(bench: Booted) -> None:
    """Kleff's own unit ends in the middle: the program it has started goes on, and resume does not start it again."""
    install(bench)
    write(bench.top / "usr/local/bin/close-labels", "#!/bin/sh\necho begun\nsleep 3\ntouch /srv/closed\nexit 0\n")
    (bench.top / "usr/local/bin/close-labels").chmod(0o755)
    step = "[[stop]]\ncommand = ['/usr/local/bin/close-labels']\nwithout_return = true\n"
    write(bench.top / "srv/close.toml", SAMPLE.read_text().split("[[backup]]")[0] + step)
    words = ("python3", "-m", "kleff", "run", "/srv/close.toml", "--on", "this", "--yes")
    path = f"--setenv=PYTHONPATH={bench.path}"
    cases = bench.top / "var/lib/kleff/cases"
    earlier = set(cases.glob("*/output/*.run"))
    bench.do("systemd-run", "--unit=technician", path, *words, code=0)
    assert until(lambda: bool(set(cases.glob("*/output/*.run")) - earlier))
    bench.do("systemctl", "kill", "--signal=KILL", "technician", code=0)  # whoever is in its control group
    assert not (bench.top / "srv/closed").exists()
    record = min(set(cases.glob("*/output/*.run")) - earlier)
    assert until(lambda: "code" in json.loads(record.read_bytes()))
    assert (bench.top / "srv/closed").exists()
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]
    assert case["state"] == "open"
    bench.kleff("resume", case["folder"], code=4)  # the packages are left
    assert [p.read_text() for p in Path(record).parent.glob("*.txt")] == ["begun\n"]


def test_removed_with_a_real_restart(bench: Booted) -> None:
    """The case waits, knows that it was not restarted yet, and goes on after the restart."""
    install(bench)
    child = subprocess.Popen(
        ["nsenter", "-t", bench._leader(), "-a", "setpriv", "--reuid=1001", "--regid=1001", "--clear-groups", "/usr/bin/tagbridge", "9999"]
    )
    try:
        done = bench.kleff("run", "/srv/restart.toml", "--on", "this", "--yes", code=5)
        child.wait(10)
        assert "a restart is needed" in done.stderr
        case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
        assert "has not been restarted since" in bench.kleff("resume", case, code=5).stderr
        assert "is unfinished" in bench.kleff("run", "/srv/print-bridge.toml", "--on", "this", "--yes", code=3).stderr
        bench.restart()
        bench.kleff("resume", case)
    finally:
        child.kill()
    assert "nothing is left" in bench.kleff("verify", case).stdout
    assert "\n  restarted " in bench.kleff("report", case).stdout
    assert bench.do("systemctl", "is-active", "brindlewort-bridge").stdout.strip() == "inactive"
    assert bench.do("dpkg", "--audit", code=0).stdout == ""
    assert bench.do("dpkg-query", "-W", "-f", "${Package}", "brindlewort-stocktake", code=0).stdout == "brindlewort-stocktake"
    assert not (bench.top / "etc/systemd/system/brindlewort-bridge.service.d").exists()
    bench.kleff("discard", case, "--yes")
    assert not (bench.top / ".kleff").exists()


def test_it_goes_on_by_itself(bench: Booted) -> None:
    """A unit that holds the program's whole path and the case, and is gone once the case goes on; refused where somebody would be asked."""
    install(bench)
    site = bench.top / "usr/local/lib/python3.11/dist-packages"
    write(site / "kleff-test.pth", bench.path.replace(":", "\n") + "\n")
    unit = bench.top / "etc/systemd/system/kleff-resume.service"
    run = ("run", "/srv/restart.toml", "--on", "this", "--yes", "--resume-after-restart")
    secret = ("env", "KLEFF_SECRET_PASSPHRASE_OF_THE_BAG=plum", "python3", "-m", "kleff")
    assert "passphrase is stored nowhere" in bench.do(*secret, *run, "--passphrase", code=3).stderr
    assert not unit.exists()
    said = bench.kleff(*run, code=5).stderr
    assert "it goes on by itself then" in said
    case = newest(bench)
    text = unit.read_text()
    assert f'"-m" "kleff" "resume" "{case}"' in text
    bench.restart()
    assert until(lambda: json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["state"] == "finished", 60)
    assert "nothing is left" in bench.kleff("verify", case).stdout
    assert not unit.exists()
    assert not (bench.top / "etc/systemd/system/multi-user.target.wants/kleff-resume.service").is_symlink()
    bench.kleff("undo", case, "--yes")
    bench.kleff(*run, code=5)
    bench.kleff("undo", newest(bench), "--yes")  # the unit goes with it
    assert not unit.exists()
    (site / "kleff-test.pth").unlink()


def test_as_an_ordinary_account(bench: Booted) -> None:
    """What it has no rights for is known before anything is done; for its own account alone it works."""
    for number, name in ((1002, "tomas"), (1003, "till")):
        bench.do("useradd", "-m", "-u", number, name)
    home = bench.top / "home"
    for name in ("mira", "tomas", "till"):
        write(home / name / ".local/share/hoe/seeds", name)
        bench.do("chown", "-R", f"{name}:{name}", f"/home/{name}", code=0)
        bench.do("chmod", "0700", f"/home/{name}", code=0)
    head = 'format = 1\n[product]\nid = "hoe"\nname = "Hoe"\nvendor = "Rakeworks"\n[[evidence]]\npath = "{user.home}/.local/share/hoe"\n'
    write(bench.top / "srv/hoe.toml", head + '[[delete]]\npaths = ["{user.home}/.local/share/hoe"]\n')
    mine = ("setpriv", "--reuid=1001", "--regid=1001", "--clear-groups", "env", "HOME=/home/mira", "python3", "-m", "kleff")
    words = ("/srv/hoe.toml", "--on", "this")
    said = bench.do(*mine, "run", *words, "--yes", code=3).stderr
    assert "an administrator's rights are needed for 3 actions (of root, till, tomas)" in said
    assert "run Kleff as administrator, or for some accounts alone:  --account mira" in said
    assert (home / "mira/.local/share/hoe/seeds").exists()
    done = bench.do(*mine, "run", *words, "--account", "mira", "--yes", code=0)
    assert "Hoe is gone for mira" in done.stdout
    assert "3 accounts were not looked at" in done.stdout
    assert not (home / "mira/.local/share/hoe").exists()
    assert (home / "tomas/.local/share/hoe/seeds").exists()


SHED = """format = 1
[product]
id = "shed"
name = "Shed"
vendor = "Rakeworks"
[[evidence]]
package = "rakeworks-shed"
[[backup]]
label = "beds"
command = ["shed-export"]
saves_as = "beds.sql"
[[stop]]
service = "shed@*"
[[purge]]
package = ["rakeworks-shed"]
[[delete]]
paths = ["/var/lib/rakeworks-shed"]
"""


@pytest.fixture
def shed(bench: Booted, tmp_path: Path) -> Booted:
    """Installed and used: two instances at work, data of its own account, a neighbour's data in the folder that both have."""
    packages = build_shed(tmp_path / "debs")
    (bench.top / "srv/shed").mkdir(exist_ok=True)
    for package in packages:
        shutil.copy(package, bench.top / "srv/shed")
    bench.do("dpkg", "-i", *(f"/srv/shed/{p.name}" for p in packages), code=0)
    bench.do("apt-mark", "auto", "librakes1", code=0)
    bench.do("systemctl", "start", "shed@one", "shed@two", code=0)
    write(bench.top / "var/lib/rakeworks-shed/beds.db", "tomatoes")
    bench.do("chown", "shed:shed", "/var/lib/rakeworks-shed/beds.db", code=0)
    write(bench.top / "var/lib/rakeworks/rake/used", "the neighbour's")
    write(bench.top / "srv/shed.toml", SHED)
    write(bench.top / "srv/runs-on.toml", SHED.replace('[[stop]]\nservice = "shed@*"\n', ""))
    return bench


def active(bench: Booted) -> list[str]:
    return [bench.do("systemctl", "is-active", f"shed@{name}").stdout.strip() for name in ("one", "two")]


def newest(bench: Booted) -> str:
    return str(json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"])


def test_a_template_unit_a_shared_folder_and_a_program_in_sbin(shed: Booted) -> None:
    """What runs on is left; with the step that stops it all of it is gone, and the neighbour's own is as it was."""
    still = shed.kleff("run", "/srv/runs-on.toml", "--on", "this", "--yes", code=4).stdout
    assert "it runs still, and rakeworks-shed has brought it" in still
    shed.kleff("undo", newest(shed), "--yes")
    assert active(shed) == ["active", "active"]
    shown = shed.kleff("preview", "/srv/shed.toml", "--full").stdout
    assert "/usr/sbin/shed-export" in shown
    assert "its own script names /var/lib/rakeworks" in shown
    done = shed.kleff("run", "/srv/shed.toml", "--on", "this", "--yes").stdout
    assert "Shed is gone" in done
    case = newest(shed)
    assert [p.read_text() for p in (shed.top / case.lstrip("/")).glob("bag/data/*/beds.sql")] == ["tomatoes"]
    assert active(shed) == ["inactive", "inactive"]
    assert (shed.top / "var/lib/rakeworks/rake/used").read_text() == "the neighbour's"
    assert (shed.top / "etc/rakeworks/rake.conf").read_text() == "teeth = 12\n"
    assert shed.do("dpkg", "--verify", "rakeworks-rake").stdout == ""
    shed.kleff("undo", case, "--yes")
    assert active(shed) == ["active", "active"]


def test_an_account_made_anew_and_a_library_taken_away(shed: Booted) -> None:
    """Files go to the account of that name, not to a stranger who has its number; what a foreign clean-up took is named first."""
    number = shed.do("id", "-u", "shed", code=0).stdout.strip()
    shed.kleff("run", "/srv/shed.toml", "--on", "this", "--yes")
    case = newest(shed)
    assert shed.do("id", "shed").returncode != 0
    shed.do("useradd", "--system", "--no-create-home", "-u", number, "stranger", code=0)
    shed.do("apt-get", "autoremove", "-y", code=0)
    assert shed.do("dpkg-query", "-W", "librakes1").returncode != 0
    said = shed.kleff("undo", case, "--yes", code=1).stdout
    assert "librakes1" in said
    assert shed.do("dpkg", "--audit", code=0).stdout == ""
    shed.do("dpkg", "-i", "/srv/shed/librakes1.deb", code=0)
    shed.do("apt-mark", "auto", "librakes1", code=0)
    shed.kleff("undo", case, "--yes")
    owners = shed.do("stat", "-c", "%U %n", "/var/lib/rakeworks-shed", "/var/lib/rakeworks-shed/beds.db", code=0).stdout
    assert owners == "shed /var/lib/rakeworks-shed\nshed /var/lib/rakeworks-shed/beds.db\n"
    assert shed.do("id", "-u", "shed", code=0).stdout.strip() != number
    assert "librakes1" in shed.do("apt-mark", "showauto", code=0).stdout
    assert "rakeworks-shed" not in shed.do("apt-mark", "showauto", code=0).stdout
    assert active(shed) == ["active", "active"]
    shed.do("userdel", "stranger", code=0)


SPOOL = "[Service]\nExecStart=/usr/bin/sleep 100000\n[Install]\nWantedBy=multi-user.target\n"
SOCKET = "[Socket]\nListenStream=127.0.0.1:7117\n[Install]\nWantedBy=sockets.target\n"
OFFICE_PRERM = "#!/bin/sh\nset -e\nsystemctl stop plum-spool.service plum-spool.socket\n"


def test_what_a_script_stops_of_others_runs_again(bench: Booted) -> None:
    """A part's script stops the service of a common package, which stays: undo starts it, and not what a person has stopped since."""
    folder = bench.top / "srv/plum"
    common, office = folder / "plum-common", folder / "plum-office"
    write(common / "usr/lib/systemd/system/plum-spool.service", SPOOL)
    write(common / "usr/lib/systemd/system/plum-spool.socket", SOCKET)
    write(common / "usr/lib/systemd/system/plum-clock.service", SPOOL)
    write(office / "usr/share/plum/office", "office\n")
    write(office / "DEBIAN/prerm", OFFICE_PRERM, 0o755)
    for source in (common, office):
        bench.do("dpkg", "-i", f"/srv/plum/{build_one(source, source.name).name}", code=0)
    bench.do("systemctl", "enable", "--now", "plum-spool.socket", "plum-clock.service", code=0)
    bench.do("systemctl", "start", "plum-spool.service", code=0)
    units = ("plum-spool.service", "plum-spool.socket", "plum-clock.service")

    def running() -> list[str]:
        return [unit for unit in units if bench.do("systemctl", "is-active", unit).stdout.strip() == "active"]

    before = running()
    assert before == list(units)
    write(bench.top / "srv/office.toml", 'format = 1\n[product]\nid = "o"\nname = "Office"\n[[evidence]]\npackage = "plum-office"\n'
          '[[purge]]\npackage = "plum-office"\n')  # fmt: skip
    bench.kleff("run", "/srv/office.toml", "--on", "this", "--yes", code=None)
    assert running() == ["plum-clock.service"]
    bench.do("systemctl", "stop", "plum-clock.service", code=0)
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    bench.kleff("undo", case, "--yes")
    assert running() == ["plum-spool.service", "plum-spool.socket"]
    bench.do("dpkg", "--purge", "plum-office", "plum-common", code=0)


def test_a_program_that_is_a_link(bench: Booted) -> None:
    """Run by the name it has; only where every link is an administrator's own. What the preview allows, the run does."""
    top = bench.top
    write(top / "opt/plum/bin/plumdump-real", "#!/bin/sh\nbasename $0\n", 0o755)
    (top / "usr/bin/plumdump-link").symlink_to("/opt/plum/bin/plumdump-real")
    (top / "usr/bin/plumdump").symlink_to("plumdump-link")
    text = 'format = 1\n[product]\nid = "d"\nname = "Dump"\n[[evidence]]\npath = "/opt/plum"\n[[backup]]\nlabel = "dump"\n'
    text += 'command = ["/usr/bin/plumdump"]\nsaves_as = "dump.txt"\n[[delete]]\npaths = ["/opt/plum"]\n'
    write(top / "srv/dump.toml", text)
    assert "export by hand" not in bench.kleff("preview", "/srv/dump.toml", "--on", "this", "--full").stdout
    bench.kleff("run", "/srv/dump.toml", "--on", "this", "--yes", code=None)
    case = json.loads(bench.kleff("cases", "--json").stdout)["cases"][-1]["folder"]
    saved = [path.read_bytes() for path in (top / case.lstrip("/") / "bag/data").rglob("*") if path.is_file()]
    assert any(data == b"plumdump\n" for data in saved)
    bench.kleff("undo", case, "--yes")
    (top / "srv/mira").mkdir()
    bench.do("chown", "mira", "/srv/mira", code=0)
    (top / "srv/mira/dump").symlink_to("/opt/plum/bin/plumdump-real")
    (top / "usr/bin/plumdump-link").unlink()
    (top / "usr/bin/plumdump-link").symlink_to("/srv/mira/dump")
    assert "export by hand" in bench.kleff("preview", "/srv/dump.toml", "--on", "this", "--full").stdout
