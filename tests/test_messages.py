"""What `check` says of a beginner's mistakes: what, where, what to write; the same in parts for other programs."""

from __future__ import annotations

from pathlib import Path

import pytest

from support import Kleff

HEAD = 'format = 1\n[product]\nid = "x"\nname = "X"\n'
WRONG: dict[str, tuple[bytes, int, str, str]] = {
    "a key twice": ((HEAD + 'name = "Y"\n').encode(), 5, "syntax", "the key 'name' stands twice in one table; first on line 4"),
    "a table twice": ((HEAD + '[product]\nid = "y"\n').encode(), 5, "syntax", "the table [product] stands twice; first on line 2"),
    "typographic quotes": ("format = 1\n[product]\nid = \u201cx\u201d\n".encode(), 3, "syntax", "has a typographic quotation mark"),
    "a text that is not closed": (b'format = 1\n[product]\nid = "x\nname = "X"\n', 3, "syntax",
        "the text that begins on this line is not closed"),
    "16-bit text": (HEAD.encode("utf-16"), 1, "encoding", "is UTF-16 text; save the file as UTF-8"),
    "an old code page": ('format = 1\n[product]\nid = "x"\nname = "M\u00fcller"\n'.encode("latin-1"), 4, "encoding",
        "save the file as UTF-8"),
    "a path in double quotes": (b'format = 1\n[keep]\npaths = ["C:\\Garden"]\n', 3, "syntax", "a Windows path needs single quotes"),
    "a key of another kind": ((HEAD + "[[delete]]\nkey = 'HKLM\\Software\\X'\nat_most = 3\n").encode(), 7, "unknown-key",
                              "unknown key 'at_most'; it belongs to a step with  paths or lines or service"),
    "a key of another phase": ((HEAD + "[[delete]]\npaths = ['/opt/x']\npublisher = 'y'\n").encode(), 7, "unknown-key",
        "entry  in [[uninstall]]"),
    "a wrong word": ((HEAD + 'restart = "sometimes"\n').encode(), 5, "wrong-value", "must be one of if-needed, always, never"),
    "another machine's path": ((HEAD + "[[delete]]\npaths = ['\\\\server\\share']\n").encode(), 6, "invalid", "is on another machine"),
    "a missing key": (b'format = 1\n[product]\nid = "x"\n', 2, "missing-key", "'name' is missing"),
    "what is always refused": ((HEAD + "[[evidence]]\npath = '/opt/x'\n[[delete]]\npaths = ['/etc']\n").encode(), 7, "always-refused",
                               "it is one of the system's own"),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG)
def test_a_beginner_s_mistake(kleff: Kleff, tmp_path: Path, what: str) -> None:
    raw, line, code, message = WRONG[what]
    file = tmp_path / "p.toml"
    file.write_bytes(raw)
    said = kleff("check", file, code=2).out
    assert any(text.startswith(f"{file}:{line}:") and message in text for text in said.splitlines()), said
    found = kleff("check", file, "--json", code=2).json()["files"][0]["problems"]
    assert any((p["file"], p["line"], p["code"]) == (str(file), line, code) and message in p["message"] for p in found), found


def test_several_mistakes_of_one_step(kleff: Kleff, tmp_path: Path) -> None:
    """A wrong type does not hide the rest of the step."""
    file = tmp_path / "p.toml"
    file.write_text(HEAD + "[[stop]]\nprocess = 'abcd'\nwithin = 'soon'\noptional = 'yes'\nodd = 1\n")
    said = kleff("check", file, code=2).out
    assert [line.split(":")[1] for line in said.splitlines()[:3]] == ["7", "8", "9"]
