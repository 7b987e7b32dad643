"""Command lines of Windows: one text, which each program takes apart by itself, most of them by `CommandLineToArgvW`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from subprocess import list2cmdline

BATCH = (".BAT", ".CMD")


def split_program(text: str, is_file: Callable[[str], bool]) -> tuple[str, str]:
    """(program, what stands behind it, as it stands) of a command line.

    An unquoted path with spaces is taken to its longest beginning that is a file, so that no shorter name can step in.
    """
    text = text.strip(" \t")
    if text.startswith('"'):  # up to the next quote, whatever stands before that (CommandLineToArgvW, Windows documentation)
        program, _, rest = text[1:].partition('"')
        return program, rest.strip(" \t")
    pieces = text.split(" ")
    for end in range(len(pieces), 0, -1):
        program = " ".join(pieces[:end])
        if is_file(program):
            return program, " ".join(pieces[end:]).strip(" \t")
    end = min((at for sign in " \t" if (at := text.find(sign)) >= 0), default=len(text))
    return text[:end], text[end:].strip(" \t")


def split_command(text: str, is_file: Callable[[str], bool]) -> list[str]:
    """The program of a command line and its arguments, as most programs take them."""
    program, rest = split_program(text, is_file)
    return [program, *split_arguments(rest)] if program else []


def split_arguments(text: str) -> list[str]:
    """What stands behind a program, as `CommandLineToArgvW` takes it apart.

    Backslashes are none but before a quote; the third of a run of quotes is one, the one that opened counted too.
    """
    arguments: list[str] = []
    current: list[str] = []
    quotes, started, at = 0, False, 0
    while at < len(text):
        run = len(text[at:]) - len(text[at:].lstrip("\\"))
        if run:
            at += run
            before_quote = text[at : at + 1] == '"'
            current.append("\\" * (run // 2 if before_quote else run))
            started = True
            if before_quote and run % 2:
                current.append('"')
                at += 1
                continue
            if not before_quote:
                continue
        char = text[at]
        at += 1
        if char == '"':
            started, quotes = True, quotes + 1
            while text[at : at + 1] == '"':
                quotes, at = quotes + 1, at + 1
                if quotes == 3:
                    current.append('"')
                    quotes = 0
            quotes = 0 if quotes == 2 else quotes
        elif char in " \t" and not quotes:
            if started:
                arguments.append("".join(current))
            current, started = [], False
        else:
            current.append(char)
            started = True
    return [*arguments, "".join(current)] if started else arguments


def behind(line: str, arguments: Sequence[str]) -> str:
    """What stands behind a program: a registered text as it stands, then arguments, quoted so that `CommandLineToArgvW` gives them."""
    return " ".join(part for part in (line, list2cmdline(arguments)) if part)


def is_batch(program: str) -> bool:
    return program.upper().endswith(BATCH)


def for_interpreter(program: str, line: str, arguments: Sequence[str]) -> str:
    """What stands behind the command interpreter so that it runs a file of commands with these arguments ("cmd", Windows documentation).

    It takes off the outer quotes (/s), and puts in variables before anything else, also within quotes.

    Raises:
        ValueError: what it cannot be told.
    """
    if "%" in program:
        raise ValueError("anything: its own path holds %, which the command interpreter would read as its own")
    quoted = " ".join(_to_interpreter(argument) for argument in arguments)
    words = " ".join(part for part in (f'"{program}"', line, quoted) if part)
    return f'/e:on /v:off /d /s /c "{words}"'


def _to_interpreter(argument: str) -> str:
    if set(argument) & set("%\r\n\0"):
        raise ValueError(f"{argument!r}: the command interpreter would read % and line ends in it as its own")
    if argument and argument.replace("\\", "").replace(":", "").replace(".", "").replace("/", "").replace("-", "").isalnum():
        return argument
    text, ending = argument.replace('"', '""'), len(argument) - len(argument.rstrip("\\"))
    return '"' + text + "\\" * ending + '"'
