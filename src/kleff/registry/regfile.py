"""Registry text files (`.reg`, version 5.00): reading both encodings in use, writing what the system itself writes.

Round trips are exact for every type and every byte: a text that has control characters, a missing or doubled
terminator or an odd length is written as `hex(1):`, a number of an odd size as `hex(4):`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from kleff.errors import DamagedCase
from kleff.procedure.globs import fold
from kleff.registry.values import REG_BINARY, REG_DWORD, REG_SZ, RegValue

HEADER = "Windows Registry Editor Version 5.00"
ROOTS = {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_USERS": "HKU"}
LONG = {short: long for long, short in ROOTS.items()}


@dataclass
class RegKey:
    """A key in memory: values and subkeys by their folded name, spelling kept."""

    name: str
    values: dict[str, RegValue] = field(default_factory=dict)
    keys: dict[str, RegKey] = field(default_factory=dict)

    def find(self, parts: list[str]) -> RegKey | None:
        """The key below, or None."""
        key: RegKey | None = self
        for part in parts:
            key = key.keys.get(fold(part)) if key else None
        return key

    def make(self, parts: list[str]) -> RegKey:
        """The key below, made if it is not there."""
        key = self
        for part in parts:
            key = key.keys.setdefault(fold(part), RegKey(part))
        return key

    def set(self, value: RegValue) -> None:
        old = self.values.get(fold(value.name))
        self.values[fold(value.name)] = RegValue(old.name if old else value.name, value.type, value.raw)

    def count(self) -> tuple[int, int]:
        """How many keys (this one too) and values."""
        keys, values = 1, len(self.values)
        for below in self.keys.values():
            k, v = below.count()
            keys, values = keys + k, values + v
        return keys, values


def decode(raw: bytes, where: str) -> str:
    """The text of a `.reg` file in UTF-16LE with BOM or UTF-8.

    Raises:
        DamagedCase: neither.
    """
    try:
        if raw.startswith(b"\xff\xfe"):
            return raw[2:].decode("utf-16-le", "surrogatepass")
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise DamagedCase("neither UTF-16LE nor UTF-8 text", where=where, remedy="export the keys again") from None


def encode(text: str) -> bytes:
    """UTF-16LE with BOM, as the system writes it."""
    return b"\xff\xfe" + text.encode("utf-16-le", "surrogatepass")


def parse(text: str, where: str) -> RegKey:
    """Read `.reg` text into one tree whose first level are `HKLM` and `HKU`; deletions in it are carried out.

    Raises:
        DamagedCase: with the line that cannot be understood.
    """
    root = RegKey("")
    lines = list(_logical_lines(text))
    if not lines or lines[0][1].strip() != HEADER:
        raise DamagedCase(f"the first line is not '{HEADER}'", where=f"{where}:1", remedy="check that it is a registry file")
    key: RegKey | None = None
    for number, line in lines[1:]:
        bare = line.strip()
        if not bare or bare.startswith(";"):
            continue
        if bare.startswith("["):
            key = _key_line(root, bare, f"{where}:{number}")
        elif key is None:
            raise DamagedCase("a value outside a key", where=f"{where}:{number}", remedy="export the keys again")
        else:
            _value_line(key, line.strip(" \t"), f"{where}:{number}")
    return root


def _logical_lines(text: str) -> Iterator[tuple[int, str]]:
    """Lines with hex continuations joined, and texts that hold raw line breaks kept whole."""
    lines = text.replace("\r\n", "\n").split("\n")
    index = 0
    while index < len(lines):
        start, line = index, lines[index]
        if line.startswith(('"', "@")):
            while _unclosed(line) and index + 1 < len(lines):
                index += 1
                line += "\r\n" + lines[index]
            while line.endswith("\\") and "hex" in line and index + 1 < len(lines):
                index += 1
                line = line[:-1] + lines[index].strip()
        yield start + 1, line
        index += 1


def _unclosed(line: str) -> bool:
    quotes = len(re.findall(r'"', re.sub(r"\\.", "", line, flags=re.DOTALL)))
    return quotes % 2 == 1


def _key_line(root: RegKey, line: str, where: str) -> RegKey | None:
    if not line.endswith("]"):
        raise DamagedCase("a key line without ]", where=where, remedy="export the keys again")
    delete = line.startswith("[-")
    long, _, rest = line[2 if delete else 1 : -1].partition("\\")
    if long.upper() not in ROOTS:
        raise DamagedCase(f"{long!r} is not a hive Kleff reads ({', '.join(ROOTS)})", where=where, remedy="correct the key")
    parts = [ROOTS[long.upper()], *(p for p in rest.split("\\") if p)]
    if delete:
        above = root.find(parts[:-1])
        if above:
            above.keys.pop(fold(parts[-1]), None)
        return None
    return root.make(parts)


_NAME = re.compile(r'(@|"(?:[^"\\]|\\.)*")\s*=\s*(.*)\Z', re.DOTALL)


def _value_line(key: RegKey, line: str, where: str) -> None:
    found = _NAME.match(line)
    if not found:
        raise DamagedCase(f"not a value: {line[:40]!r}", where=where, remedy="export the keys again")
    name = "" if found[1] == "@" else _unquote(found[1])
    data = found[2].strip(" \t")
    if data == "-":
        key.values.pop(fold(name), None)
        return
    key.set(_data(name, data, where))


def _data(name: str, data: str, where: str) -> RegValue:
    if data.startswith('"') and data.endswith('"') and len(data) > 1:
        return RegValue(name, REG_SZ, (_unquote(data) + "\0").encode("utf-16-le", "surrogatepass"))
    number = re.fullmatch(r"dword:([0-9a-fA-F]{1,8})", data)
    if number:
        return RegValue(name, REG_DWORD, int(number[1], 16).to_bytes(4, "little"))
    found = re.fullmatch(r"hex(?:\(([0-9a-fA-F]{1,8})\))?:([0-9a-fA-F,\s]*)", data)
    if not found:
        raise DamagedCase(f"cannot read the value {data[:40]!r}", where=where, remedy="export the keys again")
    try:
        raw = bytes(int(pair, 16) for pair in found[2].replace(" ", "").split(",") if pair)
    except ValueError:
        raise DamagedCase("a byte of more than two digits", where=where, remedy="export the keys again") from None
    return RegValue(name, int(found[1], 16) if found[1] else REG_BINARY, raw)


def _unquote(text: str) -> str:
    return re.sub(r"\\([\\\"])", r"\1", text[1:-1])


def _quote(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def format_tree(path: str, key: RegKey) -> str:
    """`.reg` text of a key and all below it; `path` as `HKLM\\Software\\...` or `HKU\\SID\\...`."""
    lines = [HEADER, ""]
    short, _, rest = path.partition("\\")
    _format(LONG[short] + ("\\" + rest if rest else ""), key, lines)
    return "\r\n".join(lines) + "\r\n"


def format_hive(short: str, key: RegKey) -> str:
    """`.reg` text of everything below one hive; a line for the hive itself only if it has values of its own."""
    lines = [HEADER, ""]
    if key.values:
        lines += [f"[{LONG[short]}]", *_values(key), ""]
    for below in _keys(key):
        _format(f"{LONG[short]}\\{below.name}", below, lines)
    return "\r\n".join(lines) + "\r\n"


def _format(path: str, key: RegKey, lines: list[str]) -> None:
    lines.append(f"[{path}]")
    lines.extend(_values(key))
    lines.append("")
    for below in _keys(key):
        _format(f"{path}\\{below.name}", below, lines)


def _keys(key: RegKey) -> list[RegKey]:
    """In the order of their names, as the system tells them: what was deleted and written back is exported as before."""
    return [below for _, below in sorted(key.keys.items())]


def _values(key: RegKey) -> list[str]:
    return [format_value(value) for _, value in sorted(key.values.items())]


def format_value(value: RegValue) -> str:
    """One value line, continued as the system does where it is long."""
    name = _quote(value.name) if value.name else "@"
    if value.type == REG_SZ and _plain_text(value.raw):
        return f"{name}={_quote(value.raw[:-2].decode('utf-16-le', 'surrogatepass'))}"
    if value.type == REG_DWORD and len(value.raw) == 4:
        return f"{name}=dword:{int.from_bytes(value.raw, 'little'):08x}"
    kind = "hex" if value.type == REG_BINARY else f"hex({value.type:x})"
    return _wrap(f"{name}={kind}:", value.raw)


def _plain_text(raw: bytes) -> bool:
    if len(raw) % 2 or not raw.endswith(b"\0\0"):
        return False
    text = raw[:-2].decode("utf-16-le", "surrogatepass")
    return not any(ord(c) < 32 or 0x7F <= ord(c) < 0xA0 or c in "\u2028\u2029" for c in text)


def _wrap(start: str, raw: bytes) -> str:
    line, out = start, ""
    for index, byte in enumerate(raw):
        piece = f"{byte:02x}" + ("," if index < len(raw) - 1 else "")
        if len(line) + len(piece) > 78:
            out += line + "\\\r\n"
            line = "  "
        line += piece
    return out + line
