"""Whole runs on a running Windows, as far as Wine can show it: what was there is gone, a neighbour's is not, and undo brings it back."""

from __future__ import annotations

import itertools
import re
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from killing import points
from kleff.errors import NeverBegun, RestartNeeded, Stopped
from kleff.procedure.globs import WINDOWS
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.values import list_value, number_value, text_value
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath
from kleff.workstation.windows.entries import UNINSTALL
from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.system.files.tree import NtTree
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.processes import WindowsProcesses
from kleff.workstation.windows.system.software.installer import Installer
from kleff.workstation.windows.system.software.signatures import is_signed
from kleff.workstation.windows.system.workstation import assemble_system
from memory import Bench, killed_at
from support import until
from wine.direct import Direct, started
from wine.fixtures import on_wine
from wine.imitated import AdministratorsFiles
from wine.packages import ASKS_FOR_A_RESTART, CODE, FAILS, NEEDED, package
from wine.policy import Guarded
from wine.remote import WINE, RemoteCaller, environment
from wine.shortcut import write_shortcut

pytestmark = on_wine

ENVIRONMENT = {"SystemRoot": r"C:\windows", "PATH": r"C:\windows\system32", "TEMP": r"C:\windows\temp"}
numbers = itertools.count()

STEPS = r"""
[[evidence]]
key = 'HKLM\Software\Brindlewort\Tag Studio'
[[stop]]
service = "beds"
[[delete]]
paths = ['C:\Program Files\Brindlewort\Tag Studio', 'C:\ProgramData\Brindlewort\*.lbl']
[[delete]]
key = 'HKLM\Software\Brindlewort\Tag Studio'
[[delete]]
value = 'Tags'
in_key = 'HKLM\Software\Stocktake'
[[delete]]
shortcuts_to = 'C:\Program Files\Brindlewort\Tag Studio\**'
[[delete]]
list_item = '%ProgramFiles%\Brindlewort\Tag Studio\bin'
in_value = "Search"
in_key = 'HKLM\Software\Stocktake'
[[delete]]
section = "# brindlewort: begin"
up_to = "# brindlewort: end"
in_file = 'C:\Windows\System32\drivers\etc\hosts'
[[delete]]
paths = ['C:\Windows\System32\drivers\bwk*.sys']
"""
HOSTS = "127.0.0.1 localhost\n# brindlewort: begin\n10.0.0.5 bridge\n# brindlewort: end\n10.0.0.6 till\n"
DRIVERS = "windows/system32/drivers"
MENU = r"ProgramData\Microsoft\Windows\Start Menu\Programs"
# The system's own search path lies below a link there, which a test's prefix needs and a Windows has the other way round.
PATH = KeyRef("HKLM", r"SOFTWARE\Stocktake")


class OnWine(Bench):
    """A bench on a prefix; its cases lie on drive C."""

    def __init__(self, caller: RemoteCaller, prefix: Path) -> None:
        self.drive = prefix / "drive_c"
        self.folder = self.drive / f"kleff{next(numbers)}"
        self.folder.mkdir()
        self.system = "windows"
        self.on = self
        self.api = Api(AdministratorsFiles(Guarded(caller)))

    def open(self) -> Workstation:
        drives = {"C:": self.drive}
        programs = Direct(self.api, self.drive, WindowsProcesses(self.api, NtTree(self.api, drives)).all)
        return assemble_system(
            self.api, Hives(self.api, str), drives, ENVIRONMENT, programs, spec="wine", name="POTTING-07", identity="wine POTTING-07",
            state=self.folder / "state",
        )  # fmt: skip


class Product:
    """What is on the prefix, the product's and a neighbour's, and how it all stands."""

    def __init__(self, bench: OnWine, caller: RemoteCaller, prefix: Path) -> None:
        self.bench, self.prefix = bench, prefix
        registry = bench.open().registry
        assert registry is not None
        self.registry: Registry = registry
        for view in (64, 32):
            key = KeyRef("HKLM", r"SOFTWARE\Brindlewort\Tag Studio", view)
            below = key.child("Labels")
            for at, value in (
                (key, text_value("Bits", str(view))),
                (below, list_value("of", ["sage", "mint"])),
                (below, number_value("n", 7)),
            ):
                registry.api.create(at.hive, at.physical)
                registry.api.set(at.hive, at.physical, value)
        for name, text in (("Tags", "x"), ("Other", "y")):
            registry.api.set("HKLM", r"SOFTWARE\Stocktake", text_value(name, text))
        for path, content in (
            ("Program Files/Brindlewort/Tag Studio/studio.exe", "MZ"), ("Program Files/Brindlewort/Tag Studio/de/grün.txt", "grün"),
            ("ProgramData/Brindlewort/sage.lbl", "sage"), ("ProgramData/Brindlewort/neighbour.txt", "mine"),
            ("Program Files/Brindlewort/Bridge/bridge.exe", "MZ"), (f"{DRIVERS}/bwkprobe.sys", "MZ"), (f"{DRIVERS}/bwrelay.sys", "MZ"),
            (f"{DRIVERS}/etc/hosts", HOSTS),
        ):  # fmt: skip
            file = bench.drive / path
            file.parent.mkdir(parents=True, exist_ok=True)
            file.unlink(missing_ok=True)
            file.write_text(content)
        for name in ("Tag Studio", "Bridge"):
            program = rf"C:\Program Files\Brindlewort\{name}\{name.split()[-1]}.exe"
            if not self.shortcut(name).exists():  # the moment of writing is in it
                self.shortcut(name).parent.mkdir(parents=True, exist_ok=True)
                write_shortcut(caller, rf"C:\{MENU}\About {name}.lnk", program, "/beds", r"C:\windows", "Labels for beds")

        item = r"C:\Program Files\Brindlewort\Tag Studio\BIN\;"
        (self.path,) = registry.canonical(f"{PATH.hive}\\{PATH.path}", view=64)
        value = registry.value(self.path, "Search")
        text = (value.text if value else r"C:\windows").replace(item, "")
        registry.api.set(self.path.hive, self.path.physical, text_value("Search", f"{item}{text}", expand=True))

    def shortcut(self, name: str) -> Path:
        return self.bench.drive / MENU.replace("\\", "/") / f"About {name}.lnk"

    def search_path(self) -> str:
        return self.registry.text(self.path, "Search")

    def stands(self) -> tuple[dict[str, str], set[str]]:
        """Files with their content, and what Wine's own program exports of the registry; it sorts."""
        tops = [self.bench.drive / name for name in ("Program Files/Brindlewort", "ProgramData/Brindlewort")]
        every = [path for top in tops for path in top.rglob("*")] + [p for p in map(self.shortcut, ("Tag Studio", "Bridge")) if p.exists()]
        every += [p for p in (self.bench.drive / DRIVERS).rglob("*") if p.name == "hosts" or p.name.startswith("bw")]
        files = {str(p.relative_to(self.bench.drive)): p.read_text("latin-1") if p.is_file() else "" for p in every}
        exported = set()
        for key, view in itertools.product((r"HKLM\Software\Brindlewort", r"HKLM\Software\Stocktake"), ("64", "32")):
            file = self.bench.drive / "exported.reg"
            file.unlink(missing_ok=True)
            words = [WINE, "reg", "export", key, r"C:\exported.reg", "/y", f"/reg:{view}"]
            subprocess.run(words, env=environment(self.prefix), capture_output=True, check=False, timeout=60)
            exported |= {f"{view} {line}" for line in file.read_text("utf-16").splitlines()} if file.exists() else set()
        return files, exported | {f"search path {self.search_path()}"}


@pytest.fixture
def product(caller: RemoteCaller, prefix: Path, service: str) -> Product:
    return Product(OnWine(caller, prefix), caller, prefix)


def test_there_and_back(product: Product, service: str) -> None:
    bench = product.bench
    workstation = bench.open()
    assert workstation.services is not None
    workstation.services.restore(workstation.services.like(service)[0].__class__(service, True, "manual", ""))
    before = product.stands()
    job, ended = bench.run(STEPS)
    assert ended.clean, ended
    files, exported = product.stands()
    assert not [name for name in files if "Tag Studio" in name or name.endswith(".lbl")]
    assert {
        "ProgramData/Brindlewort/neighbour.txt",
        f"{MENU}/About Bridge.lnk".replace("\\", "/"),
        "Program Files/Brindlewort/Bridge/bridge.exe",
    } <= set(files)
    assert not [line for line in exported if "Tag Studio" in line or '"Tags"' in line]
    assert [line for line in exported if '"Other"' in line]
    stopped = workstation.services.get(service)
    assert stopped is not None
    assert not stopped.running
    undone = job.undo()
    assert undone.stays == []
    assert product.stands() == before
    again = workstation.services.get(service)
    assert again is not None
    assert (again.running, again.start) == (True, "manual")
    workstation.services.stop(service)


def test_killed_on_the_way(caller: RemoteCaller, prefix: Path, service: str) -> None:
    """At some of its writes: resumed it is gone and taken back it is all there, each time."""
    standing = Product(OnWine(caller, prefix), caller, prefix).stands()
    with killed_at(0, False) as writes:
        job, _ = Product(OnWine(caller, prefix), caller, prefix).bench.run(STEPS)
        job.undo()
    for number, after in points(writes[0] // 2, 6, 3):
        product = Product(OnWine(caller, prefix), caller, prefix)
        with killed_at(number, after):
            product.bench.run(STEPS)
        with suppress(NeverBegun, StopIteration):
            job = product.bench.again(product.bench.job(STEPS), next((product.bench.folder / "cases").iterdir()))
            if not job.record().rows:
                continue
            assert job.resume().clean, (number, after)
            assert not [name for name in product.stands()[0] if "Tag Studio" in name], (number, after)
            assert job.undo().stays == []
        assert product.stands() == standing, (number, after)


REMOVES = """
[[evidence]]
entry = "Bed Counter"
[[uninstall]]
entry = "Bed Counter"
[[delete]]
paths = ['C:\\Program Files\\Bed Counter']
[[verify]]
key = 'HKLM\\Software\\Brindlewort\\Bed Counter'
"""
with_packages = pytest.mark.skipif(any(shutil.which(n) is None for n in NEEDED), reason=f"needs {', '.join(NEEDED)}")


class Installed:
    """A package that is installed on the prefix, and a bench beside it; taken off again in the end."""

    def __init__(self, caller: RemoteCaller, prefix: Path, program: Path) -> None:
        self.bench, self._program = OnWine(caller, prefix), program
        self.file = self.bench.folder / "package/beds.msi"

    def install(self, *statements: str) -> None:
        package(self.file.parent, self._program, statements)
        assert self.installer("/i", f"C:\\{self.bench.folder.name}\\package\\beds.msi") in (0, 3010)
        assert self.there()

    def installer(self, verb: str, what: str) -> int | None:
        argv = [r"C:\windows\system32\msiexec.exe", verb, what, "/qn", "/norestart", "REBOOT=ReallySuppress"]
        job = started(self.bench.api, argv, f"C:\\said by the installer {next(numbers)}", ENVIRONMENT)
        try:
            assert job.ended(240)  # with the first window it starts Wine's desktop, which stays
            return job.code
        finally:
            job.close()

    def there(self) -> bool:
        return (self.bench.drive / "Program Files/Bed Counter/counter.exe").exists()


@pytest.fixture
def installed(caller: RemoteCaller, prefix: Path, windows_program: Path) -> Iterator[Installed]:
    made = Installed(caller, prefix, windows_program)
    yield made
    made.installer("/x", CODE)
    shutil.rmtree(made.bench.drive / "Program Files/Bed Counter", ignore_errors=True)


@with_packages
def test_a_package_is_removed_by_its_installer(installed: Installed) -> None:
    """Found by its registration, its own command line never run: that would change it. Asked quietly, followed to the end."""
    installed.install()
    (action,) = installed.bench.plan(REMOVES, phase="uninstall")
    assert action.target == "Bed Counter (2.1.0)"
    _, ended = installed.bench.run(REMOVES)
    assert ended.clean
    assert not installed.there()


@with_packages
def test_a_package_that_asks_for_a_restart(installed: Installed) -> None:
    """Its code has more than the eight bits that other systems pass on."""
    installed.install(*ASKS_FOR_A_RESTART)
    with pytest.raises(RestartNeeded):
        installed.bench.run(REMOVES)
    assert not installed.there()


@with_packages
def test_a_package_whose_removal_fails(installed: Installed) -> None:
    """1603, and nothing is removed: told with the number; what comes after is not done."""
    installed.install(*FAILS)
    with pytest.raises(Stopped, match=r"exit code 1603"):
        installed.bench.run(REMOVES)
    assert installed.there()
    job = installed.bench.again(installed.bench.job(REMOVES), next((installed.bench.folder / "cases").iterdir()))
    assert job.undo().stays == []
    for cached in (installed.bench.drive / "windows/Installer").glob("*.msi"):
        cached.unlink()
    installed.file.unlink()
    with pytest.raises(Stopped, match="1612"):  # its source is gone
        installed.bench.run(REMOVES)
    assert installed.there()


HIDDEN = f"""
[[evidence]]
path = 'C:\\Program Files\\Bed Counter'
[[uninstall]]
product_code = "{CODE}"
[[delete]]
paths = ['C:\\Program Files\\Bed Counter']
"""
CACHED = """
[[evidence]]
path = 'C:\\Program Files\\Bed Counter'
[[uninstall]]
cached_package = "Counts*"
[[delete]]
paths = ['C:\\Program Files\\Bed Counter']
"""


@with_packages
@pytest.mark.parametrize("steps", [pytest.param(HIDDEN, id="code"), pytest.param(CACHED, id="package")])
def test_a_package_without_its_entry(installed: Installed, steps: str) -> None:
    """By its code alone, and by what the package in the installer's cache says of itself; that is set aside, and undo brings it back."""
    installed.install()
    registry = installed.bench.open().registry
    assert registry is not None
    for key in registry.canonical(f"HKLM\\{UNINSTALL}\\{CODE}"):
        registry.delete_tree(key)
    (action,) = installed.bench.plan(steps, phase="uninstall")
    assert action.target == "Bed Counter (2.1.0)"
    cache = installed.bench.drive / "windows/Installer"
    kept = {path.name for path in cache.glob("*.msi")}
    job, ended = installed.bench.run(steps)
    assert ended.clean
    assert not installed.there()
    assert installed.bench.plan(steps, phase="uninstall")[0].state == "absent"
    assert job.undo().stays == []
    assert kept == {path.name for path in cache.glob("*.msi")}
    assert installed.there()
    (action,) = installed.bench.plan(steps, phase="uninstall")
    assert (action.target, action.state) == ("Bed Counter (2.1.0)", "to do")  # the installer knows it again


@with_packages
def test_a_package_whose_source_is_missing_is_repaired_first(installed: Installed) -> None:
    installed.install()
    for cached in (installed.bench.drive / "windows/Installer").glob("*.msi"):
        cached.unlink()
    away = installed.file.replace(installed.bench.folder / "away.msi")
    source = f"C:\\{installed.bench.folder.name}\\away.msi"
    assert away.exists()
    _, ended = installed.bench.run(REMOVES.replace("[[uninstall]]\n", f"[[uninstall]]\nsource = '{source}'\n"))
    assert ended.clean
    assert not installed.there()


@with_packages
def test_what_the_installer_knows(installed: Installed) -> None:
    """The product with its cached package; the package by what it says of itself, also when the product is gone; nobody's signature."""
    installed.install()
    files, api = installed.bench.open().files, installed.bench.api
    cache = files.path(r"C:\windows\Installer")
    assert cache is not None
    knows = Installer(api, files, cache)
    (product,) = (p for p in knows.products() if p.code == CODE)
    assert (product.name, product.version, product.publisher, product.account) == ("Bed Counter", "2.1.0", "Brindlewort", "")
    assert re.fullmatch(r"C:\\windows\\Installer\\\w+\.msi", product.package)
    package = knows.package(product.package)
    assert package is not None
    assert (package.subject, package.product_code) == ("Counts beds", CODE)
    assert (package.subject, package.product_code) in {(p.subject, p.product_code) for p in knows.packages()}
    assert installed.installer("/x", CODE) == 0
    assert [p for p in knows.products() if p.code == CODE] == []
    kept = knows.package(f"C:\\{installed.bench.folder.name}\\package\\beds.msi")
    assert kept is not None
    assert (kept.subject, kept.product_code) == (package.subject, package.product_code)
    assert knows.package(r"C:\windows\win.ini") is None
    assert knows.package(r"C:\nowhere.msi") is None
    assert not is_signed(api, r"C:\program.exe")
    assert not is_signed(api, r"C:\nowhere.exe")


@with_packages
def test_an_entry_whose_package_is_gone(installed: Installed) -> None:
    """1605: the installer knows no such product; that it is registered still is told, and not called clean."""
    installed.install()
    registry = installed.bench.open().registry
    assert registry is not None
    entry = next(k for k in registry.canonical(f"HKLM\\{UNINSTALL}\\{CODE}") if registry.exists(k))
    tree = registry.tree(entry)
    assert tree is not None
    assert installed.installer("/x", CODE) == 0
    assert not registry.exists(entry)
    registry.write_tree(entry, tree)
    with pytest.raises(Stopped, match=r"though its uninstaller says that it is not there \(exit code 1605\)"):
        installed.bench.run(REMOVES)
    registry.delete_tree(entry)


@with_packages
def test_a_program_that_the_installer_leaves(installed: Installed, prefix: Path) -> None:
    """It runs, so its file stays though the installer says that all is well: that is set aside, and the program told until it is ended."""
    installed.install()
    words = [WINE, r"C:\Program Files\Bed Counter\counter.exe", "sleep", "300"]
    with subprocess.Popen(words, env=environment(prefix), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
        try:
            processes = installed.bench.open().processes
            assert processes is not None
            assert until(lambda: any(p.name == "counter.exe" for p in processes.all()))
            job, ended = installed.bench.run(REMOVES)
            (finding,) = ended.verification.open
            assert finding.target.startswith("program counter.exe, number ")
            assert not installed.there()
            processes.end(next(p for p in processes.all() if p.name == "counter.exe"))
            assert job.verify().clean
        finally:
            running.kill()


def test_a_short_name_of_the_system_s_own(caller: RemoteCaller, prefix: Path) -> None:
    """The guard knows what is meant: the whole of Program Files is nobody's leftover, by whichever name."""
    made = OnWine(caller, prefix)
    files = made.open().files
    with files.folder(WPath(WINDOWS, "C:", ())) as top:
        short = top.short_name("Program Files")
    assert "~" in short
    before = sorted(one.name for one in (made.drive / "Program Files").iterdir())
    (action,) = made.plan(f"[[delete]]\npaths = ['C:\\{short}']\n")
    assert (action.state, action.target) == ("refused", "C:\\Program Files")
    assert sorted(one.name for one in (made.drive / "Program Files").iterdir()) == before
    (action,) = made.plan(f"[keep]\npaths = ['C:\\{short}\\Beds']\n[[delete]]\npaths = ['C:\\{short}\\Beds']\n")
    assert action.state in ("kept", "refused", "absent")
