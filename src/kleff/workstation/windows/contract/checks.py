"""Checks by name, and what came of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple, Protocol

Check = Callable[[], None]


class Contract(Protocol):
    """What a supplier of one protocol has to do."""

    def checks(self) -> dict[str, Check]: ...

    def clear(self) -> None:
        """Take away what the checks have made."""


class Broken(Exception):
    """What a check expected and did not find."""


class Result(NamedTuple):
    """What came of one check; `wrong` is "" if it holds."""

    name: str
    wrong: str


def expect(what: str, found: object, wanted: object) -> None:
    """Raises: Broken: it is not what is wanted."""
    if found != wanted:
        raise Broken(f"{what}: {_short(found)}, not {_short(wanted)}")


def refused(what: str, act: Callable[[], object]) -> None:
    """Raises: Broken: it is done."""
    try:
        act()
    except OSError:
        return
    raise Broken(f"{what} was done")


def results(checks: dict[str, Check]) -> Iterator[Result]:
    """Each check, one after the other; one that breaks down does not keep the others from being made."""
    for name, check in checks.items():
        try:
            check()
            yield Result(name, "")
        except Broken as broken:
            yield Result(name, str(broken))
        except Exception as error:  # whatever a supplier raises is what came of it
            yield Result(name, f"{type(error).__name__}: {error}")


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) < 200 else f"{text[:200]}..."
