"""The examples of the reference: each is what it says, read as a procedure."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from kleff.engine.library import parse

PAGE = (Path(__file__).parent.parent / "docs/procedure.head.md").read_text("utf-8")
EXAMPLES = re.findall(r"```toml\n(.*?)```", PAGE, re.DOTALL)
ASKED = ("coming-back", "which")


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_it_loads(number: int) -> None:
    text = EXAMPLES[number]
    head = "" if text.startswith("format") else "format = 1\n"
    head += "" if "[product]" in text else '[product]\nid = "x"\nname = "X"\n'
    head += "" if "[places]" in text or "program" not in text else "[places]\nprogram = 'C:\\X'\n"
    tail = "" if "[[evidence]]" in text else "\n[[evidence]]\npath = '{temp}/x'\n"
    for ask in ASKED:
        if re.search(rf'"(not )?{ask}"', text) and "[[ask]]" not in text:
            tail += f'\n[[ask]]\nid = "{ask}"\nquestion = "?"\ndefault = false\n'
    ordered = re.sub(r"(?s)^(format = 1\n)?(.*)", lambda m: (m[1] or head) + m[2], text) if not head else head + text
    parse((ordered + tail).encode(), f"example {number + 1}")
