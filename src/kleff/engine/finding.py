"""What a verification found: the one verdict for the end of a run and for a later look."""

from __future__ import annotations

import msgspec

from kleff.workstation.identity import Identity

LEFT, STAYS, NOT_READ, NOT_KNOWN, NOT_DONE = "left", "kept", "unreadable", "unknown", "failed"


class Finding(msgspec.Struct, kw_only=True):
    """One thing that speaks for the product.

    Attributes:
        state: `left`; `kept` (on purpose); `unreadable` (could not be looked at), `unknown` (there is nothing where one could look): not
            proven gone; `failed`: the case should have done it and has not.
        target: for people; about: what exactly.
    """

    state: str
    kind: str
    target: str
    about: list[Identity] = []
    reason: str = ""
    line: int = 0
    phase: str = ""
    account: str = ""


class Verification(msgspec.Struct, kw_only=True):
    """The verdict: clean if nothing is left, everything could be looked at, and nothing was left undone.

    Attributes:
        shows: evidence that is kept on purpose: clean, but not gone.
        saved: the procedure only saves, so that nothing was to go.
        looked: how many places were looked at.
        not_known: what cannot be known without the case; case: the one that told what the procedure does not.
        accounts: those it is said of, if not of all; left_out: how many others were not looked at.
    """

    clean: bool
    looked: int
    findings: list[Finding]
    not_known: list[str] = []
    shows: bool = False
    saved: bool = False
    case: str = ""
    accounts: list[str] = []
    left_out: int = 0

    @property
    def whose(self) -> str:
        """For whom it is said: "" for all, or with a space before."""
        return f" for {', '.join(self.accounts)}" if self.accounts else ""

    @property
    def gone(self) -> bool:
        """Whether nothing shows the product any more."""
        return self.clean and not self.shows and not self.saved

    @property
    def open(self) -> list[Finding]:
        """Everything that keeps it from being clean."""
        return [f for f in self.findings if f.state != STAYS]

    def of(self, state: str) -> list[Finding]:
        return [f for f in self.findings if f.state == state]
