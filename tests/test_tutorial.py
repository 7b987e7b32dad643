"""The tutorial for Linux, every command run as it is printed, on a booted workstation with a real service of Debian."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from booted import Booted, boots, make_base
from support import write
from test_real_services import fetch

pytestmark = boots("booted services")
ENVIRONMENT = ("env", "COLUMNS=100", "PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
PAGE = Path(__file__).parent.parent / "docs/tutorial-linux.md"
BLOCK = re.compile(r"^```(sh|toml|text)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def test_every_command_of_the_tutorial(tmp_path: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    """In order; what stands below a command is in what it says, line by line, `...` for what is left out."""
    box = Booted(make_base(tmp_path_factory), tmp_path, prepare=lambda top: fetch(top, ["redis"]))
    try:
        write(box.top / "usr/local/bin/kleff", f'#!/bin/sh\nPYTHONPATH={box.path} exec python3 -m kleff "$@"\n', 0o755)
        write(box.top / "etc/apt/apt.conf.d/no-network", 'APT::Get::Download "false";\n')
        box.do("useradd", "-m", "-u", "1001", "mira", code=0)
        said, commands, told = "", 0, 0
        for kind, text in BLOCK.findall(PAGE.read_text("utf-8")):
            if kind == "toml":
                write(box.top / "root/redis.toml", text)
            elif kind == "sh":
                said = ""
                for command in text.splitlines():
                    said += box.do(*ENVIRONMENT, "sh", "-c", f"cd /root; {command}", code=0).stdout
                    commands += 1
            else:
                wanted = r"[\s\S]*?".join(re.escape(" ".join(part.split())) for part in re.split(r"\s*\.\.\.\s*", text.strip()))
                assert re.search(wanted, " ".join(said.split())), f"{text}\nis not in\n{said}"
                told += 1
        assert commands > 15
        assert told >= 5
    finally:
        box.stop()
