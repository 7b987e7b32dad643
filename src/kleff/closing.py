"""What is let go of when Kleff ends, and what a person must know if that cannot be done."""

from __future__ import annotations

from collections.abc import Callable

_open: list[Callable[[], str]] = []


def at_the_end(close: Callable[[], str]) -> None:
    """Have something closed in the end; it gives a line for people if that fails, else ""."""
    _open.append(close)


def close_all() -> list[str]:
    """Close it all now; the lines. What cannot be closed keeps nothing else from being closed."""
    todo = _open[::-1]
    _open.clear()
    texts = [_closed(close) for close in todo]
    return [text for text in texts if text]


def _closed(close: Callable[[], str]) -> str:
    try:
        return close()
    except OSError as error:
        return f"{error.filename or 'the system'} could not be let go of: {error.strerror or error}"
