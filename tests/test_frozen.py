"""Cases that an earlier release left on disks, in every state: each is still read, told, gone on with, taken back and given back."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from frozen.moving import settle, state, unpack
from kleff.case.record.folder import open_case
from kleff.report.case_report import report_document, report_markdown, report_page
from kleff.report.documents import encode
from kleff.report.web import report_html
from kleff.workstation.things import without_commands
from support import IS_ROOT, Kleff

FOLDER = Path(__file__).parent / "frozen"
GIVEN = {"KLEFF_SECRET_PASSPHRASE_OF_THE_BAG": "three beds of sage", "KLEFF_SECRET_DATABASE_PASSWORD": "plum"}
FILES = sorted(str(f.relative_to(FOLDER)).removesuffix(".tar.zst") for f in FOLDER.glob("*/*.zst"))
ACTION = ("number", "phase", "line", "label", "verb", "target", "path_b64", "account", "state", "note", "items", "size")
EFFECT = ("number", "action", "kind", "state", "note", "at", "what")

pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: owners as they were")


def opened(name: str, folder: Path) -> dict[str, Any]:
    """Unpack and settle; what the release that made it says of it."""
    unpack(FOLDER / f"{name}.tar.zst", folder)
    settle(folder)
    expected: dict[str, Any] = json.loads((folder / "expected.json").read_text())
    return expected


def settled(part: object) -> object:
    """What was written by the command itself has the time of that day; keys were exported in the order in which they had been made."""
    if not isinstance(part, dict):
        return part
    found = {name: re.sub(r" 179[5-9]\d{15} | 1[89]\d{17} ", " then ", text) for name, text in part.items()}
    return {
        name: sorted(sorted(key.splitlines()) for key in text.split("\r\n\r\n")) if name.endswith(".reg") else text
        for name, text in found.items()
    }


def report(case: Path) -> dict[str, Any]:
    """What `kleff report --json` says of a case."""
    with open_case(case) as known:
        found: dict[str, Any] = json.loads(encode(report_document(known)))
    return found


@pytest.mark.parametrize("name", FILES)
def test_a_case_of_an_earlier_release(name: str, kleff: Kleff, tmp_path: Path) -> None:
    """Told as that release told it; each command that can follow ends as it did there, and leaves the same."""
    expected = opened(name, tmp_path)
    case, before = expected["case"], expected["report"]
    told = report(kleff.cases / case)
    now, then = ([{k: a[k] for k in ACTION if k != "state"} for a in of["actions"]] for of in (told, before))
    assert now == then
    states = [(a["state"], b["state"]) for a, b in zip(told["actions"], before["actions"], strict=True)]
    assert all(a == b or (a, b) == ("undone", "done") for a, b in states)  # which that release told as done still
    was = [{k: without_commands(e[k]) if k in ("what", "note") else e[k] for k in EFFECT} for e in before["effects"]]
    assert [{k: e[k] for k in EFFECT} for e in told["effects"]] == was
    assert told["events"] == [{**e, "text": without_commands(e["text"])} for e in before["events"]]
    assert told["clean"] == before["clean"]
    assert [f["target"] for f in told["findings"]] == [f["target"] for f in before["findings"]]
    assert told["case"]["state"] == before["case"]["state"]
    assert told["case"]["holds"] == before["case"]["holds"]
    with open_case(kleff.cases / case) as known:
        assert all(case in page for page in (report_page(known).text(), report_markdown(known), report_html(known)))
    for number, step in enumerate(expected["follow"]):
        place = tmp_path / f"{number}"
        place.mkdir()
        opened(name, place)
        kleff.cases = place / "cases"
        words = step["words"]
        if words == ["lab"]:
            subprocess.run([Path(sys.executable).parent / "kleff", "lab", "restart", str(place / "lab")], check=True, capture_output=True)
            words = ["resume"]
        kleff(words[0], case, *words[1:], env=GIVEN, code=step["code"])
        assert report(kleff.cases / case)["case"]["state"] == step["case"], words
        now = state(place)
        for part, was in step["state"].items():
            assert settled(now[part]) == settled(was), (words, part)
