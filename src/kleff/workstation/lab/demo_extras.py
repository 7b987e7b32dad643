"""What the demo's workstation has besides: single things of the product among everybody's."""

from __future__ import annotations

from kleff.workstation.lab.build import LabBuilder
from kleff.workstation.lab.making.drivers import add_driver
from kleff.workstation.lab.making.shortcuts import shortcut_to
from kleff.workstation.lab.tasks import CACHE

PROGRAM = r"C:\Program Files\Brindlewort\Tag Studio 4"
STOCKTAKE = r"C:\Program Files\Brindlewort\Stocktake\stocktake.exe"
RULES = r"HKLM\SYSTEM\ControlSet001\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules"
TASKS = {"Brindlewort\\Label update": rf"{PROGRAM}\bin\update.exe", "Watering": r"C:\Tools\water.exe"}
PINNED = r"AppData\Roaming\Microsoft\Internet Explorer\Quick Launch\User Pinned\TaskBar"


HELD = rf"{PROGRAM}\lib\tag17.dll"  # with which the program that shows folders shows labels there


def enrich(build: LabBuilder) -> None:
    """Put it on."""
    add_driver(build.file, build.texts, 12, "bwprobe", "Brindlewort GmbH & Co", "Brindlewort soil probe (COM4)")
    add_driver(build.file, build.texts, 3, "rwscale", "Rakeworks", "Rakeworks scales (COM3)")
    for path, target in {
        rf"C:\Users\mira\{PINNED}\Labels (2).lnk": rf"{PROGRAM}\tagstudio.exe", rf"C:\Users\tomas\{PINNED}\Stock.lnk": STOCKTAKE,
        r"C:\Users\Public\Desktop\Etiketten für die Beete.lnk": rf"{PROGRAM}\tagstudio.exe",
    }.items():  # fmt: skip
        build.file(path, shortcut_to(target))
    rules = {"Tag Studio": rf"{PROGRAM}\tagstudio.exe", "Print bridge": rf"{PROGRAM}\bin\printbridge.exe", "Stocktake": STOCKTAKE}
    build.values(RULES, {n: f"v2.30|Action=Allow|Active=TRUE|Dir=In|App={program}|Name={n}|" for n, program in rules.items()})
    for number, (name, program) in enumerate(TASKS.items(), 1):
        definition = f"<Task><Actions><Exec><Command>{program}</Command></Exec></Actions></Task>"
        build.file(rf"C:\Windows\System32\Tasks\{name}", definition.encode("utf-16"))
        id_ = f"{{5E0B0000-0000-4000-8000-{number:012d}}}"
        build.values(rf"{CACHE}\Tree\{name}", {"Id": id_})
        build.values(rf"{CACHE}\Tasks\{id_}", {"Path": f"\\{name}"})
    build.file(r"C:\Windows\explorer.exe", "MZ stand-in for explorer.exe\n")
