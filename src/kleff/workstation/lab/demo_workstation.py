"""POTTING-02, a workstation at Alder Row Nursery: the demo's lab, the same each time for one seed."""

from __future__ import annotations

import random
from pathlib import Path

from kleff.workstation.lab.build import LabBuilder
from kleff.workstation.lab.demo_extras import HELD, enrich
from kleff.workstation.lab.drawings import PLANTS, label, picture
from kleff.workstation.lab.lab import Lab

SEED = 20261123
PEOPLE = {"mira": 1001, "tomas": 1002, "till": 1003}
SID = "S-1-5-21-2604417713-1180660424-3370910822"
CURRENT = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion"
CURRENT_32 = r"HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion"
PROGRAM = r"C:\Program Files\Brindlewort\Tag Studio 4"
PROGRAM_32 = r"C:\Program Files (x86)\Brindlewort\Tag Studio 4"
PROBE = "{0D7A52C4-83B6-4C1E-9F55-61E0B7C2A904}"
HANDLER = "{6F1C2B0A-5D34-4E8B-9A77-2C10D4E5B601}"
SERVICE = "BrindlewortPrintBridge"


def build_demo_workstation(folder: Path, seed: int = SEED, rich: bool = False, held: bool = False) -> Lab:
    """Build and start the lab.

    Args:
        rich: with a driver beside another maker's, pins, rules of the firewall, a task.
        held: a file of the product is in use by what shows folders, until the workstation is restarted.

    Raises:
        Refused: something stands at `folder` already.
    """
    build = LabBuilder(folder, start=1_740_000_000)
    draw = random.Random(seed)
    _system(build, draw)
    _tag_studio(build, draw)
    _neighbours(build, draw)
    for name, number in PEOPLE.items():
        _person(build, draw, name, f"{SID}-{number}")
    _product_keys(build)
    if rich:
        enrich(build)
    _programs(build, [HELD] if held else [])
    description = "a workstation at Alder Row Nursery, potting shed"
    return build.finish("POTTING-02", f"potting-02-{seed}", description, [SERVICE, "Spooler", "StocktakeSync"])


def _system(build: LabBuilder, draw: random.Random) -> None:
    for name in ("msiexec.exe", "notepad.exe", "cmd.exe", "svchost.exe", "taskmgr.exe", "spoolsv.exe"):
        build.file(rf"C:\Windows\System32\{name}", f"MZ stand-in for {name}\n")
    for number in range(24):
        build.file(rf"C:\Windows\System32\drivers\bus{number:02d}.sys", f"MZ driver {draw.random()}\n")
    build.file(r"C:\Windows\System32\drivers\etc\hosts", "127.0.0.1 localhost\r\n10.20.0.4 bridge.brindlewort.example\r\n")
    for number in range(30):
        build.file(rf"C:\Windows\Fonts\seed{number:02d}.ttf", draw.randbytes(400))
    build.file(r"C:\Windows\Temp\setup.log", "Tag Studio setup ended with 0\r\n")
    build.key(r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion", SystemRoot=r"C:\Windows", CurrentBuild="19045")
    for current, programs in ((CURRENT, r"C:\Program Files"), (CURRENT_32, r"C:\Program Files (x86)")):
        build.key(current, ProgramFilesDir=programs, CommonFilesDir=rf"{programs}\Common Files")
    profiles = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
    home = r"%SystemDrive%\Users"
    build.key(profiles, ProgramData=r"%SystemDrive%\ProgramData", Public=rf"{home}\Public", Default=rf"{home}\Default")
    build.key(rf"{profiles}\S-1-5-18", ProfileImagePath=r"%SystemRoot%\System32\config\systemprofile")
    for name, number in PEOPLE.items():
        build.key(rf"{profiles}\{SID}-{number}", ProfileImagePath=rf"C:\Users\{name}", State=0)
    build.key(r"HKLM\SYSTEM\Select", Current=1, Default=1)
    manager = r"HKLM\SYSTEM\ControlSet001\Control\Session Manager\Environment"
    build.key(manager, Path=r"%SystemRoot%\System32;%SystemRoot%;" + PROGRAM, OS="Windows_NT")
    for name in ("Spooler", "Dnscache", "EventLog", "W32Time", "Themes", "PlugPlay"):
        path = r"%SystemRoot%\System32\svchost.exe"
        build.key(rf"HKLM\SYSTEM\ControlSet001\Services\{name}", Start=2, Type=16, DisplayName=name, ImagePath=path)
    for number in range(90):
        build.key(rf"HKLM\SOFTWARE\Classes\.seed{number:02d}", default_=f"Seed.File.{number}", PerceivedType="text")
        build.key(rf"HKLM\SOFTWARE\Classes\Seed.File.{number}\shell\open\command", default_=r'"C:\Windows\System32\notepad.exe" "%1"')
    for number in range(60):
        build.key(rf"HKLM\SOFTWARE\Alder Row Nursery\Watering\Bench {number:02d}", Minutes=draw.randint(1, 40), Valve=f"V{number}")


def _tag_studio(build: LabBuilder, draw: random.Random) -> None:
    for name in ("tagstudio.exe", "tagtray.exe", "uninstall.exe", r"bin\tagdb.exe", r"bin\printbridge.exe"):
        build.file(rf"{PROGRAM}\{name}", f"MZ stand-in for {name}\n".encode() + draw.randbytes(draw.randint(4_000, 40_000)))
    for number in range(18):
        build.file(rf"{PROGRAM}\lib\tag{number:02d}.dll", draw.randbytes(draw.randint(2_000, 30_000)))
    for plant in PLANTS:
        build.file(rf"{PROGRAM}\templates\{plant}.tagtemplate", label(draw, plant))
    for number in range(16):
        build.file(rf"{PROGRAM}\help\page{number:02d}.html", f"<h1>Tag Studio help, page {number}</h1>\n")
    for language in ("da", "de", "en", "fi", "fr", "it", "nl", "no", "pl", "sv"):
        build.file(rf"{PROGRAM}\locale\{language}.lang", f"language={language}\r\nprint=...\r\n")
    build.file(rf"{PROGRAM}\templates\mine\Heirloom tomatoes, row 3.tagdesign", label(draw, "Tomato"))
    for name in ("probe32.dll", "probeui.exe", r"calibration\bench.cal", r"calibration\field.cal"):
        build.file(rf"{PROGRAM_32}\{name}", draw.randbytes(3_000))
    data = r"C:\ProgramData\Brindlewort"
    build.file(rf"{data}\licence.bwl", "Brindlewort licence\r\nAlder Row Nursery, 3 workstations\r\nkey = 7F2A-PLUM-0049-FERN\r\n")
    build.file(rf"{data}\Tag Studio\labels.idx", draw.randbytes(60_000))
    build.file(rf"{data}\Tag Studio\labels.db", "CREATE TABLE labels (id INTEGER, bed TEXT);\n" + _rows())
    for number in range(14):
        build.file(rf"{data}\Tag Studio\spool\job{number:03d}.prn", draw.randbytes(900))
    build.file(r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Brindlewort\Tag Studio 4.lnk", b"L\0\0\0 to tagstudio.exe")


def _rows() -> str:
    return "".join(f"INSERT INTO labels VALUES ({n}, 'Bed {n}: {PLANTS[n % len(PLANTS)]}');\n" for n in range(1, 41))


def _neighbours(build: LabBuilder, draw: random.Random) -> None:
    """What stays: the old version, the other product, and everybody's things."""
    old, stock = r"C:\Program Files\Brindlewort\Tag Studio 3", r"C:\Program Files\Brindlewort\Stocktake"
    for name in ("tagstudio.exe", "uninstall.exe", r"lib\tag3.dll", r"templates\Basil.tagtemplate"):
        build.file(rf"{old}\{name}", draw.randbytes(2_000))
    for name in ("stocktake.exe", "sync.exe", r"lib\count.dll", r"reports\monthly.tpl"):
        build.file(rf"{stock}\{name}", draw.randbytes(2_000))
    build.file(r"C:\ProgramData\Brindlewort\Stocktake\stock.db", draw.randbytes(30_000))
    build.file(r"C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Brindlewort\Stocktake.lnk", b"L\0\0\0 to stocktake.exe")
    for name, version, place, quiet in (
        ("Brindlewort Tag Studio 3.9", "3.9.1", old, rf'"{old}\uninstall.exe" /quiet'),
        ("Brindlewort Stocktake", "2.1.0", stock, rf'"{stock}\uninstall.exe" /quiet'),
    ):
        build.key(
            rf"{CURRENT}\Uninstall\{name}", DisplayName=name, DisplayVersion=version, Publisher="Brindlewort GmbH & Co",
            InstallLocation=place, UninstallString=rf'"{place}\uninstall.exe"', QuietUninstallString=quiet,
        )  # fmt: skip
    for number in range(40):
        build.key(rf"HKLM\SOFTWARE\Brindlewort\Stocktake\Shelf {number:02d}", Count=draw.randint(0, 500))
    build.key(r"HKLM\SOFTWARE\Brindlewort\Tag Studio 3\Printers", Default="Bench printer")
    build.key(r"HKLM\SOFTWARE\Wow6432Node\Brindlewort\Stocktake", Bridge="32-bit")
    service = r"HKLM\SYSTEM\ControlSet001\Services\StocktakeSync"
    build.key(service, Start=2, Type=16, DisplayName="Stocktake synchronisation", ImagePath=rf'"{stock}\sync.exe"')
    build.values(
        rf"{CURRENT}\Run", {"Stocktake": rf'"{stock}\stocktake.exe" /min', "Brindlewort Label Warmer": f'"{PROGRAM}\\tagtray.exe" /warm'}
    )


def _person(build: LabBuilder, draw: random.Random, name: str, sid: str) -> None:
    home = rf"C:\Users\{name}"
    roaming, local = rf"{home}\AppData\Roaming\Brindlewort", rf"{home}\AppData\Local\Brindlewort"
    build.file(rf"{roaming}\Tag Studio\settings.ini", f"[window]\r\nwidth={draw.randint(800, 1900)}\r\nprinter=Bench printer\r\n")
    build.file(rf"{roaming}\Tag Studio\recent.json", '{"recent": ["Row 3", "Herbs"]}\n')
    for number in range(draw.randint(12, 24)):
        build.file(rf"{local}\Tag Studio\cache\thumb{number:03d}.bin", draw.randbytes(draw.randint(300, 5_000)))
    if name == "mira":  # her own work, where the program keeps what nobody looks at
        build.file(rf"{local}\Tag Studio\exports\Herb tags.pdf", b"%PDF-1.4 herbs " + draw.randbytes(2_000))
        build.file(rf"{local}\Tag Studio\exports\April\Herb tags.pdf", b"%PDF-1.4 herbs in April " + draw.randbytes(1_000))
        build.file(rf"{local}\Tag Studio\exports\Stand at the fair.png", picture(draw))
        build.file(rf"{local}\Tag Studio\exports\Price list.lnk", b"L\0\0\0 to the price list")
    build.file(rf"{home}\.brindlewort\session.log", f"{name} signed in\r\n")
    build.file(rf"{home}\Desktop\Tag Studio 4.lnk", b"L\0\0\0 to tagstudio.exe")
    if name != "till":
        build.file(rf"{roaming}\Stocktake\columns.ini", "columns=name,count\r\n")
    for plant in draw.sample(PLANTS, 9 if name != "till" else 3):
        build.file(rf"{home}\Documents\Tag Studio\{plant}, bed {draw.randint(1, 40)}.tagdesign", label(draw, plant))
    build.file(rf"{home}\Documents\How to print with Tag Studio.txt", "Ask Mira. Never during the Saturday market.\r\n")
    build.file(rf"{home}\Documents\Price list 2026.csv", "".join(f"{p};{draw.randint(90, 900) / 100:.2f}\r\n" for p in PLANTS))
    for number in range(8):
        build.file(rf"{home}\Pictures\Tag Studio stand at the fair {number + 1}.png", picture(draw))
    for number in range(44):
        build.file(rf"{home}\Documents\Notes\{draw.choice(PLANTS)} {number:02d}.txt", f"{draw.choice(PLANTS)}: water on day {number}.\r\n")
    hive = rf"HKU\{sid}\Software"
    shell = rf"{hive}\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
    build.values(
        shell,
        {
            "Desktop": r"%USERPROFILE%\Desktop", "Personal": r"%USERPROFILE%\Documents", "My Pictures": r"%USERPROFILE%\Pictures",
            "AppData": r"%USERPROFILE%\AppData\Roaming", "Local AppData": r"%USERPROFILE%\AppData\Local",
        },
    )  # fmt: skip
    for part in (
        "",
        r"\Window",
        r"\Recent",
        r"\Print",
        r"\Print\Margins",
        r"\Fonts",
        r"\Probe",
        r"\Colours",
        r"\Labels",
        r"\Labels\Own",
        r"\Keys",
    ):
        build.key(rf"{hive}\Brindlewort\Tag Studio{part}", Changed=draw.randint(1, 9_999), By=name)
    build.key(rf"{hive}\Brindlewort\Stocktake", Columns="name,count")
    build.values(rf"{hive}\Microsoft\Windows\CurrentVersion\Run", {"Tag Studio Tray": f'"{PROGRAM}\\tagtray.exe"', "Notes": "notepad.exe"})
    for number in range(20):
        build.key(rf"{hive}\Alder Row Nursery\Rota\Week {number:02d}", Hours=draw.randint(10, 40))


def _product_keys(build: LabBuilder) -> None:
    base = r"HKLM\SOFTWARE\Brindlewort\Tag Studio"
    for part in ("", r"\Setup", r"\Printers", r"\Printers\Bench printer", r"\Printers\Wide printer", r"\Fonts", r"\Templates", r"\Update"):
        build.key(base + part, InstallDir=PROGRAM, Version="4.2.0")
    for part in ("", r"\Probe", r"\Probe\Port 1", r"\Probe\Port 2", r"\Calibration"):
        build.key(rf"HKLM\SOFTWARE\Wow6432Node\Brindlewort\Tag Studio{part}", InstallDir=PROGRAM_32)
    classes = r"HKLM\SOFTWARE\Classes"
    build.key(rf"{classes}\.tagdesign", default_="Brindlewort.TagDesign")
    build.key(rf"{classes}\Brindlewort.TagDesign\shell\open\command", default_=f'"{PROGRAM}\\tagstudio.exe" "%1"')
    build.key(rf"{classes}\Brindlewort.TagDesign\DefaultIcon", default_=rf"{PROGRAM}\tagstudio.exe,1")
    for node in ("", r"\Wow6432Node"):
        build.key(rf"{classes}{node}\CLSID\{HANDLER}\InprocServer32", default_=rf"{PROGRAM}\lib\tag07.dll", ThreadingModel="Both")
    build.key(rf"{CURRENT}\App Paths\tagstudio.exe", default_=rf"{PROGRAM}\tagstudio.exe")
    path = rf'"{PROGRAM}\bin\printbridge.exe"'
    build.key(rf"HKLM\SYSTEM\ControlSet001\Services\{SERVICE}", Start=2, Type=16, DisplayName="Brindlewort print bridge", ImagePath=path)
    publisher = "Brindlewort GmbH & Co"
    build.key(
        rf"{CURRENT}\Uninstall\Tag Studio 4", DisplayName="Brindlewort Tag Studio 4.2", DisplayVersion="4.2.0", Publisher=publisher,
        InstallLocation=PROGRAM, UninstallString=rf'"{PROGRAM}\uninstall.exe"', QuietUninstallString=rf'"{PROGRAM}\uninstall.exe" /quiet',
    )  # fmt: skip
    build.key(
        rf"{CURRENT_32}\Uninstall\{PROBE}", DisplayName="Brindlewort Tag Studio 4 soil probe", DisplayVersion="4.2.0",
        Publisher=publisher, UninstallString=f"MsiExec.exe /I{PROBE}", WindowsInstaller=1, InstallLocation="",
    )  # fmt: skip


def _programs(build: LabBuilder, held: list[str]) -> None:
    services = r"HKLM\SYSTEM\CurrentControlSet\Services"
    uninstall = r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
    build.program(
        path=rf"{PROGRAM}\uninstall.exe",
        needs="/quiet",
        refuses_while=["tagstudio.exe"],
        refusal=5,
        prints="Removing Tag Studio ... done. Goodbye!",
        takes=0.4,
        hands_over=True,
        stops_services=[SERVICE],
        # It forgets its templates, its help and everything that is not in its own folder.
        deletes=[rf"{PROGRAM}\lib", rf"{PROGRAM}\bin", rf"{PROGRAM}\locale", rf"{PROGRAM}\*.exe"],
        deletes_keys=[
            r"HKLM\SOFTWARE\Brindlewort\Tag Studio\Setup",
            r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\App Paths\tagstudio.exe",
            rf"{services}\{SERVICE}",
            rf"{uninstall}\Tag Studio 4",
        ],
    )
    build.program(
        product_code=PROBE,
        needs="/qn",
        takes=0.2,
        deletes=[rf"{PROGRAM_32}\probe32.dll"],
        deletes_keys=[rf"HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion\Uninstall\{PROBE}"],
    )
    build.program(path=rf"{PROGRAM}\bin\tagdb.exe", keeps=r"C:\ProgramData\Brindlewort\Tag Studio\labels.db")
    studio = rf"{PROGRAM}\tagstudio.exe"
    design = r"C:\Users\mira\Documents\Tag Studio\Sage.tagdesign"
    build.process(name="tagstudio.exe", path=studio, account="mira", command=[studio, design])
    build.process(name="tagpreview.exe", path=rf"{PROGRAM}\bin\tagpreview.exe", account="mira", child_of="tagstudio.exe")
    build.process(name="tagtray.exe", path=rf"{PROGRAM}\tagtray.exe", account="till", stubborn=True, at_start=True)
    stock = r"C:\Program Files\Brindlewort\Stocktake\stocktake.exe"
    build.process(name="stocktake.exe", path=stock, account="tomas", command=[stock, "/min"], at_start=True)
    build.process(
        name="explorer.exe", path=r"C:\Windows\explorer.exe", account="mira", at_start=not held, **({"locks": held} if held else {})
    )
