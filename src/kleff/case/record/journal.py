"""The journal of a case: plan, effects and bag items in one SQLite file that survives a kill at any instant."""

from __future__ import annotations

import contextlib
import hashlib
import sqlite3
from base64 import b64decode
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from kleff.case.record import reserve
from kleff.case.record.effect import STATES, Foreign, Journaled, Recorded, dump, kind_of, load
from kleff.errors import CannotRead, DamagedCase, KleffError, NeverBegun, NewerCase, Stopped, cannot_read, remedy_for
from kleff.texts import now

FORMAT = 2  # of new journals; in format 1 names are kept as they are shown, here as they are
READABLE = (1, 2)
SCHEMA = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE actions (
    id INTEGER PRIMARY KEY, plan TEXT NOT NULL, state TEXT NOT NULL, note TEXT NOT NULL DEFAULT '',
    items INTEGER NOT NULL DEFAULT 0, size INTEGER NOT NULL DEFAULT 0, ended TEXT NOT NULL DEFAULT '');
CREATE TABLE effects (
    id INTEGER PRIMARY KEY, action INTEGER NOT NULL, kind TEXT NOT NULL, place BLOB NOT NULL, data TEXT NOT NULL,
    state TEXT NOT NULL, note TEXT NOT NULL DEFAULT '', at TEXT NOT NULL);
CREATE TABLE bag (name TEXT PRIMARY KEY, action INTEGER NOT NULL, sha256 TEXT NOT NULL, size INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE events (id INTEGER PRIMARY KEY, at TEXT NOT NULL, text TEXT NOT NULL);
"""

# https://sqlite.org/rescode.html
_REMEDIES = {
    "SQLITE_FULL": "make room on its volume",
    "SQLITE_READONLY": "make its volume and its folder writable",
    "SQLITE_IOERR": "check its volume",
    "SQLITE_BUSY": "end the other Kleff that has it open",
    "SQLITE_CANTOPEN": "make its volume and its folder writable, and make room there",
}
DAMAGED = ("SQLITE_CORRUPT", "SQLITE_NOTADB", "SQLITE_ERROR", "SQLITE_FORMAT", "SQLITE_SCHEMA", "SQLITE_MISMATCH")


def _remedy(error: Exception, then: str) -> str:
    return f"{_REMEDIES.get(_code(error), 'look at its volume')}; then {then}"


def _code(error: BaseException) -> str:
    """The primary result code, as `SQLITE_IOERR` for all of its kind."""
    return "_".join(str(getattr(error, "sqlite_errorname", "")).split("_")[:2])


class Journal:
    """The journal file of a case.

    While it is open every commit reaches the disk before the call returns (write-ahead log, synchronous=FULL);
    `close` leaves one file and nothing beside it.
    """

    def __init__(self, file: Path, create: bool = False, writable: bool = True) -> None:
        self.file = file
        self._writable = writable
        self._plan_checked = False
        try:
            if create:
                file.touch(0o600, exist_ok=False)
            elif not file.exists():
                raise DamagedCase("the journal is missing", where=str(file), remedy="name a whole case folder")
            if writable and not create:
                reserve.low(file.parent)  # on a full volume not even its log could be begun
            self._db = sqlite3.connect(file, isolation_level=None, timeout=10)
            try:
                self._open(create)
            except BaseException:
                self._db.close()
                raise
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._unreadable(error) from None
        except OSError as error:
            raise cannot_read(error, str(file)) from None

    def _unreadable(self, error: Exception) -> KleffError:
        """A disk that does not read is no damaged journal: another try, or another disk, may show it whole."""
        code = _code(error)
        if code and code not in DAMAGED:
            return CannotRead(f"the journal cannot be read: {error}", where=str(self.file), remedy=_remedy(error, "try again"))
        return self._damaged(error)

    def _damaged(self, why: object) -> DamagedCase:
        return DamagedCase(f"the journal cannot be read: {why}", where=str(self.file), remedy="restore the case folder from a copy")

    def _open(self, create: bool) -> None:
        if self._writable:
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.execute("PRAGMA synchronous=FULL")
        if create:
            self._db.executescript(f"BEGIN;{SCHEMA}PRAGMA user_version={FORMAT};COMMIT;")
        else:
            found = self._db.execute("PRAGMA quick_check(1)").fetchone()[0]
            if found != "ok":
                raise self._damaged(found)
        if self._db.execute("SELECT count(*) FROM sqlite_master").fetchone()[0] == 0:
            raise NeverBegun(where=str(self.file.parent))
        version = self._db.execute("PRAGMA user_version").fetchone()[0]
        if version > FORMAT:
            raise NewerCase(f"the journal has format {version}; this Kleff knows {FORMAT}", where=str(self.file))
        self.format = int(version)
        if version not in READABLE or self._db.execute("SELECT count(*) FROM sqlite_master WHERE name='effects'").fetchone()[0] != 1:
            raise DamagedCase("the journal is incomplete", where=str(self.file), remedy="restore the case folder from a copy")

    def close(self) -> None:
        if self._writable:
            with contextlib.suppress(sqlite3.Error):  # no room, or no disk, to tidy up; the log beside it is read next time
                self._db.execute("PRAGMA journal_mode=DELETE")
        self._db.close()

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """One commit: all of it is on disk afterwards, or none."""
        try:
            if reserve.low(self.file.parent):
                self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")  # the log shall not grow
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield self._db
            except BaseException:
                with contextlib.suppress(sqlite3.Error):  # whatever stopped it has rolled it back already
                    self._db.execute("ROLLBACK")
                raise
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            raise Stopped(f"the case cannot be written: {error}", where=str(self.file), remedy=_remedy(error, "resume")) from None
        except OSError as error:
            what = f"the case cannot be written: {error.strerror or error}"
            raise Stopped(what, where=str(self.file), remedy=remedy_for(error)) from None

    def _rows(self, query: str, *values: object, types: tuple[type, ...] = ()) -> list[Any]:
        """What a query finds.

        Raises:
            DamagedCase: it cannot be read, or is of other types than were written.
        """
        try:
            found = self._db.execute(query, values).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._unreadable(error) from None
        if types and any(not isinstance(cell, kind) for row in found for cell, kind in zip(row, types, strict=True)):
            raise self._damaged("it holds a value of a wrong type")
        return found

    # -- meta and events --------------------------------------------------------------------------------------

    def get(self, key: str) -> Any:
        rows = self._rows("SELECT value FROM meta WHERE key=?", key)
        return rows[0][0] if rows else None

    def set(self, **values: str | bytes) -> None:
        with self.write() as db:
            db.executemany("INSERT INTO meta VALUES (?,?) ON CONFLICT(key) DO UPDATE SET value=excluded.value", values.items())

    def tell(self, text: str) -> None:
        """Keep a line for the report."""
        with self.write() as db:
            db.execute("INSERT INTO events (at, text) VALUES (?,?)", (now(), _told(text)))

    def events(self) -> list[tuple[str, str]]:
        return self._rows("SELECT at, text FROM events ORDER BY id", types=(str, str))

    # -- actions ----------------------------------------------------------------------------------------------

    def add_actions(self, plans: Iterable[tuple[int, str, str]], **noted: str) -> None:
        """The agreed plan, with its SHA-256: what is done later is what was agreed; and what else is noted at that moment."""
        found = list(plans)
        with self.write() as db:
            db.executemany("INSERT INTO actions (id, plan, state) VALUES (?,?,?)", found)
            db.execute("INSERT INTO meta VALUES ('plan', ?)", (_plan_hash((i, p) for i, p, _ in found),))
            db.executemany("INSERT INTO meta VALUES (?,?)", noted.items())

    def actions(self) -> list[tuple[int, str, str, str, int, int]]:
        """(id, plan, state, note, items, size) in order."""
        rows = self._rows("SELECT id, plan, state, note, items, size FROM actions ORDER BY id", types=(int, str, str, str, int, int))
        if rows and not self._plan_checked:
            if self.get("plan") != _plan_hash((row[0], row[1]) for row in rows):
                raise self._damaged("the plan has changed since it was agreed")
            self._plan_checked = True
        return rows

    def end_action(self, action: int, state: str, note: str = "", items: int = 0, size: int = 0) -> None:
        self.end_actions([(action, state, note, items, size)])

    def end_actions(self, ended: list[tuple[int, str, str, int, int]]) -> None:
        """(action, state, note, items, bytes) of several, in one flush."""
        with self.write() as db:
            db.executemany(
                "UPDATE actions SET state=?, note=?, items=items+?, size=size+?, ended=? WHERE id=?",
                [(state, _told(note), items, size, now(), action) for action, state, note, items, size in ended],
            )

    def paths_of(self, number: int) -> list[bytes]:
        """The paths that an action of the plan is about, as raw bytes."""
        found = next((plan for n, plan, *_ in self.actions() if n == number), None)
        about = msgspec.json.decode(found).get("about", []) if found else []
        return [b64decode(one["path"]) for one in about if one.get("is") == "path"]

    # -- effects ----------------------------------------------------------------------------------------------

    def next_effect(self) -> int:
        return int(self._rows("SELECT coalesce(max(id),0)+1 FROM effects", types=(int,))[0][0])

    def intend(self, effects: Sequence[tuple[int, Recorded, bytes]]) -> list[Journaled]:
        """(action, effect, place) of intents between which no order is needed, in one flush."""
        first = self.next_effect()
        intents = [Journaled(first + n, action, effect, place, at=now()) for n, (action, effect, place) in enumerate(effects)]
        with self.write() as db:
            db.executemany(
                "INSERT INTO effects VALUES (?,?,?,?,?,?,?,?)",
                [(i.id, i.action, i.kind, i.place, dump(i.effect), i.state, i.note, i.at) for i in intents],
            )
        return intents

    def mark(self, ids: Iterable[int], state: str, note: str | None = None) -> None:
        note = None if note is None else _told(note)
        with self.write() as db:
            db.executemany("UPDATE effects SET state=?, note=coalesce(?,note) WHERE id=?", [(state, note, i) for i in ids])

    def amend(self, one: Journaled, **fields: Any) -> Journaled:
        """Add what has become known of an effect."""
        changed = one.changed(**fields)
        with self.write() as db:
            db.execute("UPDATE effects SET data=? WHERE id=?", (dump(changed.effect), one.id))
        return changed

    def effects(self, action: int | None = None) -> list[Journaled]:
        return self._effects("") if action is None else self._effects("WHERE action=?", action)

    def _effects(self, condition: str, *values: int) -> list[Journaled]:
        query = f"SELECT id, action, kind, place, data, state, note, at FROM effects {condition} ORDER BY id"
        rows = self._rows(query, *values, types=(int, int, str, bytes, str, str, str, str))
        return [self._journaled(*row) for row in rows]

    def _journaled(self, number: int, action: int, kind: str, place: bytes, text: str, state: str, note: str, at: str) -> Journaled:
        struct = kind_of(kind)
        if state not in STATES:
            raise self._damaged("an effect in a state that does not exist")
        if struct is None:
            return Journaled(number, action, Foreign(name=kind, data=text), place, state, note, at)
        try:
            return Journaled(number, action, load(text, struct), place, state, note, at)
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            raise self._damaged(f"an effect ({kind}) that is damaged: {error}") from None

    # -- bag --------------------------------------------------------------------------------------------------

    def add_bag_items(self, items: list[tuple[str, int, str, int]]) -> None:
        """(name below the bag, action, SHA-256, bytes) of files that are on disk and read back."""
        with self.write() as db:
            db.executemany("INSERT INTO bag VALUES (?,?,?,?)", items)

    def bag_items(self) -> list[tuple[str, int, str, int]]:
        """(name below the bag, action, SHA-256, bytes)."""
        return self._rows("SELECT name, action, sha256, size FROM bag ORDER BY name", types=(str, int, str, int))


def _told(text: str) -> str:
    """A text for people as the file can hold it; what it is about stands elsewhere, exactly."""
    return text.encode("utf-8", "backslashreplace").decode()


def _plan_hash(plans: Iterable[tuple[int, str]]) -> str:
    sha256 = hashlib.sha256()
    for number, plan in plans:
        sha256.update(f"{number}\0{plan}\0".encode())
    return sha256.hexdigest()
