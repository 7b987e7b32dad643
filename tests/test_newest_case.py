"""Verify by a procedure: what the newest case of that very product tells, on that workstation, as long as it was not taken back."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from support import IS_ROOT, Kleff, linux_tree, write

ASK = """
[[ask]]
id = "beds"
type = "yes-no"
question = "Do the beds stay?"
default = false
[[delete]]
paths = ["/opt/hoe"]
[[delete]]
paths = ["/var/lib/hoe/beds"]
unless = "beds"
"""
pytestmark = pytest.mark.skipif(not IS_ROOT, reason="needs root: another tree")


def named(path: Path, product: str) -> Path:
    return write(path, f'format = 1\n[product]\nid = "{product}"\nname = "Hoe"\n[[evidence]]\npath = "/opt/hoe"\n{ASK}')


def test_of_that_product_alone(kleff: Kleff, tmp_path: Path) -> None:
    """An id that holds the other is another product; what is answered now wins; what was taken back tells nothing."""
    top, own, other = linux_tree(tmp_path / "tree"), named(tmp_path / "own.toml", "hoe"), named(tmp_path / "other.toml", "my-hoe-pro")
    on = ["--on", f"root:{top}"]
    write(top / "opt/hoe/x")
    write(top / "var/lib/hoe/beds/y")
    kleff("run", other, *on, "--yes", "--answer", "beds=yes")
    assert "no step" not in kleff("verify", other, *on).out
    told = kleff("verify", own, *on, code=4).out
    assert "from the case" not in told
    assert "/var/lib/hoe/beds" in told
    kept = kleff("verify", other, *on).out
    assert f"from the case {kleff.case().name}" in kept
    assert "from the case" in kleff("verify", other, *on, "--answer", "beds=no", code=4).out
    wrong = kleff("verify", other, *on, "--answer", "rows=4", code=2)
    assert "nothing is asked with the id" in wrong.err
    damaged = write(tmp_path / "cases/2026-12-02-my-hoe-pro-7/case.db", "no case").parent
    told = kleff("verify", other, *on).out
    assert f"what the case {damaged.name} knows is not known" in told
    assert "from the case" in told
    shutil.rmtree(damaged)
    kleff("undo", kleff.case(), "--yes")
    assert "from the case" not in kleff("verify", other, *on, code=4).out
