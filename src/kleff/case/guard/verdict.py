"""What the guard says of a place, a key or a name."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Verdict:
    """`ok`, `kept` or `refused`, and why; `remedy` where another procedure would not help.

    Attributes:
        unseen: nothing speaks against it but that it could not be looked at.
    """

    word: str
    reason: str = ""
    remedy: str = ""
    unseen: bool = False

    @property
    def ok(self) -> bool:
        return self.word == "ok"


OK = Verdict("ok")
