"""The format's small parts: variables, globs, versions, positions."""

from __future__ import annotations

import itertools
import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kleff.engine.library import load
from kleff.errors import ProcedureError
from kleff.procedure.globs import POSIX, WINDOWS, check_glob, could_hold, fold, literal_count, name_matches, parts_match
from kleff.procedure.source import parse_source
from kleff.procedure.variables import BadTemplate, parse_template, unescape_literal
from kleff.procedure.versions import compare_dotted, parse_duration, parse_range
from kleff.workstation.posix.tree import PosixTree

GUID = "{6F1C2B0A-5D34-4E8B-9A77-2C10D4E5B601}"


@pytest.mark.parametrize(
    ("text", "variable", "rest"),
    [
        (r"{program}\x", "place.program", r"\x"),
        (r"%ProgramFiles(x86)%\x", "env.ProgramFiles(x86)", r"\x"),
        (r"%appdata%", "user.roaming", ""),
        ("{user.home}/.x", "user.home", "/.x"),
        (rf"C:\x\{GUID}\y", "", rf"C:\x\{GUID}\y"),
        (r"C:\{{x}}", "", r"C:\{x}"),
        ("/opt/a", "", "/opt/a"),
    ],
)
def test_templates(text: str, variable: str, rest: str) -> None:
    template = parse_template(text, ["program"])
    assert (template.variable, template.rest) == (variable, rest)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{progrm}", "did you mean {program}?"),
        ("%PROGRAMFILE%", "did you mean"),
        ("C:\\x\\{program}", "must stand at the start"),
        ("C:\\{", "lone {"),
        ("C:\\}", "lone }"),
        ("{user.home}x", "a separator must follow"),
        ("{Program}", "is not a variable"),
        ("%%", "unknown variable"),
    ],
)
def test_templates_that_are_wrong(text: str, says: str) -> None:
    with pytest.raises(BadTemplate) as caught:
        parse_template(text, ["program"])
    assert says in str(caught.value)


def test_keys_have_no_variables() -> None:
    assert unescape_literal(rf"HKCR\CLSID\{GUID}") == rf"HKCR\CLSID\{GUID}"
    with pytest.raises(BadTemplate):
        unescape_literal(r"HKLM\{program}")


@pytest.mark.parametrize(
    ("part", "name", "folded", "expected"),
    [
        ("*", ".hidden", False, True), ("a?c", "abc", False, True), ("[a-c]x", "bx", False, True), ("[!a-c]x", "bx", False, False),
        ("[[]x", "[x", False, True), ("A*", "abc", False, False), ("A*", "abc", True, True), ("stra\u00dfe", "STRASSE", True, False),
        ("\u00e9*", "\u00c9X", True, True), ("a.b", "axb", False, False), ("*", "new\nline", False, True), ("[]]", "]", False, True),
    ],
)  # fmt: skip
def test_one_name(part: str, name: str, folded: bool, expected: bool) -> None:
    assert name_matches(part, name, folded) == expected


def test_depth_and_letters() -> None:
    assert parts_match(("a", "**"), ("a", "b", "c"), False)
    assert not parts_match(("a", "**"), ("a",), False)
    assert parts_match(("**", "x"), ("x",), False)
    assert could_hold(("a", "**", "x"), ("a", "b"), False)
    assert not could_hold(("a", "b"), ("c",), False)
    assert check_glob("a/**b") is not None
    assert check_glob("a/[b") is not None
    assert (literal_count("*.exe"), literal_count("tag*.dll"), literal_count("tagbridge")) == (0, 3, 9)
    assert fold("\u00df\u0149") == "\u00df\u0149"


def matches(part: str, name: str) -> bool:
    """The plain definition of a star and a question mark."""
    if not part:
        return not name
    if part[0] == "*":
        return any(matches(part[1:], name[n:]) for n in range(len(name) + 1))
    return bool(name) and part[0] in ("?", name[0]) and matches(part[1:], name[1:])


@given(st.text("ab*?", max_size=9), st.text("ab", max_size=9))
@settings(max_examples=1000, deadline=None)
def test_stars_are_what_they_mean(part: str, name: str) -> None:
    assert name_matches(part, name, False) == matches(part, name)


names = st.sampled_from(["a", "b", "ab", "A", ".c", "[x", "c d"])
patterns = st.lists(st.sampled_from(["*", "**", "a", "a*", "?", "[ab]", ".c", "[[]x", "b"]), min_size=1, max_size=4)


@given(st.sets(st.lists(names, min_size=1, max_size=4).map(tuple), max_size=12), patterns, st.booleans())
@settings(max_examples=150, deadline=None)
def test_expansion_is_the_topmost_of_what_matches(paths: set[tuple[str, ...]], pattern: list[str], folded: bool) -> None:
    """Against the plain definition: every path of the tree that matches, less what lies below another match."""
    with tempfile.TemporaryDirectory() as folder:
        present: dict[tuple[str, ...], tuple[str, ...]] = {}
        for path in sorted(paths):
            known: tuple[str, ...] = ()
            for name in path:  # on a folded style two spellings are one folder
                key = (*known, name)
                match = next((p for p in present.values() if tuple(map(fold, p)) == tuple(map(fold, key))), None) if folded else None
                known = match or key
                present[known] = known
            os.makedirs(os.path.join(folder, *known), exist_ok=True)
        style = WINDOWS if folded else POSIX
        volume = "C:" if folded else ""
        files = PosixTree(style, {volume: Path(folder)})
        matching = {p for p in present if parts_match(pattern, p, folded)}
        top = {p for p in matching if not any(p[:n] in matching for n in range(1, len(p)))}
        assert {p.parts for p in files.expand(volume, pattern)} == top


def test_links_below_a_pattern_are_not_descended(tmp_path: Path) -> None:
    (tmp_path / "t/real").mkdir(parents=True)
    (tmp_path / "t/real/x").touch()
    (tmp_path / "t/link").symlink_to("real")
    found = {str(p) for p in PosixTree(POSIX, {"": tmp_path}).expand("", ("t", "**", "x"))}
    assert found == {"/t/real/x"}


@given(st.lists(st.integers(0, 30), min_size=1, max_size=4), st.lists(st.integers(0, 30), min_size=1, max_size=4))
def test_dotted_versions(a: list[int], b: list[int]) -> None:
    width = max(len(a), len(b))
    x, y = a + [0] * (width - len(a)), b + [0] * (width - len(b))
    assert compare_dotted(".".join(map(str, a)), ".".join(map(str, b))) == (x > y) - (x < y)


def test_ranges_and_durations() -> None:
    assert [v for v in ("3.9.1", "4", "4.2.0", "5", "5.0.1") if parse_range(">=4, <5").holds(v)] == ["4", "4.2.0"]
    assert parse_range("").holds("anything")
    assert (parse_duration("20s"), parse_duration("45m"), parse_duration("2h")) == (20, 2700, 7200)
    for bad in ("four", ">=", "=4", ">=x"):
        with pytest.raises(ValueError):
            parse_range(bad)


def test_positions() -> None:
    text = "format = 1\n[product]\n  id.x = \"a\"\n[[delete]]\npaths = [\n  'a', # c\n  'b' ]\n[[delete]]\n\"key x\" = { k = [1, 2] }\n"
    source = parse_source(text.encode(), "f")
    expected = {
        ("format",): (1, 1), ("product",): (2, 1), ("product", "id", "x"): (3, 3), ("delete", 0): (4, 1), ("delete", 0, "paths", 1): (7, 3),
        ("delete", 1, "key x"): (9, 1), ("delete", 1, "key x", "k", 1): (9, 21),
    }  # fmt: skip
    assert {k: source.positions.get(k) for k in expected} == expected
    assert source.position(("delete", 1, "nothing")) == (8, 1)


@given(
    st.recursive(st.integers() | st.text(st.characters(codec="ascii", categories=["L"])), lambda s: st.lists(s, max_size=3), max_leaves=6)
)
@settings(max_examples=50)
def test_every_value_has_a_position(value: object) -> None:
    import json

    source = parse_source(f"[[t]]\nx = {json.dumps(value)}\n".encode(), "f")

    def addresses(item: object, base: tuple[str | int, ...]) -> list[tuple[str | int, ...]]:
        below = [addresses(v, (*base, i)) for i, v in enumerate(item)] if isinstance(item, list) else []
        return [base, *itertools.chain.from_iterable(below)]

    assert all(a in source.positions for a in addresses(value, ("t", 0, "x")))


@pytest.mark.parametrize(("needs", "says"), [(">=9", "written for Kleff >=9"), ("soon", "is not a condition such as"), (">=0.1", "")])
def test_a_procedure_says_which_kleff_it_needs(tmp_path: Path, needs: str, says: str) -> None:
    """Told first and alone: what a newer one knows is not called unknown."""
    body = f'[product]\nid = "x"\nname = "X"\nneeds = "{needs}"\n[[evidence]]\npath = "/opt/x"\n' + (
        '[[delete]]\nnew_thing = "y"\n' if says.startswith("written") else ""
    )
    file = tmp_path / "p.toml"
    file.write_text("format = 1\n" + body)
    if not says:
        assert load(file).product.needs == needs
        return
    with pytest.raises(ProcedureError) as error:
        load(file)
    assert says in str(error.value)
    assert "new_thing" not in str(error.value)
