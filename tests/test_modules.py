"""Kernel modules: seen where they are loaded, installed and asked for; only shown."""

from __future__ import annotations

from pathlib import Path

from memory import Bench
from support import Kleff, linux_tree, procedure, write

STEPS = "[[evidence]]\nmodule = 'tag-bridge'\n[[delete]]\npaths = ['/opt/brindlewort']\n[[verify]]\nmodule = 'tag-bridge'\n"


def test_where_they_are(folder: Path) -> None:
    """Under either spelling of its name, compressed or not, in memory too; another's of a longer name is not meant."""
    bench = Bench(folder, "linux")
    for path in (
        "6.1.0-9/updates/tag_bridge.ko.xz",
        "6.1.0-7/extra/tag-bridge.ko",
        "6.1.0-9/kernel/tag_bridge_hub.ko",
        "6.1.0-9/tag_bridge.o",
    ):
        bench.on.files.add(f"/usr/lib/modules/{path}", "x")
    bench.on.files.add("/proc/modules", "tag_bridge 16384 0 - Live 0x0\nloop 40960 0 - Live 0x0\n")
    bench.on.files.add("/etc/modules-load.d/bridge.conf", "# of the bridge\ntag-bridge\n")
    seen = [(s.what, s.where) for s in bench.job(STEPS).survey().evidence]
    assert sorted(seen) == [
        ("tag-bridge", "asked for at every start by /etc/modules-load.d/bridge.conf"),
        ("tag-bridge", "installed for the kernel 6.1.0-7"),
        ("tag_bridge", "installed for the kernel 6.1.0-9"),
        ("tag_bridge", "loaded until the workstation restarts"),
    ]


def test_only_shown(kleff: Kleff, tmp_path: Path) -> None:
    """No step removes one; while it is there the product is not gone."""
    top = linux_tree(tmp_path / "tree")
    file = write(top / "usr/lib/modules/6.1.0-9/updates/tag_bridge.ko", "x")
    write(top / "opt/brindlewort/x")
    steps = procedure(tmp_path / "p.toml", STEPS)
    assert "tag_bridge" in kleff("survey", steps, "--on", f"root:{top}").out
    left = kleff("run", steps, "--on", f"root:{top}", "--yes", code=4)
    assert "kernel module tag_bridge, installed for the kernel 6.1.0-9" in left.out
    assert file.exists()
    refused = kleff("check", procedure(tmp_path / "d.toml", "[[delete]]\nmodule = 'tag-bridge'\n"), code=2)
    assert "a [[delete]] step must name one of" in refused.out
    file.unlink()
    kleff("verify", steps, "--on", f"root:{top}")
