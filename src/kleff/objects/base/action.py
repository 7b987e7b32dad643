"""Actions, sightings and outcomes: what steps come to on one workstation."""

from typing import Any, TypeVar

import msgspec

from kleff.errors import DamagedCase
from kleff.procedure.globs import PathStyle
from kleff.registry.registry import KeyRef, unpack_key
from kleff.workstation.identity import Identity, KeyId, PathId, exact_base64, key_id
from kleff.workstation.paths import WPath, from_raw

TO_DO, ABSENT, UNREADABLE, KEPT, REFUSED, MANUAL = "to do", "absent", "unreadable", "kept", "refused", "manual"
UNKNOWN = "unknown"  # there is nothing where one could look: never the same as absent
DONE, FAILED, SKIPPED, WAITING, UNDONE = "done", "failed", "skipped", "waiting for restart", "undone"
NOT_EMPTY = "not empty; goes if it is empty by then"
NOTHING_TO_UNDO = "nothing to take back"
T = TypeVar("T")


def for_vendor(owed: str, why: str) -> str:
    """The note on what should have been given back to the vendor, and was not."""
    return f"tell the vendor: {owed} was not released ({why})"


class Inside(msgspec.Struct, kw_only=True, frozen=True):
    """Something that stays within what an action removes, and why."""

    what: Identity
    reason: str


class Action(msgspec.Struct, kw_only=True):
    """One step made concrete on one workstation. Texts are for people and not yet escaped.

    Attributes:
        number: its place in the plan, from 1; 0 while planning.
        kind: the object key of the step, which says who does it.
        verb: what is done, one or two words; target: to what.
        about: what exactly; mostly one thing.
        written: the text of the step that led to it, its variables put in, where it is not the target itself.
        state: `to do` ... `manual`; `reason` says why where it is not `to do`.
        state_word: how that state is called where the usual word does not fit.
        nowhere: it is absent since such a workstation cannot have it: no place was looked at.
        later: not now, but looked at again when its turn comes.
        because: why it is in the plan.
        version, component: of what is registered or installed, where the action is about that.
        saves: what kind of data a step saves, as the procedure says.
        undo: how it can be taken back; `without_return` if it cannot.
        not_clean: it is kept, but what the step says is not done.
        ends: it ends programs, which undo does not start again.
        attended: a person has to be there and answer it.
        synced: who keeps it in step with an account elsewhere.
        details: what its kind needs to do it, a struct of that kind's own.
        stays: what stays within it.
        offers: what could go too, if somebody says so; later_by: the command that does it later.
        owed: what is given back to the vendor by it; who goes past it has to tell them.
        standing: which of `shows` tell of what is there, otherwise, and stays.
        brief: what a person must have read before she agrees, in a line; shows: further lines for the preview.
        remedy: what to do about a refusal that no other procedure would mend.
        exact, inside: as plans of the first format hold the path it is about, and what stays within it; their details hold keys.
    """

    number: int = 0
    phase: str
    step: int
    line: int
    kind: str
    label: str = ""
    verb: str
    target: str
    about: list[Identity] = []
    written: str = ""
    account: str = ""
    version: str = ""
    component: str = ""
    state: str = TO_DO
    state_word: str = ""
    reason: str = ""
    nowhere: bool = False
    later: bool = False
    because: str = ""
    saves: str = ""
    undo: str = NOTHING_TO_UNDO
    without_return: bool = msgspec.field(default=False, name="final")
    items: int = 0
    size: int = 0
    optional: bool = False
    after_restart: bool = False
    not_clean: bool = False
    ends: bool = False
    attended: bool = False
    synced: str = ""
    offers: str = ""
    later_by: str = ""
    owed: str = ""
    standing: list[int] = []
    details: dict[str, Any] = {}
    stays: list[Inside] = []
    shows: list[str] = []
    brief: str = ""
    remedy: str = ""
    exact: bytes = b""
    inside: list[str] = []

    def __post_init__(self) -> None:
        if self.exact and not self.about:
            self.about = [PathId(self.exact)]
        self.exact = b""
        if not self.about and {"hive", "path", "view"} <= set(self.details):
            self.about = [key_id(unpack_key(self.details), self.details.get("name"))]
        self.later = self.later or bool(self.details.get("again"))

    @property
    def meant(self) -> str:
        """What its step means, its variables put in: all there is to know an absent thing by."""
        return self.written or self.target

    def path(self, style: PathStyle) -> WPath | None:
        """The path it is about; None if it is about none."""
        return next((from_raw(style, i.path) for i in self.about if isinstance(i, PathId)), None)

    def key(self) -> tuple[KeyRef, str | None]:
        """The key it is about, and the value of it, if it is about one.

        Raises:
            DamagedCase: it is about none.
        """
        found = next((i for i in self.about if isinstance(i, KeyId)), None)
        if found is None:
            raise DamagedCase(f"action {self.number} names no key", remedy="restore the case folder from a copy")
        return found.key, found.value

    def exact_path(self, style: PathStyle) -> str:
        """The same in the workstation's own bytes, base64; or ""."""
        return next((text for i in self.about if (text := exact_base64(i, style))), "")

    def judged(self, word: str, reason: str, remedy: str = "") -> None:
        """What the guard says against it."""
        self.state, self.reason, self.remedy = word, reason, remedy

    def stands(self, line: str) -> None:
        """A further line, of what is there, otherwise, and stays."""
        self.standing.append(len(self.shows))
        self.shows.append(line)

    def keep(self, reason: str) -> None:
        """It is not done, and why."""
        self.state, self.reason, self.without_return, self.later, self.stays = KEPT, reason, False, False, []
        self.not_clean = False

    def set_details(self, details: msgspec.Struct) -> None:
        """What its kind needs to do it."""
        self.details = msgspec.to_builtins(details)

    def details_as(self, details: type[T]) -> T:
        """The same, read back.

        Raises:
            DamagedCase: it is something else.
        """
        try:
            return msgspec.convert(self.details, details)
        except msgspec.ValidationError as error:
            raise DamagedCase(f"action {self.number} cannot be read: {error}", remedy="restore the case folder from a copy") from None


class Sighting(msgspec.Struct, kw_only=True):
    """A piece of evidence that was found (or could not be looked at).

    Attributes:
        what: for people; about: what exactly, if it was found; facts: what else a person should know of it, in a line.
        running: of what can run, whether it does.
        component: it can be chosen from among the product's components.
    """

    kind: str
    what: str
    about: Identity | None = None
    version: str = ""
    where: str = ""
    facts: str = ""
    account: str = ""
    line: int = 0
    in_range: bool = True
    unreadable: bool = False
    running: bool | None = None
    component: bool = False


class Outcome(msgspec.Struct, kw_only=True):
    """What doing an action came to."""

    state: str = DONE
    note: str = ""
    items: int = 0
    size: int = 0
    restart: bool = False
