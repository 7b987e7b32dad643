"""What effects work with: the workstation, the case, the guard, and who watches."""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from kleff.case.aside.area import Area
from kleff.case.guard.guard import Guard
from kleff.case.record.effect import Base64, Journaled, Recorded, dump, load
from kleff.case.record.folder import Case
from kleff.errors import ActionFailed, Interrupted
from kleff.progress import Progress
from kleff.registry.registry import Registry
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath


@dataclass
class Hands:
    """Journals what is done to a workstation, and does it within a case."""

    workstation: Workstation
    case: Case
    guard: Guard
    progress: Progress
    area: Area = field(init=False)

    def __post_init__(self) -> None:
        self.area = Area(self.workstation.files, self.case.id, self.areas())

    @property
    def registry(self) -> Registry:
        if self.workstation.registry is None:
            raise ActionFailed("this workstation has no registry")
        return self.workstation.registry

    def areas(self) -> set[WPath]:
        """The set-aside areas this case has used."""
        files = self.workstation.files
        made = load(self.case.text("areas") or "[]", list[Base64])
        used = {area for one in self.case.journal.effects() for area in one.effect.areas(one.place, files)}
        return used | {files.from_raw(b64decode(area)) for area in made}

    def keep_areas(self, areas: Iterable[WPath]) -> None:
        """Journal areas that are about to be made before anything is to lie in them."""
        self.case.journal.set(areas=dump([b64encode(area.raw).decode() for area in areas]))

    def intend(self, action: int, effect: Recorded, place: bytes = b"") -> Journaled:
        """One effect's intent, on disk when this returns."""
        return self.case.journal.intend([(action, effect, place)])[0]

    @contextmanager
    def doing(self, action: int, effect: Recorded, place: bytes = b"") -> Iterator[Journaled]:
        """Intent on disk, the act within, and its confirmation; left with an error it stays an intent."""
        one = self.intend(action, effect, place)
        yield one
        self.done(one)

    def amend(self, one: Journaled, **fields: Any) -> Journaled:
        """Journal what has become known of an effect."""
        return self.case.journal.amend(one, **fields)

    def check_stop(self, what: str = "part of the case is taken back", way: str = "undo") -> None:
        """Let whoever asked to stop have it, between two effects.

        Args:
            what: how things stand then; way: the command that goes on.

        Raises:
            Interrupted: asked to stop.
        """
        if self.progress.should_stop():
            folder = self.case.folder
            raise Interrupted(f"stopped; {what}", where=str(folder), remedy=f"go on with  kleff {way} {folder}")

    def done(self, one: Journaled, note: str = "") -> None:
        self.case.journal.mark([one.id], "done", note)
