"""Which installer builder made an uninstaller, told from its file, where that gives its quiet arguments."""

import tomllib
from functools import cache
from importlib.resources import files

from msgspec import Struct, convert

from kleff.objects.base.here import Here
from kleff.workstation.things import Entry

READ = 4 << 20  # bytes of an uninstaller that are read


class Family(Struct, frozen=True):
    """Args: mark: stands in its uninstallers, in 8 or 16 bits; quiet: the arguments."""

    name: str
    mark: str
    quiet: list[str]


@cache
def families() -> list[Family]:
    """The known ones (families.toml)."""
    text = (files("kleff.objects.entries") / "families.toml").read_text("utf-8")
    return convert(tomllib.loads(text)["family"], list[Family])


def family_of(entry: Entry, here: Here) -> Family | None:
    """The family of a registered uninstaller; None if its file does not tell, or is not there."""
    path = here.workstation.files.path(entry.program.program) if entry.program else None
    try:
        data = here.workstation.files.read(path, READ) if path is not None and here.workstation.files.look(path) else b""
    except OSError:
        return None
    return next((f for f in families() if f.mark.encode() in data or f.mark.encode("utf-16-le") in data), None)
