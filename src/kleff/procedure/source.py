"""TOML text with the line and column of every key and table (the standard parser gives none)."""

from __future__ import annotations

import os
import re
import stat
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kleff.errors import Located, ProcedureError
from kleff.procedure.syntax import endless_number, not_text, not_toml

Address = tuple[str | int, ...]
MAX_SIZE = 128 * 1024  # bytes; the longest procedures that were seen have a fifth of it
MAX_DEPTH = 32
VERY_DOTTED = re.compile(r"""(?:^|[{,])[ \t]*\[*[ \t]*(?:(?>[A-Za-z0-9_-]+|"[^"\n]*"|'[^'\n]*')[ \t]*\.[ \t]*){64}""", re.MULTILINE)


@dataclass
class Source:
    """One procedure file as read: its data, and where everything stands.

    Attributes:
        name: the file as the technician named it.
        raw: the bytes as read, kept for the case.
        data: the TOML document.
        positions: (line, column), both from 1, of each key or table by its address, e.g. ("delete", 0, "paths").
    """

    name: str
    raw: bytes
    data: dict[str, Any]
    positions: dict[Address, tuple[int, int]] = field(default_factory=dict)

    def place(self, address: Address) -> str:
        """`FILE:LINE:COLUMN` of the nearest thing that has a position."""
        line, column = self.position(address)
        return f"{self.name}:{line}:{column}"

    def located(self, address: Address, code: str, message: str) -> Located:
        """A problem there."""
        return Located(self.name, *self.position(address), code, message)

    def position(self, address: Address) -> tuple[int, int]:
        """Line and column of `address`, or of what holds it."""
        while address and address not in self.positions:
            address = address[:-1]
        return self.positions.get(address, (1, 1))


def read_source(path: Path, name: str = "") -> Source:
    """Read and parse a procedure file.

    Raises:
        ProcedureError: the file cannot be read, is not UTF-8, or is not TOML (https://toml.io/en/v1.0.0).
    """
    name = name or str(path)
    try:
        raw = _bytes(path, name)
    except FileNotFoundError:
        raise ProcedureError([f"{name}: there is no such file"], remedy="check the path of the procedure") from None
    except OSError as error:
        raise ProcedureError([f"{name}: cannot be read: {error.strerror}"], remedy="check that it is a file, and its permissions") from None
    return parse_source(raw, name)


def _bytes(path: Path, name: str) -> bytes:
    # Not to wait for a writer when it is a pipe.
    with open(path, "rb", opener=lambda file, flags: os.open(file, flags | getattr(os, "O_NONBLOCK", 0))) as file:
        if not stat.S_ISREG(os.fstat(file.fileno()).st_mode):
            raise ProcedureError([f"{name}: is not a regular file"], remedy="name the procedure's file")
        raw: bytes = file.read(MAX_SIZE + 1)
    if len(raw) > MAX_SIZE:
        raise ProcedureError(
            [f"{name}: is larger than {MAX_SIZE // 1024} KiB"], remedy="make several procedures of it, one for each product"
        )
    return raw


def parse_source(raw: bytes, name: str) -> Source:
    """Parse the bytes of a procedure file.

    Raises:
        ProcedureError: not UTF-8, not TOML, or nested deeper than any procedure.
    """
    try:
        text = raw.decode("utf-8-sig")
        if VERY_DOTTED.search(text):  # for which the standard parser's work grows with the square
            raise RecursionError
        data = tomllib.loads(text)
        positions = dict(_positions(text.encode()))
        if any(len(address) > MAX_DEPTH for address in positions):
            raise RecursionError
    except UnicodeDecodeError as error:
        raise ProcedureError([not_text(name, raw, error)], remedy="save it so, then check it again") from None
    except tomllib.TOMLDecodeError as error:
        raise ProcedureError([not_toml(name, text, str(error))], remedy="correct the line; the rest is not read") from None
    except ValueError:  # what Python says of an integer with more digits than it reads
        raise ProcedureError([endless_number(name, text)], remedy="correct the number") from None
    except RecursionError:
        raise ProcedureError([f"{name}: nested too deeply"], remedy="a procedure needs no such nesting") from None
    return Source(name, raw, data, positions)


def _positions(text: bytes) -> Iterator[tuple[Address, tuple[int, int]]]:
    import tree_sitter
    import tree_sitter_toml

    tree = tree_sitter.Parser(tree_sitter.Language(tree_sitter_toml.language())).parse(text)
    counts: dict[Address, int] = {}
    for node in tree.root_node.children:
        if node.type == "pair":
            yield from _pair(node, ())
        elif node.type in ("table", "table_array_element"):
            yield from _table(node, counts)


def _table(node: Any, counts: dict[Address, int]) -> Iterator[tuple[Address, tuple[int, int]]]:
    keys = _key_parts(node.children[1])
    base: Address = keys
    if node.type == "table_array_element":
        index = counts[keys] = counts.get(keys, -1) + 1
        base = (*keys, index)
        if index == 0:
            yield keys, _point(node)
    elif len(keys) > 1 and keys[:-1] in counts:
        base = (*keys[:-1], counts[keys[:-1]], keys[-1])
    yield base, _point(node)
    for child in node.children:
        if child.type == "pair":
            yield from _pair(child, base)


def _pair(node: Any, base: Address) -> Iterator[tuple[Address, tuple[int, int]]]:
    if len(node.children) < 3:
        return
    address: Address = base
    for part in _key_parts(node.children[0]):
        address = (*address, part)
        yield address, _point(node)
    yield from _value(node.children[2], address)


def _value(node: Any, address: Address) -> Iterator[tuple[Address, tuple[int, int]]]:
    if node.type == "inline_table":
        for child in node.children:
            if child.type == "pair":
                yield from _pair(child, address)
    elif node.type == "array":
        items = [c for c in node.children if c.type not in ("[", "]", ",", "comment")]
        for index, item in enumerate(items):
            yield (*address, index), _point(item)
            yield from _value(item, (*address, index))


def _key_parts(node: Any) -> tuple[str, ...]:
    if node.type == "dotted_key":
        return tuple(p for child in node.children if child.type != "." for p in _key_parts(child))
    text = node.text.decode()
    if node.type == "quoted_key":
        try:
            return tuple(tomllib.loads(f"{text}=0"))
        except tomllib.TOMLDecodeError:
            return (text,)
    return (text,)


def _point(node: Any) -> tuple[int, int]:
    return node.start_point[0] + 1, node.start_point[1] + 1
