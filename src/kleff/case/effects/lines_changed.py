"""Lines were taken out of a file that others use too, or shortened; taken back, they stand where they stood, whatever else has changed."""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections.abc import Callable
from typing import Any, ClassVar

from msgspec import field

from kleff.case.aside.area import names_aside
from kleff.case.aside.rewriting import rewrite, settle, sha256_of
from kleff.case.effects.base import Effect, TakenBack, stays
from kleff.case.guard.guard import Target
from kleff.case.hands import Hands
from kleff.case.record.effect import Base64, Journaled, Sha256, Time
from kleff.errors import ActionFailed
from kleff.workstation.files.lines import Edit, apply, decode, encode, put_back, read_whole, same_encoding
from kleff.workstation.files.protocol import FileTree
from kleff.workstation.paths import WPath


class LinesChanged(Effect, kw_only=True, frozen=True, omit_defaults=True):
    """Lines of one file.

    Attributes:
        aside: where in the set-aside area the new content was made.
        before, after: of the whole file; times: its, and its folder's, as they were.
        back: the same of taking it back, once that was begun.
    """

    kind: ClassVar[str] = "lines changed"

    aside_: Base64 = field(name="aside")
    codec: str
    edits: list[Edit]
    before: Sha256
    after: Sha256
    times: tuple[Time, Time]
    parent_times: tuple[Time, Time]
    back: tuple[Sha256, Sha256] | None = None

    def areas(self, place: bytes, files: FileTree) -> list[WPath]:
        return [files.from_raw(b64decode(self.aside_)).parent]

    def happened(self, one: Journaled, hands: Hands) -> bool:
        files = hands.workstation.files
        place = files.from_raw(one.place)
        found = settle(hands, place, files.from_raw(b64decode(self.aside_)), self.before, self.after, self.parent_times)
        if found is not None or files.look(place) is None:
            return bool(found)
        try:  # somebody has changed the rest since
            _, lines = decode(read_whole(files, place, lambda look: names_aside(files, place)[look.identity])[1])
        except ActionFailed:
            return True  # it cannot be told; taking it back looks again, and says so
        return put_back(lines, self.edits)[0] != lines

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        files = hands.workstation.files
        place, aside = files.from_raw(one.place), files.from_raw(b64decode(self.aside_))
        if self.back is not None:
            settle(hands, place, aside, *self.back)
        if files.look(place) is None:
            return stays(f"{place} is not there any more; of it: {_told(self.edits)}")
        try:
            look, data = read_whole(files, place, lambda look: names_aside(files, place)[look.identity])
        except ActionFailed as error:
            return stays(error.what)
        codec, lines = decode(data)
        if not same_encoding(codec, self.codec):
            return stays(f"{place} is written in another encoding by now; of it: {_told(self.edits)}")
        edits, note = self.edits_now(place, hands)
        back, left = put_back(lines, edits)
        tried = self.back is not None and back == lines
        if back != lines:
            new = encode(codec, back)
            hands.amend(one, back=[sha256_of(data), sha256_of(new)])
            same = sha256_of(new) == self.before
            rewrite(hands, place, aside, look, sha256_of(data), new, self.times if same else None)
        if back != lines or tried:  # an earlier try may have been cut off right here
            with files.folder(place.parent) as folder:
                folder.set_times(self.parent_times)
        return stays("; ".join(left)) if left else TakenBack("undone", note)

    def edits_now(self, place: WPath, hands: Hands) -> tuple[list[Edit], str]:
        """What is taken back, as it fits now, and a note on that."""
        return self.edits, ""

    def again(self, one: Journaled) -> bool:
        return True

    def weight(self) -> int:
        return len(self.edits)


def _told(edits: list[Edit]) -> str:
    return "; ".join(edit.old.strip() for edit in edits[:5]) + ("; ..." if len(edits) > 5 else "")


class AccountLinesChanged(LinesChanged, kw_only=True, frozen=True, omit_defaults=True):
    """Lines of one of the files that know an account or a group.

    Attributes:
        primary: the name of the account's own group.
    """

    kind: ClassVar[str] = "account lines changed"

    name: str
    group: bool = False
    primary: str = ""

    def edits_now(self, place: WPath, hands: Hands) -> tuple[list[Edit], str]:
        records = hands.workstation.records
        return records.settled(place, self.edits, self.primary) if records else (self.edits, "")

    def undo(self, one: Journaled, hands: Hands) -> TakenBack:
        records = hands.workstation.records
        if records is None:
            return stays("this workstation keeps its accounts elsewhere")
        try:
            with records.locked():
                return LinesChanged.undo(self, one, hands)
        except OSError as error:
            return stays(f"the account files cannot be locked: {error.strerror}")


def change_lines(
    hands: Hands, action: int, target: Target, change: Callable[[list[str]], list[Edit]], effect: type[LinesChanged] = LinesChanged,
    **more: Any,
) -> int:  # fmt: skip
    """Take lines out of a file.

    Args:
        change: given the lines as they are now, what is done to them.
        effect: how it is journaled, with what it keeps `more` than the lines.

    Returns:
        How many lines.

    Raises:
        ActionFailed: it may not be touched, has changed in that instant, or the system says no.
    """
    verdict = hands.guard.check_lines(target)
    if not verdict.ok:
        raise ActionFailed(f"{target.path} may not be touched: {verdict.reason}", remedy="correct the procedure")
    return _change(hands, action, target.path, change, effect, **more)


def forget_account(hands: Hands, action: int, name: str, group: bool, primary: str, own_group: bool) -> int:
    """Take an account, or a group, out of all files that know it.

    Args:
        primary: the account's own group; own_group: it goes too.

    Returns:
        In how many lines it was.

    Raises:
        ActionFailed: it may not be touched, or the system says no.
    """
    kind, records = "group" if group else "account", hands.workstation.records
    verdict = hands.guard.check_name(kind, name)
    if not verdict.ok or records is None:
        raise ActionFailed(f"{kind} {name} may not be touched: {verdict.reason}", remedy="correct the procedure")
    more = {"name": name, "group": group, "primary": primary}
    with records.locked():
        parts = records.parts(name, group, own_group)
        return sum(_change(hands, action, place, change, AccountLinesChanged, **more) for place, change in parts)


def _change(
    hands: Hands, action: int, place: WPath, change: Callable[[list[str]], list[Edit]], kind: type[LinesChanged], **more: Any
) -> int:
    files = hands.workstation.files
    look, data = read_whole(files, place, lambda look: names_aside(files, place)[look.identity])
    codec, lines = decode(data)
    edits = change(lines)
    if not edits:
        return 0
    new = encode(codec, apply(lines, edits))
    aside = hands.area.folder_for(place).child(f"{hands.case.journal.next_effect():04d}-lines")
    with files.folder(place.parent) as folder:
        parent_times = folder.look().times
    effect = kind(
        aside_=b64encode(aside.raw).decode(), codec=codec, edits=edits, before=sha256_of(data), after=sha256_of(new),
        times=look.times, parent_times=parent_times, **more,
    )  # fmt: skip
    with hands.doing(action, effect, place.raw):
        rewrite(hands, place, aside, look, effect.before, new)
    return len(edits)
