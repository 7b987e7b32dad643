"""Labs beyond the usual: one with 300,000 keys beside a small one, and the whole preview of 500 steps with names in five languages.

    python benchmarks/labs.py [ROUNDS]

Prints Markdown tables. The two labs are asked in pairs, in one run.
"""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from caches import sized

from kleff.registry.regfile import decode, encode
from kleff.workstation.lab.making.plain import build_plain

KLEFF = Path(sys.executable).parent / "kleff"
KEYS, STEPS = sized(300_000), sized(500)
PARTS = ("InprocServer32", "ProgID", "TypeLib", "Version", "Implemented Categories", "DefaultIcon", "shell", "shellex", "Control")
TEN = r"""format = 1
[product]
id = "ten"
name = "Ten"
[[evidence]]
entry = "Stocktake Stocktake"
[[backup]]
label = "data"
paths = ['%ProgramData%\Stocktake']
[[stop]]
process = "stocktake.exe"
[[stop]]
service = "Stocktake"
[[delete]]
paths = ['%ProgramFiles%\Stocktake\Stocktake']
[[delete]]
paths = ['%ProgramData%\Stocktake']
[[delete]]
key = 'HKLM\Software\Stocktake'
[[delete]]
key = 'HKCU\Software\Stocktake'
[[delete]]
key = 'HKCR\.stk'
[[delete]]
value = "Stocktake"
in_key = 'HKCU\Software\Microsoft\Windows\CurrentVersion\Run'
[[verify]]
service = "Stocktake"
"""
LANGUAGES = ("Geräte für {}", "Outils pour {} à côté", "Ogród {} i łopata", "Инструменты {}", "道具 {} 日本語")


def grown(lab: Path) -> Path:
    """The same lab with very many keys."""
    file = lab / "registry/HKLM.reg"
    lines = [decode(file.read_bytes(), str(file))]
    for number in range(KEYS // 10):
        top = rf"HKEY_LOCAL_MACHINE\SOFTWARE\Classes\CLSID\{{{number:08X}-1111-2222-3333-444455556666}}"
        lines.append(f'[{top}]\r\n@="Class {number}"\r\n\r\n')
        lines += [
            f'[{top}\\{part}]\r\n@="C:\\\\Windows\\\\System32\\\\part{number}.dll"\r\n"n"=dword:{number:08x}\r\n\r\n' for part in PARTS
        ]
    file.write_bytes(encode("".join(lines)))
    return lab


def previewed(procedure: Path, lab: Path, *more: str) -> tuple[float, str]:
    """(seconds, what it says) of a preview."""
    began = time.perf_counter()
    done = subprocess.run([KLEFF, "preview", procedure, "--on", f"lab:{lab}", *more], capture_output=True, text=True, check=True)
    return time.perf_counter() - began, done.stdout


def five_hundred(folder: Path, lab: Path) -> Path:
    """A procedure whose steps name folders in five languages, each of which is there."""
    lines = [TEN.split("[[backup]]")[0]]
    for number in range(STEPS):
        name = LANGUAGES[number % 5].format(f"{number:03d}")
        place = lab / "files/C/ProgramData" / name
        place.mkdir()
        (place / "x").touch()
        lines.append(f"[[delete]]\npaths = ['%ProgramData%\\{name}']\n")
    file = folder / "many.toml"
    file.write_text("".join(lines), "utf-8")
    file.chmod(0o644)
    return file


def main(rounds: int) -> None:
    folder = Path(tempfile.mkdtemp())
    small, large = folder / "small", folder / "large"
    build_plain(small)
    shutil.copytree(small, large)
    grown(large)
    ten = folder / "ten.toml"
    ten.write_text(TEN)
    ten.chmod(0o644)
    pairs = [(previewed(ten, large)[0], previewed(ten, small)[0]) for _ in range(rounds)]
    more = sorted(one - other for one, other in pairs)
    big, little = (statistics.median(side) for side in zip(*pairs, strict=True))
    print("| preview of ten steps | seconds | more than the small one |\n|---|---|---|")
    print(f"| small lab | {little:.2f} | |")
    print(f"| {KEYS:,} keys | {big:.2f} | {statistics.median(more):.2f} ({more[0]:.2f}..{more[-1]:.2f}) |\n")
    many = five_hundred(folder, small)
    took = sorted(previewed(many, small, "--full")[0] for _ in range(rounds))
    print(f"| whole preview, {STEPS} steps, five languages | seconds |\n|---|---|")
    print(f"| `kleff preview --full` | {statistics.median(took):.2f} ({took[0]:.2f}..{took[-1]:.2f}) |")
    shutil.rmtree(folder)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
