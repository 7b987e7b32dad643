"""How long a program is waited for, and what is said meanwhile."""

import time
from dataclasses import dataclass, field

from kleff.texts import seconds, size
from kleff.workstation.things import Life

LONGEST = 5.0  # seconds that count between two looks: a machine that slept, or a clock that jumped, uses nothing up
EVERY = 1.0  # seconds between two words about it


@dataclass
class Patience:
    """Counts the time in which a program could work.

    Attributes:
        allowed: seconds; used: of them.
    """

    allowed: float
    used: float = 0.0
    worked: float = 0.0
    _looked: float = field(default_factory=time.monotonic)
    _told: float = -EVERY
    _life: Life = field(default_factory=Life)
    _moved: float = 0.0

    def look(self, now: float | None = None) -> None:
        """Count what has gone by since the last look. Args: now: by the monotonic clock."""
        now = time.monotonic() if now is None else now
        gone = min(max(now - self._looked, 0.0), LONGEST)
        self.used, self.worked, self._looked = self.used + gone, self.worked + gone, now

    @property
    def over(self) -> bool:
        return self.used >= self.allowed

    def again(self) -> None:
        """As long once more."""
        self.used = 0.0

    def due(self) -> bool:
        """Whether something is to be said."""
        if self.worked - self._told < EVERY:
            return False
        self._told = self.worked
        return True

    def told(self, what: str, life: Life) -> str:
        """How it is doing, in a line."""
        if life != self._life:
            self._life, self._moved = life, self.worked
        signs = [f"processor {seconds(life.cpu)}"] if life.cpu else []
        signs += [f"{size(life.written)} written"] if life.written else []
        signs += [f"{life.programs} programs"] if life.programs > 1 else []
        signs += [f"window “{life.titles[0]}”"] if life.titles else []
        quiet = self.worked - self._moved
        signs += [f"no sign of life for {seconds(quiet)}"] if quiet >= 10 else []
        left = max(self.allowed - self.used, 0.0)
        return f"{what}: at work for {clock(self.worked)}, patience for {clock(left)} more" + "".join(f", {sign}" for sign in signs)


def clock(span: float) -> str:
    """Minutes and seconds, or hours too: `0:12`, `1:02:00`."""
    whole = int(span)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02}:{rest % 60:02}" if hours else f"{rest // 60}:{rest % 60:02}"
