"""What is wrong with the texts of a procedure: paths, keys, durations."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from kleff.procedure.globs import check_glob
from kleff.procedure.variables import KEY_ROOTS, BadTemplate, parse_template, unescape_literal
from kleff.procedure.versions import parse_duration

Problem = tuple[tuple[str | int, ...], str]  # where in the table, and what
LONGEST = 4096  # characters of a path (PATH_MAX of limits.h), and of a key


def path_problems(key: str, texts: list[str], places: Collection[str]) -> Iterator[Problem]:
    """What is wrong with a list of path texts."""
    for index, text in enumerate(texts):
        wrong = path_problem(text, places)
        if wrong:
            yield (key, index), wrong


def path_problem(text: str, places: Collection[str]) -> str | None:
    """What is wrong with one path text, or None."""
    if len(text) > LONGEST:
        return _too_long(text)
    try:
        template = parse_template(text, places)
    except BadTemplate as error:
        return str(error)
    if not template.variable and not text.startswith(("/", "\\\\")) and text[1:2] != ":":
        return f"{text!r} is not a whole path; begin with a variable, a drive or /"
    if text.startswith("\\\\"):
        return f"{text!r} is on another machine; a procedure works on the workstation's own volumes"
    if any(part in (".", "..") for part in template.rest.replace("\\", "/").split("/")):
        return "'.' and '..' are not allowed in a path"
    return check_glob(template.rest) or _control_problem(text) or _windows_problem(text, template.rest)


class NewProblem(str):
    """A problem that a procedure does not have which is read by the rules of an earlier release."""

    since = 2


class NewestProblem(NewProblem):
    """One of the rules that came after those."""

    since = 3


def _too_long(text: str) -> NewProblem:
    return NewProblem(f"{text[:40]!r}... is longer than {LONGEST:,} characters; no path or key is")


def _control_problem(text: str) -> NewProblem | None:
    """A control character is a mistake: in double quotes TOML makes a tab of `\\t`."""
    if any(ord(c) < 32 or ord(c) == 127 for c in text):
        return NewProblem(f"{text!r} has a control character; write it in single quotes, where a backslash is a backslash")
    return None


NOT_IN_NAMES = '<>:"|'  # of the signs that no name on Windows may hold, those that mean nothing in a pattern either


def _windows_problem(text: str, rest: str) -> NewProblem | None:
    """What is wrong with the names of a path that is written for Windows; a colon would name a stream of a file."""
    if text[1:2] == ":" or "\\" in rest:
        rest = rest[2:] if text[1:2] == ":" else rest
        if wrong := next((sign for sign in rest if sign in NOT_IN_NAMES), ""):
            return NewProblem(f"{text!r} holds {wrong!r}, which no name on Windows may hold")
    return None


def key_problem(text: str) -> str | None:
    """What is wrong with a registry key text, or None."""
    if len(text) > LONGEST:
        return _too_long(text)
    try:
        unescape_literal(text)
    except BadTemplate as error:
        return f"{error}; a key has no variables"
    root, _, rest = text.partition("\\")
    if root.upper() not in KEY_ROOTS:
        return f"a key begins with {', '.join(sorted(KEY_ROOTS))}"
    if not rest.strip("\\"):
        return "names a whole hive"
    for part in rest.split("\\"):
        if part != "*" and set(part.replace("[*]", "").replace("[?]", "")) & set("*?"):
            return NewProblem(f"{part!r} has a wildcard, but keys are named in full; write [*] where the name itself has one")
    return _control_problem(text)


def duration_problem(key: str, text: str) -> Iterator[Problem]:
    """A problem if `text` is not a duration."""
    try:
        parse_duration(text)
    except ValueError as error:
        yield (key,), str(error)
