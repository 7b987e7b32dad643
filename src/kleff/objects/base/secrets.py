"""Secrets that commands need: asked for or from the environment, handed on, and kept out of everything that is written."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from dataclasses import dataclass, field

from kleff.errors import Refused

PREFIX = "KLEFF_SECRET_"


def variable_of(name: str) -> str:
    """The environment variable that gives a secret."""
    return PREFIX + re.sub(r"[^A-Z0-9]+", "_", name.upper()).strip("_")


@dataclass
class Secrets:
    """Secrets by the name the procedure gives them.

    Attributes:
        ask: asks a person without echo; None if nobody is there.
    """

    ask: Callable[[str], str] | None = None
    _known: dict[str, str] = field(default_factory=dict, repr=False)

    def give(self, name: str, value: str) -> None:
        """One that was given beforehand."""
        self._known[name] = value

    def get(self, name: str) -> str:
        """A secret.

        Raises:
            Refused: nobody gives it.
        """
        if name not in self._known:
            value = os.environ.get(variable_of(name), "")
            if not value and self.ask is not None:
                value = self.ask(name)
            if not value:
                raise Refused(
                    f"the secret is not given: {name}", remedy=f"set {variable_of(name)}, or use  --secret-fd '{name}=FD'  or a terminal"
                )
            self._known[name] = value
        return self._known[name]

    def known(self) -> tuple[str, ...]:
        """Every secret that was given so far: what must not be written."""
        return tuple(self._known.values())
