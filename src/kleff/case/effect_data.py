"""What the journal must hold of an effect of each kind; a journal that holds anything else is damaged."""

from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from kleff.case.effect_names import COMMAND, KEY, MOVED, PACKAGE, PLACED, PROCESS, SERVICE, STAGED, TASK, UNINSTALLER, UNIT, VALUE, WRITTEN
from kleff.errors import DamagedCase

Base64 = Annotated[str, Meta(pattern=r"^(?:[A-Za-z0-9+/]{4})*(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?$")]
Sha256 = Annotated[str, Meta(pattern=r"^[0-9a-f]{64}$")]
Stem = Annotated[str, Meta(pattern=r"^[0-9]{4,}(-[a-z0-9]+)*$")]
Count = Annotated[int, Meta(ge=0, lt=1 << 62)]
Time = Annotated[int, Meta(gt=-(1 << 62), lt=1 << 62)]
Hex = Annotated[str, Meta(pattern=r"^(?:[0-9a-f]{2})*$")]
Number = Annotated[int, Meta(ge=0)]


class Fields(msgspec.Struct, kw_only=True):
    """Every field an effect's data can have; which ones a kind needs says `NEEDED`."""

    aside: Base64 = ""
    identity: tuple[Number, Number] = (0, 0)
    parent_times: tuple[Time, Time] = (0, 0)
    copied: Literal["making", "made"] = "made"
    copy: tuple[Number, Number] = (0, 0)
    items: Count = 0
    size: Count = 0
    digest: Sha256 = "0" * 64
    prefix: Annotated[str, Meta(pattern=r"^[0-9]{4,}-new\.$")] = "0000-new."
    before: Annotated[str, Meta(pattern=r"^([0-9a-f]{64})?$")] = ""
    modes: list[tuple[Hex, Annotated[int, Meta(ge=0, le=0o7777)]]] = []
    key: str = ""
    stem: Stem = "0000"
    sha256: Sha256 = "0" * 64
    name: str = ""
    running: bool = False
    held: bool = False
    taken: bool = False
    failed: bool = False
    enabled: bool = False
    account: str = ""
    start: str = ""
    what: str = ""
    boot: str = ""
    command: list[str] = []
    areas: list[Base64] = []
    index: Sha256 = "0" * 64
    records: Sha256 = "0" * 64
    earlier: Count = 0
    pid: Annotated[int, Meta(ge=1, lt=1 << 31)] = 1
    started: float = 0.0
    code: int | None = None


NEEDED = {
    MOVED: ("aside", "identity", "parent_times", "items", "size"),
    KEY: ("stem", "sha256"),
    VALUE: ("stem", "sha256"),
    SERVICE: ("name", "running", "start"),
    PROCESS: (),
    TASK: ("name", "enabled"),
    UNIT: ("name", "running", "start", "account"),
    UNINSTALLER: ("command",),
    PACKAGE: ("what",),
    STAGED: ("areas", "prefix"),
    PLACED: ("aside", "identity", "parent_times", "items", "size", "digest"),
    WRITTEN: ("stem", "sha256", "before"),
    COMMAND: ("what",),
}
STATES = ("intended", "done", "undone", "void", "stays", "noted", "discarded")


def check_effect(kind: Any, state: Any, data: Any, where: str) -> None:
    """Look whether an effect read from a journal can be one.

    Raises:
        DamagedCase.
    """
    wrong = ""
    if kind not in NEEDED or state not in STATES:
        wrong = "an effect of a kind or state that does not exist"
    elif not isinstance(data, dict) or any(name not in data for name in NEEDED[kind]):
        wrong = f"an effect ({kind}) that lacks what belongs to it"
    else:
        try:
            msgspec.convert(data, Fields)
        except (msgspec.ValidationError, ValueError) as error:
            wrong = f"an effect ({kind}) that is damaged: {error}"
    if wrong:
        raise DamagedCase(f"the journal holds {wrong}", where=where, remedy="restore the case folder from a copy")
