"""An error, as a person reads it."""

from __future__ import annotations

import sys

from kleff.errors import KleffError


def tell(error: KleffError) -> None:
    """What happened and what to do, on standard error."""
    from kleff.cli.terminal.show import as_called
    from kleff.texts import plain

    lines = str(error).splitlines()
    said = ["  It said, at the end:", *(f"    {line}" for line in error.said)] if error.said else []
    print(as_called("\n".join(["kleff: " + plain(lines[0]), *(plain(line) for line in (*lines[1:], *said))])), file=sys.stderr)
