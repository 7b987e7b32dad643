"""What could not be looked at, and why."""

from __future__ import annotations

from kleff.errors import KleffError
from kleff.registry.registry import KeyRef, Registry


def why(error: Exception) -> str:
    """Why something could not be looked at."""
    if isinstance(error, KleffError):
        return error.what
    if isinstance(error, OSError):
        return f"it cannot be looked at: {error.strerror}"
    return str(error)


def seems_there(registry: Registry, key: KeyRef) -> bool:
    """Whether a key is there, or nobody may look."""
    try:
        return registry.exists(key)
    except OSError:
        return True
