"""Labs for the tests of needs, from short descriptions beside the procedures."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import msgspec

from kleff.workstation.lab.making.adding import Adding
from kleff.workstation.lab.making.plain import CURRENT, build_plain
from kleff.workstation.lab.making.spec import LabSpec

HERE = Path(__file__).parent
WINDOWS = CURRENT
SAID = {field.name for field in msgspec.structs.fields(LabSpec)}  # the rest of a description is for the test


def build(folder: Path, name: str) -> dict[str, Any]:
    """Make the lab of a need. Returns its description."""
    described = tomllib.loads((HERE / f"{name}.lab.toml").read_text("utf-8"))
    put(folder, {key: value for key, value in described.items() if key in SAID})
    return described


def put(folder: Path, described: dict[str, Any]) -> None:
    """A plain lab with what a description says."""
    build_plain(folder)
    Adding(folder, HERE).add(msgspec.convert(described, LabSpec))
