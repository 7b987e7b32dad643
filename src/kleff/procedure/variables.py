"""Variables in paths: `{user.roaming}`, `%ProgramFiles%`, the procedure's own places."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from difflib import get_close_matches

VARIABLE = re.compile(r"[a-z_]+(\.[a-z_]+)*\Z")
GUID = re.compile(r"[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\Z")

# Every variable a workstation may give; docs/procedure.md has the table of what they mean on each system.
SYSTEM_VARIABLES = (
    "program_files",
    "common_files",
    "program_data",
    "program_menu",
    "windows",
    "system",
    "temp",
    "public",
)
USER_VARIABLES = (
    "user.home",
    "user.desktop",
    "user.documents",
    "user.downloads",
    "user.music",
    "user.pictures",
    "user.videos",
    "user.roaming",
    "user.local",
    "user.cache",
    "user.temp",
    "user.menu",
)
# The spellings in which Windows paths are written down everywhere, and the variable each means.
PERCENT_NAMES = {
    "PROGRAMFILES": "env.ProgramFiles",
    "PROGRAMFILES(X86)": "env.ProgramFiles(x86)",
    "PROGRAMW6432": "env.ProgramFiles",
    "COMMONPROGRAMFILES": "env.CommonProgramFiles",
    "COMMONPROGRAMFILES(X86)": "env.CommonProgramFiles(x86)",
    "PROGRAMDATA": "program_data",
    "ALLUSERSPROFILE": "program_data",
    "SYSTEMROOT": "windows",
    "WINDIR": "windows",
    "SYSTEMDRIVE": "env.SystemDrive",
    "PUBLIC": "public",
    "APPDATA": "user.roaming",
    "LOCALAPPDATA": "user.local",
    "USERPROFILE": "user.home",
    "TEMP": "user.temp",
    "TMP": "user.temp",
}

# Roots of registry keys as they are written, and the hive each stands for.
KEY_ROOTS = {
    "HKLM": "HKLM",
    "HKEY_LOCAL_MACHINE": "HKLM",
    "HKCU": "HKCU",
    "HKEY_CURRENT_USER": "HKCU",
    "HKCR": "HKCR",
    "HKEY_CLASSES_ROOT": "HKCR",
}


@dataclass(frozen=True)
class Template:
    """A path as the procedure writes it, with its leading variable taken apart.

    Attributes:
        variable: the canonical variable it begins with, or "".
        rest: what follows, with braces unescaped; may hold wildcards.
        text: as written.
    """

    variable: str
    rest: str
    text: str

    @property
    def per_account(self) -> bool:
        return self.variable.startswith("user.")


class BadTemplate(ValueError):
    """A path text whose variables cannot be understood."""


def as_written(variable: str) -> str:
    """A variable as a procedure writes it."""
    return f"%{variable.removeprefix('env.')}%" if variable.startswith("env.") else f"{{{variable}}}"


def parse_template(text: str, places: Collection[str] = ()) -> Template:
    """Take a path text apart.

    A variable is `{` name `}` or `%NAME%` and stands at the start; a GUID in braces is literal; `{{` and `}}`
    are literal braces.

    Raises:
        BadTemplate: an unknown variable, a variable inside, a lone brace.
    """
    variable, rest = "", text
    if text.startswith("%"):
        end = text.find("%", 1)
        name = text[1:end] if end > 0 else ""
        if name.upper() not in PERCENT_NAMES:
            raise BadTemplate(f"unknown variable %{name}%{_meant(name.upper(), PERCENT_NAMES, '%', '%')}")
        variable, rest = PERCENT_NAMES[name.upper()], text[end + 1 :]
    elif text.startswith("{") and not text.startswith("{{"):
        end = text.find("}")
        name = text[1:end] if end > 0 else ""
        if not GUID.match(name):
            variable, rest = _known(name, places), text[end + 1 :]
    if variable and rest and rest[0] not in "\\/":
        raise BadTemplate(f"a separator must follow the variable in {text!r}")
    return Template(variable, _unescape(rest, places), text)


def _known(name: str, places: Collection[str]) -> str:
    if not VARIABLE.match(name):
        raise BadTemplate(f"{{{name}}} is not a variable; write {{{{ and }}}} for literal braces")
    if name in places:
        return f"place.{name}"
    known = (*SYSTEM_VARIABLES, *USER_VARIABLES)
    if name not in known:
        raise BadTemplate(f"unknown variable {{{name}}}{_meant(name, (*places, *known), '{', '}')}")
    return name


def _meant(name: str, known: Collection[str], before: str, after: str) -> str:
    close = get_close_matches(name, list(known), n=1)
    if close:
        return f"; did you mean {before}{close[0]}{after}?"
    return "; known are " + ", ".join(f"{before}{k}{after}" for k in known)


def _unescape(rest: str, places: Collection[str]) -> str:
    if "{" not in rest and "}" not in rest:
        return rest
    out, i = "", 0
    while i < len(rest):
        char = rest[i]
        if rest[i : i + 2] in ("{{", "}}"):
            out, i = out + char, i + 2
            continue
        if char == "{":
            end = rest.find("}", i)
            name = rest[i + 1 : end] if end > 0 else ""
            if not GUID.match(name):
                known = _known(name, places) if name else ""
                raise BadTemplate(f"{{{name}}} must stand at the start of the path" if known else "lone {")
            out, i = out + rest[i : end + 1], end + 1
            continue
        if char == "}":
            raise BadTemplate("lone }; write }} for a literal brace")
        out, i = out + char, i + 1
    return out


def escaped_key(text: str) -> str:
    """A registry key as a procedure writes it, so that it means this one: the inverse of `literal_key`."""
    return re.sub(r"[*?]", r"[\g<0>]", text).replace("{", "{{").replace("}", "}}")


def literal_key(text: str) -> str:
    """A registry key text with its names as they are: `{{`, `[*]` and `[?]` stand for one character.

    Raises:
        BadTemplate: it has a variable.
    """
    return unescape_literal(text).replace("[*]", "*").replace("[?]", "?")


def unescape_literal(text: str) -> str:
    """A text without variables (registry keys): braces unescaped, GUIDs left.

    Raises:
        BadTemplate: a variable or a lone brace.
    """
    return _unescape(text, ())
