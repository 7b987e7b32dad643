"""Labs beyond the usual: a registry that is read where it is asked, and the whole preview of very many steps."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import kleff.registry.large as large
from kleff.registry.large import parse_large
from kleff.registry.regfile import RegKey, format_hive, parse
from kleff.registry.values import REG_BINARY, RegValue, number_value, text_value
from needs.lab import put
from support import Kleff, procedure

NAMES = st.sampled_from(["A", "a b", "a]", "größe", "{1}", "A\u0130", "日本", "x" * 40, "[b"])
LANGUAGES = ("Geräte für {}", "Outils pour {} à côté", "Ogród {} i łopata", "Инструменты {}", "道具 {} 日本語")
TREES = st.recursive(
    st.builds(lambda v: (v, {}), st.integers(0, 3)),
    lambda below: st.tuples(st.integers(0, 3), st.dictionaries(NAMES, below, max_size=3)),
    max_leaves=12,
)  # fmt: skip


def made(name: str, tree: tuple[int, dict[str, object]]) -> RegKey:
    key = RegKey(name)
    for number in range(tree[0]):
        for value in (
            text_value(f"t{number}", "[HKEY_LOCAL_MACHINE\\no key]"),
            number_value("n", number),
            RegValue("b", REG_BINARY, b"\r\n["),
        ):
            key.set(value)
    for below, its in tree[1].items():
        key.make([below])
        key.keys[list(key.keys)[-1]] = made(below, its)  # type: ignore[arg-type]
    return key


def flat(key: RegKey) -> object:
    return key.name, {n: (v.name, v.type, v.raw) for n, v in key.values.items()}, {n: flat(k) for n, k in key.keys.items()}


@given(TREES)
def test_read_where_it_is_asked_it_is_the_same(tree: tuple[int, dict[str, object]]) -> None:
    """As the reader of all of it has it, to the letter."""
    before, large.LARGE = large.LARGE, 0
    try:
        text = format_hive("HKLM", made("HKLM", tree))
        whole = parse(text, "x.reg")
        assert sorted(map(repr, [flat(parse_large(text, "x.reg"))])) == sorted(map(repr, [flat(whole)]))
    finally:
        large.LARGE = before


@pytest.mark.parametrize(
    "lines",
    [
        "[-HKEY_LOCAL_MACHINE\\A]", "[HKEY_LOCAL_MACHINE\\A\\]", "[HKEY_LOCAL_MACHINE]",
        "[HKEY_LOCAL_MACHINE\\A]\r\n[HKEY_LOCAL_MACHINE\\a]\r\n\"x\"=dword:1",
    ],
)  # fmt: skip
def test_what_is_written_by_hand(lines: str) -> None:
    before, large.LARGE = large.LARGE, 0
    try:
        text = f'Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\A]\r\n"y"="1"\r\n\r\n{lines}\r\n'
        assert flat(parse_large(text, "x.reg")) == flat(parse(text, "x.reg"))
    finally:
        large.LARGE = before


def test_five_hundred_steps_in_five_languages(kleff: Kleff, tmp_path: Path) -> None:
    """The whole preview has every one of them, in order, with its name as it is."""
    lab = tmp_path / "lab"
    names = [LANGUAGES[number % 5].format(f"{number:03d}") for number in range(500)]
    put(lab, {"file": [{"path": rf"C:\ProgramData\{name}\x"} for name in names]})
    own = procedure(tmp_path / "p.toml", "".join(f"[[delete]]\npaths = ['%ProgramData%\\{name}']\n" for name in names))
    shown = kleff("preview", own, "--on", f"lab:{lab}").out
    at = [shown.find(rf"C:\ProgramData\{name}") for name in names]
    assert -1 not in at
    assert at == sorted(at)
    assert "500 actions to do" in shown
