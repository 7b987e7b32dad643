"""The registry: `.reg` text both ways, views, canonical keys, the lab's lowest layer."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kleff.case.record.exports import pack, unpack
from kleff.engine.job import Job
from kleff.errors import DamagedCase
from kleff.procedure.globs import fold
from kleff.registry.regfile import HEADER, RegKey, decode, encode, format_tree, parse
from kleff.registry.registry import KeyRef, Registry
from kleff.registry.shared import SHARED
from kleff.registry.values import REG_LINK, RegValue, number_value, text_value
from kleff.workstation.lab.workstation import open_lab
from kleff.workstation.windows.command_lines import split_command
from support import hives, procedure

name_text = st.text(st.characters(exclude_categories=["Cc"], exclude_characters="\\"), min_size=1, max_size=12)
values = st.builds(RegValue, st.one_of(st.just(""), name_text), st.one_of(st.integers(0, 12), st.just(0x1234)), st.binary(max_size=40))
texts = st.builds(text_value, name_text, st.text(max_size=30))


@st.composite
def keys(draw: st.DrawFn, depth: int = 2) -> RegKey:
    key = RegKey(draw(name_text))
    for value in draw(st.lists(st.one_of(values, texts), max_size=4)):
        key.set(value)
    for below in draw(st.lists(keys(depth - 1), max_size=3)) if depth else []:
        key.keys.setdefault(fold(below.name), below)
    return key


def same(a: RegKey, b: RegKey) -> bool:
    return a.values == b.values and a.keys.keys() == b.keys.keys() and all(same(a.keys[k], b.keys[k]) for k in a.keys)


@given(keys())
def test_reg_text_round_trip(key: RegKey) -> None:
    """Every type and every byte comes back, through both forms."""
    path = f"HKLM\\Software\\{key.name}"
    back = parse(decode(encode(format_tree(path, key)), "x"), "x").find(["HKLM", "Software", key.name])
    assert back is not None
    assert same(back, key)
    ref, again = unpack(pack(KeyRef("HKLM", f"Software\\{key.name}", 32), key), "x")
    assert ref == KeyRef("HKLM", f"Software\\{key.name}", 32)
    assert same(again, key)


def test_what_other_writers_write() -> None:
    """UTF-8, raw line breaks in texts, continued hex, deletions, comments, the default value, brackets in names."""
    raw = (
        f'{HEADER}\n\n; a comment\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Vend\u00f6r\\with ] bracket]\n@="default \\"quoted\\""\n'
        '"lines"="one\r\ntwo"\n"path"="C:\\\\Program Files\\\\x"\n"multi"=hex(7):61,00,\\\n  00,00,00,00\n"dw"=dword:0000beef\n"gone"="x"\n'
        '"gone"=-\n"exp"=hex(2):25,00,00,00\n"empty"=hex:\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\todel\\child]\n"a"="1"\n\n[-HKEY_LOCAL_MACHINE\\SOFTWARE\\todel]\n'
    )
    for data in (raw.encode(), b"\xef\xbb\xbf" + raw.encode(), encode(raw)):
        tree = parse(decode(data, "x"), "x")
        key = tree.find(["HKLM", "software", "VEND\u00d6R", "with ] bracket"])
        assert key is not None
        assert {v.name: v.text for v in key.values.values()} == {
            "": 'default "quoted"', "lines": "one\r\ntwo", "path": "C:\\Program Files\\x", "multi": "61 00 00 00 00 00", "dw": "48879",
            "exp": "%", "empty": "",
        }  # fmt: skip
        assert tree.find(["HKLM", "SOFTWARE", "todel"]) is None


@pytest.mark.parametrize(
    ("text", "line"),
    [("hello", 1), (f"{HEADER}\n[HKEY_LOCAL_MACHINE\\x\n", 2), (f"{HEADER}\n\"a\"=\"b\"\n", 2), (f"{HEADER}\n[HKEY_X\\y]\n", 2),
     (f"{HEADER}\n\n[HKEY_LOCAL_MACHINE\\x]\n\"a\"=what\n", 4), (f"{HEADER}\n\n[HKEY_LOCAL_MACHINE\\x]\n\"a\"=hex:zz\n", 4),
     (f"{HEADER}\n\n[HKEY_LOCAL_MACHINE\\x]\n\"a\"=hex:123\n", 4), (f"{HEADER}\n\n[HKEY_LOCAL_MACHINE\\x]\nnonsense\n", 4)],
)  # fmt: skip
def test_text_that_cannot_be_read_names_its_line(text: str, line: int) -> None:
    with pytest.raises(DamagedCase) as caught:
        parse(text, "file.reg")
    assert caught.value.where == f"file.reg:{line}"


@pytest.fixture
def registry(lab: Path) -> Registry:
    found = open_lab(lab).registry
    assert found is not None
    return found


def test_views_and_canonical_keys(registry: Registry) -> None:
    sid = registry.api.hives()[0]

    def names(text: str, view: int | None = None) -> list[str]:
        return [str(k) for k in registry.canonical(text, sid, view)]

    assert names(r"HKLM\Software\Brindlewort") == [r"HKLM\Software\Brindlewort (64-bit view)", r"HKLM\Software\Brindlewort (32-bit view)"]
    assert names(r"HKLM\Software\Brindlewort", 32) == [r"HKLM\Software\Brindlewort (32-bit view)"]
    assert names(r"HKLM\SOFTWARE\WOW6432NODE\Brindlewort") == [r"HKLM\SOFTWARE\Brindlewort (32-bit view)"]
    assert names(r"HKLM\Software\Classes\.x") == [r"HKLM\Software\Classes\.x"]
    assert len(names(r"HKLM\Software\Classes\CLSID\{1}")) == 2
    assert names(r"HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\X") == [r"HKLM\SYSTEM\ControlSet001\Services\X"]
    assert names(r"HKCU\Software\X") == [rf"HKU\{sid}\Software\X"]
    assert names(r"HKCR\.x")[0] == rf"HKU\{sid}\Software\Classes\.x"
    assert KeyRef("HKLM", r"Software\Classes\CLSID\{1}", 32).physical == r"Software\Classes\Wow6432Node\CLSID\{1}"
    assert KeyRef("HKLM", r"Software\A", 32).physical == r"Software\Wow6432Node\A"


@pytest.mark.parametrize("parts", sorted(SHARED), ids="\\".join)
def test_what_both_views_share_is_one_key(registry: Registry, parts: tuple[str, ...]) -> None:
    """By whichever name it is meant; and what an earlier Kleff has noted of its 32-bit name keeps its place."""
    path = "\\".join(parts)
    for text in (path, f"{path}\\Beds", path.replace("SOFTWARE", r"Software\Wow6432Node", 1)):
        assert [key.view for key in registry.canonical(f"HKLM\\{text}")] == [0]
    assert KeyRef("HKLM", f"{path}\\Beds", 32).physical == path.replace("SOFTWARE", r"SOFTWARE\Wow6432Node", 1) + r"\Beds"
    assert len(registry.canonical(f"HKLM\\{path[:-1]}")) == 2


def test_what_a_link_shares_is_one_key(registry: Registry) -> None:
    """Whatever the table says: a workstation may share more. A link that leads elsewhere is no such one."""
    names = {"Twin": r"\Registry\Machine\SOFTWARE\Brindlewort\Twin", "Elsewhere": r"\Registry\Machine\SOFTWARE\Other"}
    for name, target in names.items():
        registry.api.create("HKLM", rf"SOFTWARE\Brindlewort\{name}\Below")
        link = RegValue("SymbolicLinkValue", REG_LINK, target.encode("utf-16-le"))
        registry.api.make_link("HKLM", rf"SOFTWARE\Wow6432Node\Brindlewort\{name}", link)
    assert [key.view for key in registry.canonical(r"HKLM\Software\brindlewort\twin\Below")] == [0]
    assert [key.view for key in registry.canonical(r"HKLM\Software\Wow6432Node\Brindlewort\Twin")] == [0]
    assert [key.view for key in registry.canonical(r"HKLM\Software\Brindlewort\Elsewhere")] == [64, 32]
    assert [key.view for key in registry.canonical(r"HKLM\Software\Brindlewort")] == [64, 32]


def test_the_lowest_layer_behaves_as_the_real_one(registry: Registry) -> None:
    """Case-insensitive and case-preserving, keys listed in order, a key with subkeys is not deleted, views are apart."""
    wide, narrow = registry.canonical(r"HKLM\Software\Test\V")
    api = registry.api
    api.set("HKLM", wide.physical, text_value("Name", "64"))
    api.set("HKLM", narrow.physical, text_value("name", "32"))
    api.set("HKLM", wide.physical.upper(), number_value("NAME", 7))
    assert [(v.name, v.text) for v in registry.values(wide)] == [("Name", "7")]
    assert registry.text(narrow, "NAME") == "32"
    for name in ("zeta", "Alpha", "beta"):
        api.create("HKLM", rf"Software\Test\O\{name}")
    assert registry.subkeys(KeyRef("HKLM", r"Software\Test\O", 64)) == ["Alpha", "beta", "zeta"]
    with pytest.raises(OSError, match="subkeys"):
        api.delete_key("HKLM", r"Software\Test\O")
    registry.delete_tree(wide)
    assert not registry.exists(wide)
    assert registry.exists(narrow)
    assert api.subkeys("HKLM", r"Software\Nowhere") is None
    with pytest.raises(FileNotFoundError):
        api.create("HKU", r"S-1-5-21-none\Software")
    api.flush()
    assert registry.text(narrow, "name") == "32"


def test_putting_back_never_overwrites(registry: Registry) -> None:
    key = registry.canonical(r"HKLM\Software\Brindlewort\Tag Studio")[0]
    tree = registry.tree(key)
    assert tree is not None
    registry.delete_tree(key)
    registry.api.set("HKLM", key.physical, text_value("Version", "9"))
    left = registry.write_tree(key, tree)
    assert left == [rf"{key}: value Version has been set since"]
    assert registry.text(key, "Version") == "9"
    assert registry.text(key.child("Setup"), "Version") == "4.2.0"
    registry.api.flush()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (r'"C:\A B\un.exe" /s', [r"C:\A B\un.exe", "/s"]),
        (r"C:\A B\un.exe /s", [r"C:\A B\un.exe", "/s"]),
        (r"C:\A /s", [r"C:\A", "/s"]),
        (r'"C:\A B\un.exe" "D:\x y\\" a\"b "" c', [r"C:\A B\un.exe", "D:\\x y\\", 'a"b', "", "c"]),
        ("", []),
    ],
)
def test_registered_command_lines(text: str, words: list[str]) -> None:
    """A shorter program that stands in the way (C:\\A) does not step in for `C:\\A B\\un.exe`."""
    assert split_command(text, {r"C:\A", r"C:\A B\un.exe"}.__contains__) == words


def test_a_link_is_a_leaf(lab: Path, tmp_path: Path) -> None:
    """It is exported, deleted and put back itself; what it leads to is never touched, also not by a key below it."""
    workstation = open_lab(lab)
    registry = workstation.registry
    assert registry is not None
    target = "\\Registry\\Machine\\SOFTWARE\\Stocktake".encode("utf-16-le")
    (neighbour,) = registry.canonical(r"HKLM\Software\Stocktake", view=64)
    registry.api.create("HKLM", r"SOFTWARE\Stocktake\Counts")
    registry.api.create("HKLM", r"SOFTWARE\Brindlewort\Tag Studio\Own")
    registry.api.make_link("HKLM", r"SOFTWARE\Brindlewort\Tag Studio\Linked", RegValue("SymbolicLinkValue", REG_LINK, target))
    registry.api.flush()
    before = hives(lab)
    assert registry.exists(KeyRef("HKLM", r"SOFTWARE\Brindlewort\Tag Studio\Linked\Counts", 64))  # on the way it is followed
    found = registry.tree(KeyRef("HKLM", r"SOFTWARE\Brindlewort\Tag Studio", 64))
    assert found is not None
    assert not found.keys[fold("Linked")].keys
    steps = "[[evidence]]\nkey = 'HKLM\\Software\\Brindlewort\\Tag Studio'\n[[delete]]\nkey = 'HKLM\\Software\\Brindlewort\\Tag Studio'\n"
    job = Job.open(procedure(tmp_path / "p.toml", steps), on=f"lab:{lab}")
    case, ended = job.run(job.preview(), tmp_path / "cases")
    assert ended.clean
    assert registry.exists(neighbour.child("Counts"))
    assert not registry.exists(KeyRef("HKLM", r"SOFTWARE\Brindlewort\Tag Studio", 64))
    assert Job.of_case(case).undo().stays == []
    assert hives(lab) == before
    below = procedure(tmp_path / "q.toml", "[[delete]]\nkey = 'HKLM\\Software\\Brindlewort\\Tag Studio\\Linked\\Counts'\n")
    actions = Job.open(below, on=f"lab:{lab}").preview().plan.actions
    assert [(a.state, "is a link" in a.reason) for a in actions if a.state != "absent"] == [("refused", True)]
