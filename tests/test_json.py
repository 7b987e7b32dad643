"""JSON of every reading command against its schema, and the documents about them."""

from __future__ import annotations

import json
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path

import jsonschema
import pytest

from kleff.report.documents import DOCUMENTS, schema
from support import Kleff, linux_tree, procedure

ROOT = Path(__file__).parent.parent


def test_every_reading_command(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    on = ("--on", f"lab:{lab}")
    outputs = {
        "check": kleff("check", tag_studio, "--json"),
        "list": kleff("list", "--library", tag_studio.parent, *on, "--json"),
        "survey": kleff("survey", tag_studio, *on, "--json"),
        "preview": kleff("preview", tag_studio, *on, "--json"),
        "verify": kleff("verify", tag_studio, *on, "--json", code=4),
        "lab": kleff("lab", "show", lab, "--json"),
    }
    before = kleff("preview", tag_studio, *on, "--spare", "off", "--json")
    run = kleff("run", tag_studio, *on, "--yes", "--json", "--ticket", "T-1", "--technician", "Mira", "--quiet")
    assert run.err == ""
    outputs["report"] = kleff("report", kleff.case(), "--format", "json")
    outputs["cases"] = kleff("cases", "--json")
    outputs["restore"] = kleff("restore", kleff.case(), "--dry-run", "--json")
    assert set(outputs) == set(DOCUMENTS) - {"unneeded", "selftest"}  # of one system alone; see test_unneeded, test_windows_host
    for command, done in outputs.items():
        jsonschema.validate(done.json(), schema(command))
        assert done.json()["kleff"] == command
        assert done.json()["version"] == 2
    report = run.json()
    jsonschema.validate(report, schema("report"))
    assert (report["case"]["ticket"], report["case"]["technician"], report["clean"]) == ("T-1", "Mira", True)
    assert report == outputs["report"].json()
    assert outputs["preview"].json()["no_return"] == 0
    preview = before.json()
    assert preview["no_return"] == next(a["number"] for a in preview["actions"] if a["final"]) == 23


class Tags(HTMLParser):
    """What a page is made of."""

    def __init__(self) -> None:
        super().__init__()
        self.seen: set[str] = set()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.seen.add(tag)
        assert not [name for name, _ in attrs if name.startswith("on") or name in ("src", "href")]


def test_names_that_are_not_text(kleff: Kleff, tmp_path: Path) -> None:
    """Raw bytes come through exactly in JSON, and do no harm in text and Markdown."""
    top = linux_tree(tmp_path / "tree")
    names = [
        b"caf\xe9",
        b"new\nline",
        b"\x1b[2Jred",
        "\u202egpj.exe".encode(),
        b"a" * 255,
        b"tick`tick``",
        b"pipe|cell",
        b"<script>x",
        b'"><img src=x>&amp;',
    ]
    folder = top / "opt/brindlewort"
    folder.mkdir()
    for name in names:
        with open(bytes(folder) + b"/" + name, "wb") as file:
            file.write(name)
    step = procedure(tmp_path / "p.toml", "[[backup]]\nlabel='x'\npaths = ['/opt/brindlewort']\n[[delete]]\npaths = ['/opt/brindlewort/*']")
    import base64

    found = kleff("preview", step, "--on", f"root:{top}", "--json").json()
    paths = {base64.b64decode(a["path_b64"]) for a in found["actions"] if a["phase"] == "delete"}
    assert paths == {b"/opt/brindlewort/" + n for n in names}
    out = kleff("run", step, "--on", f"root:{top}", "--yes").out
    text = out + kleff("report", kleff.case(), "--format", "markdown").out + kleff("report", kleff.case()).out
    assert "\x1b" not in text
    assert "\u202e" not in text
    assert "\\x1b[2Jred" in text
    page = kleff("report", kleff.case(), "--format", "html").out
    tags = Tags()
    tags.feed(page)
    assert tags.seen <= {"html", "head", "meta", "title", "style", "body", "h1", "h2", "p", "table", "tr", "th", "td", "ul", "li", "pre"}
    assert "&lt;script&gt;x" in page
    assert "\x1b" not in page
    assert "\u202e" not in page
    index = json.loads(next((kleff.case() / "bag/data").glob("*.index.json")).read_text())
    assert {base64.b64decode(m["path_b64"]) for m in index["members"]} == paths | {b"/opt/brindlewort"}
    assert all(m["member"].isascii() for m in index["members"])
    kleff("undo", kleff.case(), "--yes")
    assert sorted(n for n in map(bytes, (p.name.encode("utf-8", "surrogateescape") for p in folder.iterdir()))) == sorted(names)


def test_the_procedure_schema_accepts_the_samples(kleff: Kleff) -> None:
    import tomllib

    found = json.loads(kleff("check", "--schema").out)
    jsonschema.Draft202012Validator.check_schema(found)
    for sample in (ROOT / "src/kleff/samples").glob("*.toml"):
        document = tomllib.loads(sample.read_text("utf-8"))
        document["product"]["reviewed"] = str(document["product"]["reviewed"])
        jsonschema.validate(document, found)
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate({**document, "delete": [{"pahts": ["x"]}]}, found)
        assert kleff("check", sample, "--json").json()["files"][0]["valid"]


@pytest.mark.parametrize("page", ["procedure.md", "json.md", "guard.md", "architecture.md"])
def test_generated_documents_are_up_to_date(page: str) -> None:
    done = subprocess.run([sys.executable, ROOT / "scripts/make_docs.py", "--print", page], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert done.stdout == (ROOT / "docs" / page).read_text("utf-8"), f"run scripts/make_docs.py: docs/{page} is out of date"


def test_colour_and_pipes(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    assert "\x1b" not in kleff("survey", tag_studio, "--on", f"lab:{lab}").out
    line = f"'{kleff.program}' preview '{tag_studio}' --on lab:'{lab}' | head -n 1"
    done = subprocess.run(["sh", "-c", line], capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (0, "")
