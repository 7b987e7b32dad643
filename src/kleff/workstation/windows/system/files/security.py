"""Who may change a thing, by its security descriptor ([MS-DTYP] 2.4.6, self-relative)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from struct import unpack_from

from kleff.workstation.files.protocol import RIGHTS

ATTRIBUTE = RIGHTS  # under which name copies and bags keep it
SYSTEM, ADMINISTRATORS, USERS = "S-1-5-18", "S-1-5-32-544", "S-1-5-32-545"
EVERYTHING, READING = 0x1F01FF, 0x1200A9  # FILE_ALL_ACCESS; FILE_GENERIC_READ and FILE_GENERIC_EXECUTE
INSTALLER = "S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464"  # the service that owns the system's own files
CREATOR = "S-1-3-0"  # whoever makes something there: of that, not of the folder
TRUSTED = frozenset({SYSTEM, ADMINISTRATORS, INSTALLER, CREATOR})
# Writing, appending, deleting what is in it, deleting, changing who may, changing whose it is, and all of it.
CHANGING = 0x2 | 0x4 | 0x40 | 0x10000 | 0x40000 | 0x80000 | 0x40000000 | 0x10000000
# The same without making something new in it: drive C and ProgramData let everybody do that, and replace nothing that is there.
REPLACING = 0x40 | 0x10000 | 0x40000 | 0x80000 | 0x10000000
ALLOWED, FOR_WHAT_IS_MADE_IN_IT = 0, 0x8  # ACCESS_ALLOWED_ACE_TYPE, INHERIT_ONLY_ACE
DACL_PRESENT = 0x4


def owner(security: bytes) -> str:
    """The owner's SID as text; "" if it is not told."""
    at = unpack_from("<I", security, 4)[0] if len(security) >= 20 else 0
    return sid_text(security[at:]) if at else ""


def only_admin(security: bytes, trusted: frozenset[str] = TRUSTED, rights: int = CHANGING) -> bool:
    """Whether nobody but the trusted can change it; where nothing is told of that, everybody can. Args: rights: what counts."""
    if owner(security) not in trusted:
        return False
    (control,), (at,) = unpack_from("<H", security, 2), unpack_from("<I", security, 16)
    if not control & DACL_PRESENT or not at:
        return False
    return all(sid in trusted or not mask & rights for mask, sid in _allowed(security[at:]))


def _allowed(acl: bytes) -> Iterator[tuple[int, str]]:
    """(what, to whom) of each entry that allows something for the thing itself."""
    (count,), at = unpack_from("<H", acl, 4), 8
    for _ in range(count):
        kind, flags, size, mask = unpack_from("<BBHI", acl, at)
        if kind == ALLOWED and not flags & FOR_WHAT_IS_MADE_IN_IT:
            yield mask, sid_text(acl[at + 8 :])
        at += size


def sid_text(sid: bytes) -> str:
    """[MS-DTYP] 2.4.2.1."""
    revision, count = sid[0], sid[1]
    authority = int.from_bytes(sid[2:8], "big")
    return "-".join(map(str, ("S", revision, authority, *unpack_from(f"<{count}I", sid, 8))))


def _sid(text: str) -> bytes:
    _, revision, authority, *rest = text.split("-")
    numbers = b"".join(int(n).to_bytes(4, "little") for n in rest)
    return bytes([int(revision), len(rest)]) + int(authority).to_bytes(6, "big") + numbers


def for_admins_alone() -> bytes:
    """A descriptor by which the system and administrators may do everything, and nobody else anything; nothing is inherited."""
    return _for(ADMINISTRATORS, {SYSTEM: EVERYTHING, ADMINISTRATORS: EVERYTHING})


def for_everybody_to_read() -> bytes:
    """As what lies in the folders for programs: administrators may change it, everybody may read and run it."""
    return _for(ADMINISTRATORS, {SYSTEM: EVERYTHING, ADMINISTRATORS: EVERYTHING, USERS: READING})


def for_account_alone(account: str) -> bytes:
    """The same for an account that is no administrator. Args: account: its SID."""
    return _for(account, {account: EVERYTHING, SYSTEM: EVERYTHING, ADMINISTRATORS: EVERYTHING})


def _for(whose: str, allowed: Mapping[str, int]) -> bytes:
    inherited_by_all, protected, self_relative = 0x3, 0x1000, 0x8000
    entries = b""
    for text, rights in allowed.items():
        sid = _sid(text)
        entries += bytes([ALLOWED, inherited_by_all]) + (8 + len(sid)).to_bytes(2, "little") + rights.to_bytes(4, "little") + sid
    acl = bytes([2, 0]) + (8 + len(entries)).to_bytes(2, "little") + len(allowed).to_bytes(2, "little") + b"\0\0" + entries
    owner, control = _sid(whose), self_relative | protected | DACL_PRESENT
    places = (20, 20 + len(owner), 0, 20 + 2 * len(owner))  # owner, group, audit list, access list
    head = bytes([1, 0]) + control.to_bytes(2, "little") + b"".join(place.to_bytes(4, "little") for place in places)
    return head + owner + owner + acl
