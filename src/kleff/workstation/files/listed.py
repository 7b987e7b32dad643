"""A line that sets a name to a list: `Path=C:\\a;C:\\b` of a settings file, `PATH="/a:/b"` of an environment."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kleff.procedure.globs import fold

SETS = re.compile(
    r"""(?P<head>\s*(?:export\s+|set\s+)?(?P<name>[^=\s]+)\s*=\s*)(?P<quote>["']?)(?P<list>.*?)(?P<tail>(?P=quote)\s*)$""", re.DOTALL
)


@dataclass(frozen=True)
class Listed:
    """Such a line: what stands before its items, and behind."""

    name: str
    head: str
    items: list[str]
    tail: str
    between: str

    def written(self, items: list[str]) -> str:
        """The line with other items."""
        return self.head + self.between.join(items) + self.tail

    def sets(self, name: str) -> bool:
        """Whether it sets that name; letter case does not count."""
        return fold(self.name) == fold(name)


def listed(line: str, between: str) -> Listed | None:
    """What a line lists; None if it sets nothing.

    Args:
        between: what parts the items.
    """
    found = SETS.match(line)
    if found is None or not between or found["name"][0] in ";#":
        return None
    return Listed(found["name"], found["head"] + found["quote"], found["list"].split(between), found["tail"], between)
