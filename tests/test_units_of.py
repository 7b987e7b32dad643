"""What belongs to units and no package owns: found in every place where a service manager keeps it, and back by undo."""

from __future__ import annotations

from pathlib import Path

import pytest

from kleff.errors import Refused
from memory import Bench, each_kill

STEP = "[[stop]]\nservice = 'hoed'\n[[delete]]\nunits_of = 'hoed'\n[[delete]]\nunits_of = 'hoe-water'\n"
OWN = (
    "/etc/systemd/system/hoed.service", "/etc/systemd/system/hoed.service.d/override.conf", "/etc/systemd/system/hoed.timer",
    "/etc/systemd/system/multi-user.target.wants/hoed.service", "/etc/systemd/system/sockets.target.requires/hoed.socket",
    "/var/lib/systemd/timers/stamp-hoed.timer", "/var/lib/systemd/deb-systemd-helper-enabled/hoed.service.dsh-also",
    "/var/lib/systemd/deb-systemd-helper-enabled/multi-user.target.wants/hoed.service",
    "/var/lib/systemd/deb-systemd-helper-masked/hoed.service", "/home/mira/.config/systemd/user/hoed.service",
    "/home/tomas/.config/systemd/user/default.target.wants/hoed.service", "/etc/systemd/system/getty.target.wants/hoe-water@bed1.service",
)  # fmt: skip
OTHERS = (
    "/etc/systemd/system/hoed-neighbour.service", "/etc/systemd/system/multi-user.target.wants/rake.service",
    "/etc/systemd/system/hoed.notes", "/etc/systemd/system/hoe-water-other.service",
)  # fmt: skip


def shed(folder: Path) -> Bench:
    bench = Bench(folder, "linux")
    for text in (*OWN, *OTHERS):
        bench.on.files.add(text, text, uid=1001 if "mira" in text else 1002 if "tomas" in text else 0)
    bench.on.services.add("hoed")
    return bench


def there(bench: Bench) -> set[str]:
    return {text for text in (*OWN, *OTHERS) if bench.on.files.look(bench.on.files.path(text)) is not None}


def test_all_of_it_and_nothing_else(folder: Path) -> None:
    bench = shed(folder)
    before = bench.files
    job, ended = bench.run(STEP)
    assert ended.clean
    assert there(bench) == set(OTHERS)
    assert job.undo().stays == []
    assert bench.files == before


def test_killed_anywhere(folder: Path) -> None:
    for bench, job, before in each_kill(folder, shed, STEP):
        assert job.undo().stays == []
        assert bench.files == before


def test_what_a_package_owns_stays(folder: Path) -> None:
    bench = shed(folder)
    bench.on.packages.add("rake", "1", ["/etc/systemd/system/hoed.timer.rake"])
    bench.on.packages.known["rake"] = (bench.on.packages.known["rake"][0], ["/etc/systemd/system/hoed.timer"])
    _, ended = bench.run(STEP)
    assert "/etc/systemd/system/hoed.timer" in there(bench)
    assert len(there(bench)) == len(OTHERS) + 1
    assert ended is not None


@pytest.mark.parametrize("name", ["*", "sshd", "systemd-*", "hoe*"])
def test_too_wide(folder: Path, name: str) -> None:
    with pytest.raises(Refused):
        shed(folder).run(f"[[delete]]\nunits_of = '{name}'\n")
