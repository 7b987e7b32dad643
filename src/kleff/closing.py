"""What is let go of when Kleff ends, and what a person must know if that cannot be done."""

from __future__ import annotations

from collections.abc import Callable

_open: list[Callable[[], str]] = []


def at_the_end(close: Callable[[], str]) -> None:
    """Have something closed in the end; it gives a line for people if that fails, else ""."""
    _open.append(close)


def close_all() -> list[str]:
    """Close it all now; the lines."""
    texts = [close() for close in reversed(_open)]
    _open.clear()
    return [text for text in texts if text]
