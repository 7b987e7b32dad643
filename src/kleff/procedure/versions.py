"""Version ranges such as `>=4,<5`, over dotted numbers or a package manager's own comparison."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

Compare = Callable[[str, str], int]


def compare_dotted(a: str, b: str) -> int:
    """-1, 0 or 1 for versions of dotted numbers; missing parts count as 0."""
    left, right = _numbers(a), _numbers(b)
    width = max(len(left), len(right))
    left += [0] * (width - len(left))
    right += [0] * (width - len(right))
    return (left > right) - (left < right)


def _numbers(text: str) -> list[int]:
    return [int(n) for n in re.findall(r"\d+", text)]


@dataclass(frozen=True)
class VersionRange:
    """Conditions that must all hold. No condition: every version is meant."""

    conditions: tuple[tuple[str, str], ...]
    text: str

    def holds(self, version: str, compare: Compare = compare_dotted) -> bool:
        """Whether `version` is inside."""
        tests: dict[str, Callable[[int], bool]] = {
            ">=": lambda c: c >= 0,
            ">": lambda c: c > 0,
            "<=": lambda c: c <= 0,
            "<": lambda c: c < 0,
            "==": lambda c: c == 0,
            "!=": lambda c: c != 0,
        }
        return all(tests[op](compare(version, wanted)) for op, wanted in self.conditions)


def parse_range(text: str) -> VersionRange:
    """Parse `>=4,<5`; an empty text is every version.

    Raises:
        ValueError: not a range.
    """
    conditions = []
    for piece in (p.strip() for p in text.split(",") if text.strip()):
        found = re.fullmatch(r"(>=|<=|==|!=|>|<)\s*([0-9A-Za-z.+~:-]+)", piece)
        if not found or not re.search(r"\d", found[2]):
            raise ValueError(f"{piece!r} is not a condition such as >=4 or <5")
        conditions.append((found[1], found[2]))
    return VersionRange(tuple(conditions), text)


def parse_duration(text: str) -> float:
    """Seconds of a duration such as `20s`, `45m`, `2h`, `14d`.

    Raises:
        ValueError: not a duration.
    """
    found = re.fullmatch(r"(\d+)(s|m|h|d)", text)
    if not found:
        raise ValueError(f"{text!r} is not a duration such as 20s, 45m, 2h or 14d")
    return float(int(found[1]) * {"s": 1, "m": 60, "h": 3600, "d": 86400}[found[2]])
