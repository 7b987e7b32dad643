"""What a bag says of each thing it holds: one index, `data/STEM.index.json`, for each action that saved something."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

FORMAT = 2  # of a bag's indexes; goes up when a field changes its meaning

Base64 = Annotated[str, Meta(pattern=r"^(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$")]
Object = Annotated[str, Meta(pattern=r"^[a-z_]{1,40}$")]  # the key by which a step names its kind


class Member(msgspec.Struct, kw_only=True, omit_defaults=True):
    """One saved file, folder or link.

    Attributes:
        member: its name in the archive; "" for what cannot be packed (sockets, devices), which is only listed.
        path: where it was, for people; path_b64: the exact bytes.
        relative_b64: its names below the item's base, each after a NUL.
        mtime: in ns.
        sparse: it had holes.
        link: where a link leads, exact bytes in base64; the first name of a hard link, as a member.
        attributes: extended attributes, base64.
    """

    member: str
    path: str
    path_b64: Base64
    type: Literal["folder", "file", "link", "hard link", "special"]
    relative_b64: Base64 = ""
    mode: Annotated[int, Meta(ge=0, le=0o7777)] = 0
    uid: Annotated[int, Meta(ge=0, lt=1 << 32)] = 0
    gid: Annotated[int, Meta(ge=0, lt=1 << 32)] = 0
    owner: str = ""
    mtime: int = 0  # as wide as file systems are: some hold times after 2116
    size: Annotated[int, Meta(ge=0, lt=1 << 62)] = 0
    sparse: bool = False
    sha256: str = ""
    link: str = ""
    attributes: dict[str, Base64] = {}


class SavedItem(msgspec.Struct, kw_only=True, omit_defaults=True):
    """What one action saved.

    Attributes:
        object: the kind of object, as the key of its step; label, kind: as the step says.
        account, account_id: whose it is; name, and uid or SID.
        variable, base_b64: the variable the step hung it on and what that stood for; `volume` where it hung on none.
        archive: the archive's name below `data`, and its members.
        exports: registry exports below `data`, without their endings.
        file: what a command exported, below `data`; listed: what there was, as the program itself told.
        name: of the service, package, fact or of what a command exported.
        settings: what else is known of it.
    """

    format: int
    object: Object
    label: str = ""
    kind: str = ""
    line: int = 0
    account: str = ""
    account_id: str = ""
    variable: str = ""
    base: str = ""
    base_b64: Base64 = ""
    archive: str = ""
    members: list[Member] = []
    exports: list[str] = []
    file: str = ""
    listed: list[str] = []
    name: str = ""
    settings: dict[str, Any] = {}

    def shared(self) -> dict[str, int]:
        """Where among the members each one stands that a hard link shares its content with."""
        names = {m.link for m in self.members if m.type == "hard link"}
        return {m.member: n for n, m in enumerate(self.members) if m.member in names}

    @property
    def files(self) -> int:
        return sum(m.type in ("file", "hard link") for m in self.members)

    @property
    def size(self) -> int:
        return sum(m.size for m in self.members)
