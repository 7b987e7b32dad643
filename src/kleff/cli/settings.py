"""The settings file: what a technician sets once. `settings.toml` beside the library, every key with a default."""

from __future__ import annotations

import tomllib
from pathlib import Path

import msgspec

from kleff.errors import UsageError
from kleff.procedure.versions import parse_duration
from kleff.workstation.this_machine import host


class Settings(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """Every setting.

    Attributes:
        discard_after: after this time from its end, `kleff cases` marks a case whose set-aside things may go; "" never.
    """

    discard_after: str = ""

    @property
    def discard_after_seconds(self) -> float | None:
        return parse_duration(self.discard_after) if self.discard_after else None


def read_settings(file: Path | None = None) -> Settings:
    """The settings; the defaults if there is no file.

    Raises:
        UsageError: it cannot be used.
    """
    file = file or host().places().settings
    try:
        settings = msgspec.convert(tomllib.loads(file.read_text("utf-8")), Settings)
        parse_duration(settings.discard_after or "0s")
        return settings
    except FileNotFoundError:
        return Settings()
    except (OSError, UnicodeDecodeError, ValueError, msgspec.ValidationError) as error:
        raise UsageError(
            f"the settings cannot be used: {error}", where=str(file), remedy='correct the file; known is  discard_after = "14d"'
        ) from None


def duration(text: str, option: str) -> float:
    """Seconds of an option's duration; 0 for "".

    Raises:
        UsageError: it is none.
    """
    try:
        return parse_duration(text) if text else 0.0
    except ValueError as error:
        raise UsageError(str(error), where=option, remedy="write it as  90d,  12h  or  30m") from None
