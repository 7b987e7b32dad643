"""The terminal as a front end: what it draws, and how it asks before anything is done."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kleff.cli.terminal.asking import ask_question, confirm, new_passphrase, plain_lines, yes_or_no
from kleff.cli.terminal.clock import answered

if TYPE_CHECKING:
    from kleff.case.bag.encryption import BagKey
    from kleff.engine.job import Job, Preview
    from kleff.objects.base.action import Action
    from kleff.objects.base.holders import Holder
    from kleff.procedure.model import Ask
    from kleff.progress import Progress


@dataclass(frozen=True)
class Spoken:
    """How much is said, and whether anybody is asked. Implements `RestartFront`.

    Attributes:
        yes: everything is agreed beforehand.
        full: the long form of a plan; quiet: only what is not clean; json: data on standard output.
    """

    yes: bool = False
    full: bool = False
    quiet: bool = False
    json: bool = False

    def watching(self) -> AbstractContextManager[Progress]:
        from kleff.cli.terminal.progress import watching

        return watching(self.quiet, full=self.full)

    def begun(self, case: Path) -> None:
        """Where the case is."""
        if not self.quiet:
            self.tell(f"\nCase {case}")

    def tell(self, text: str) -> None:
        from kleff.cli.terminal.show import message

        message(text)

    def restart(self, question: str, remedy: str) -> None:
        confirm(question, self.yes, remedy)


@dataclass(frozen=True)
class Terminal:
    """Implements `Front`, on standard error; pages go to standard output."""

    job: Job
    spoken: Spoken

    @property
    def asks(self) -> bool:
        return sys.stdin.isatty() and not self.spoken.yes

    def draw(self, made: Preview) -> None:
        from kleff.cli.terminal.plans import plan_page
        from kleff.cli.terminal.show import show

        if not (self.spoken.json or (self.spoken.quiet and self.spoken.yes)):
            show(plan_page(made, self.spoken.full))

    def nothing(self, made: Preview) -> None:
        from kleff.cli.terminal.show import message, tell_verified
        from kleff.engine.verify import verify

        message("\nNothing is to be removed; no case was made.")
        tell_verified(self.job, verify(made.here), self.spoken.json)

    def answer(self, question: Ask) -> str:
        return ask_question(question)

    def along(self, offered: Sequence[Action]) -> bool:
        for action in offered:
            print(plain_lines(f"\n{action.offers}, and nothing needs it then:\n  {action.target}"), file=sys.stderr)
        return yes_or_no("Remove them too?")

    def holders(self, left: Sequence[Holder]) -> set[str]:
        print("\nStill open, and no step stops it:", file=sys.stderr)
        for place, holder in enumerate(left, 1):
            session = "" if holder.may_be_stopped else "  (the system's own; it is not ended)"
            print(plain_lines(f"  {place}  {holder.line}  holds {holder.path}{session}"), file=sys.stderr)
        free = [h for h in left if h.may_be_stopped]
        while free:
            question = "End which of them, before anything is removed? Places or names, with commas; Enter for none: "
            print(question, end="", file=sys.stderr, flush=True)
            words = {word.strip() for word in answered().split(",")} - {""}
            meant = {word: [h for n, h in enumerate(left, 1) if h in free and word.lower() in (str(n), h.name.lower())] for word in words}
            if all(meant.values()):
                return {str(h.number) for found in meant.values() for h in found}
            print(plain_lines(f"not one of them: {', '.join(sorted(w for w, found in meant.items() if not found))}"), file=sys.stderr)
        return set()

    def by_hand(self, action: Action, number: int, count: int, proof: bool, again: bool) -> bool:
        if not again:
            print(plain_lines(f"\nBy hand, {number} of {count}: {action.target}"), file=sys.stderr)
        while True:
            print("  press Enter when it is done, n to stop: " if proof else "  done? [y/n] ", end="", file=sys.stderr, flush=True)
            answer = answered()
            if not answer or answer.strip().lower() in ("n", "no"):
                return False
            if proof or answer.strip().lower() in ("y", "yes"):
                return True

    def looked(self, action: Action) -> None:
        print(plain_lines(f"  {action.reason}"), file=sys.stderr)

    def synced(self, found: Sequence[Action]) -> bool:
        for action in found:
            print(plain_lines(f"\n{action.target} is kept in step by {action.synced}"), file=sys.stderr)
        return yes_or_no("Delete these in the person's account there too?")

    def agree(self, made: Preview) -> None:
        job, workstation = self.job, self.job.workstation
        whose = f" for {', '.join(sorted(job.options.accounts))} alone" if job.options.accounts else ""
        name = job.procedure.product.name
        what = f"{name} will be removed{whose}." if made.removes else f"What {name} has will be saved{whose}; nothing is removed."
        question = f"\nDo this on {workstation.name} ({workstation.spec})? {what}"
        confirm(question, self.spoken.yes, "look at the preview, then run with  --yes --on " + workstation.spec)

    def key(self) -> BagKey:
        from kleff.case.bag.encryption import make_key

        return make_key(new_passphrase(self.job.secrets))

    def begun(self, case: Path) -> None:
        self.spoken.begun(case)

    def watching(self) -> AbstractContextManager[Progress]:
        return self.spoken.watching()
