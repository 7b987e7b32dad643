"""Holds Kleff's tables of Windows against the headers of mingw-w64: the compiler judges sizes and places, nothing is run."""

from __future__ import annotations

import ctypes
import functools
import re
import subprocess
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path

from kleff.workstation.windows.native.functions import Function

COMPILER = "x86_64-w64-mingw32-gcc"
HEADERS = (
    "winsock2", "windows", "winternl", "msi", "msiquery", "tlhelp32", "restartmanager", "iphlpapi", "wtsapi32", "wintrust", "softpub",
    "wincrypt", "setupapi", "newdev", "lm", "cfgmgr32", "aclapi", "sddl", "initguid", "objbase", "shlobj", "taskschd", "netfw",
)  # fmt: skip
# The version that these headers ask for before they show what came with Windows 10.
DEFINES = ("COBJMACROS", "CINTERFACE", "_WIN32_WINNT 0x0A000005", "WINVER 0x0A00", "NTDDI_VERSION 0x0A000005")
START = "".join(f"#define {d}\n" for d in DEFINES) + "".join(f"#include <{h}.h>\n" for h in (*HEADERS, "ntstatus", "stddef"))
PROTOTYPE = re.compile(r"extern (.*?)(\w+) \(([^;]*)\);")
BYTES = {"p": 8, "d": 4}


def complaints(
    functions: Mapping[str, Function], structures: Mapping[str, type[ctypes.Structure]], constants: Mapping[str, int],
    methods: Mapping[str, Mapping[str, int]],
) -> list[str]:  # fmt: skip
    """What the headers say otherwise; empty if nothing.

    Args:
        methods: for each interface the place of its methods in its table.
    """
    held = [*_of_structures(structures), *_of_constants(constants), *_of_methods(methods)]
    wrong, of_arguments = _of_functions(functions)
    return wrong + _judged([*held, *of_arguments])


def _of_structures(structures: Mapping[str, type[ctypes.Structure]]) -> Iterator[str]:
    for name, made in structures.items():
        yield _holds(f"sizeof({name}) == {ctypes.sizeof(made)}", f"size of {name}")
        for field in (f[0] for f in made._fields_):
            yield _holds(f"offsetof({name}, {field}) == {getattr(made, field).offset}", f"place of {name}.{field}")


def _of_constants(constants: Mapping[str, int]) -> Iterator[str]:
    for name, value in constants.items():
        yield _holds(f"(unsigned long long)({name}) == {value:#x}ull || (unsigned)({name}) == {value:#x}u", f"value of {name}")


def _of_methods(methods: Mapping[str, Mapping[str, int]]) -> Iterator[str]:
    for interface, places in methods.items():
        for method, place in places.items():
            yield _holds(f"offsetof({interface}Vtbl, {method}) == {place * 8}", f"place of {interface}::{method}")


def _of_functions(functions: Mapping[str, Function]) -> tuple[list[str], list[str]]:
    """What is wrong already, and what the compiler must hold of each argument."""
    declared, wrong, held = _prototypes(), [], []
    for function in functions.values():
        types = declared.get(function.name)
        if types is None or not function.in_headers:
            wrong += (
                [f"{function.name}: the headers {'lack' if types is None else 'have'} it"] if (types is None) == function.in_headers else []
            )
            continue
        if len(types) != len(function.arguments):
            wrong.append(f"{function.name}: {len(function.arguments)} arguments, the headers have {len(types)}")
            continue
        for at, (type_, letter) in enumerate(zip(types, function.arguments, strict=True)):
            size = f"sizeof({type_})"
            held.append(_holds(f"{size} == 8" if BYTES[letter] == 8 else f"{size} <= 4", f"argument {at} of {function.name}: {type_}"))
    return wrong, held


@functools.cache
def _prototypes() -> dict[str, list[str]]:
    """The types of the arguments of every function that the headers declare; the compiler writes them down."""
    with tempfile.TemporaryDirectory() as folder:
        _compiled("", "-aux-info", f"{folder}/prototypes")
        text = Path(folder, "prototypes").read_text()
    found = {}
    for _, name, arguments in PROTOTYPE.findall(text):
        types = [re.sub(r"\*\s*(?:const|volatile)\s*", "* ", a.strip()) for a in arguments.split(",")]
        found[name] = [] if types == ["void"] else types
    return found


def _holds(condition: str, what: str) -> str:
    return f'_Static_assert({condition}, "{what}");'


def _judged(lines: list[str]) -> list[str]:
    said = _compiled("\n".join(lines)).splitlines()
    return [line.partition("error: ")[2] for line in said if "error: " in line]


def _compiled(text: str, *options: str) -> str:
    """What the compiler says of it."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "held.c")
        file.write_text(START + text)
        words = [COMPILER, "-std=gnu11", "-c", str(file), "-o", f"{folder}/held.o", *options]
        return subprocess.run(words, capture_output=True, text=True, check=False).stderr
