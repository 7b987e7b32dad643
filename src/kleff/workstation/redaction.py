"""What a program says, without what must not be kept. Supervisors use this: the standard library alone."""

from __future__ import annotations

import os

TYPE_CHECKING = False
if TYPE_CHECKING:  # a supervisor starts sooner without these
    from collections.abc import Sequence


def pass_on(reading: int, writing: int, hide: list[str]) -> None:
    """Keep what a program says, line by line, without what must not be kept. Args: reading, writing: descriptors, closed in the end."""
    with os.fdopen(reading, "rb") as said, os.fdopen(writing, "wb", buffering=0) as kept:
        for line in said:
            kept.write(redacted(line, hide))


def redacted(data: bytes, hide: list[str]) -> bytes:
    """`data` with dots for each of the texts, as they stand or in base64, percent signs or 16-bit letters."""
    from base64 import b64encode
    from urllib.parse import quote

    for text in (t for t in hide if t):
        raw = text.encode()
        for form in {raw, text.encode("utf-16-le"), b64encode(raw), b64encode(raw).rstrip(b"="), quote(text).encode(), raw.hex().encode()}:
            data = data.replace(form, b"......")
    return data


def kept_words(words: Sequence[str], hide: Sequence[str]) -> list[str]:
    """A command as it is kept."""
    return [redacted(os.fsencode(word), list(hide)).decode("utf-8", "replace") for word in words]
