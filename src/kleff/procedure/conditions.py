"""Conditions of steps: `when` and `unless` refer to an answer or to a fact of the workstation.

coming-back                 a yes-no question answered with yes
not coming-back
edition is school           the answer of a question with one choice; `bits is 64` is a fact
parts has printing          among the answers of a question with several choices
coming-back and bits is 64
version >=4.2,<5            a version that the evidence shows lies in the range
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass

from kleff.procedure.versions import parse_range

Answer = bool | str | list[str]
FACTS = ("bits", "version")
_RANGE = re.compile(r"(?P<no>not +)?version +(?P<range>[<>=!].*)")
_TERM = re.compile(r"(?P<no>not +)?(?P<name>[a-z0-9][a-z0-9-]*)(?: +(?P<how>is|has) +(?P<value>.+))?")


class BadCondition(ValueError):
    """A condition that cannot be understood."""


@dataclass(frozen=True)
class Term:
    """One part of a condition; all must hold."""

    name: str
    how: str
    value: str
    negated: bool

    def holds(self, answers: Mapping[str, Answer]) -> bool:
        answer = answers[self.name]
        if self.how == "in":
            wanted = parse_range(self.value)
            held = any(wanted.holds(v) for v in answer) if isinstance(answer, list) else False
        elif self.how == "is":
            held = str(answer) == self.value
        elif self.how == "has":
            held = self.value in answer if isinstance(answer, list) else False
        else:
            held = answer is True
        return held is not self.negated


def parse_condition(text: str) -> list[Term]:
    """The parts of a condition.

    Raises:
        BadCondition: it cannot be understood.
    """
    terms = []
    for part in re.split(r" +and +", text.strip()):
        ranged = _RANGE.fullmatch(part)
        if ranged:
            try:
                parse_range(ranged["range"])
            except ValueError as error:
                raise BadCondition(str(error)) from None
            terms.append(Term("version", "in", ranged["range"], bool(ranged["no"])))
            continue
        found = _TERM.fullmatch(part)
        if not found:
            raise BadCondition(
                f"{part!r} is not a condition; write  ID,  not ID,  ID is VALUE  or  ID has VALUE,  version RANGE, joined by  and"
            )
        terms.append(Term(found["name"], found["how"] or "", (found["value"] or "").strip(), bool(found["no"])))
    return terms


def not_wanted(when: str, unless: str, answers: Mapping[str, Answer]) -> str:
    """Why a step is not wanted with these answers and facts; "" if it is.

    Raises:
        BadCondition: a condition that the loader would not have let pass.
    """
    if when and not all(term.holds(answers) for term in parse_condition(when)):
        return f"only when {when}; it is {_said(when, answers)}"
    if unless and all(term.holds(answers) for term in parse_condition(unless)):
        return f"not when {unless}; it is {_said(unless, answers)}"
    return ""


def _said(condition: str, answers: Mapping[str, Answer]) -> str:
    return ", ".join(show_answer(answers[term.name]) for term in parse_condition(condition))


def show_answer(answer: Answer) -> str:
    """An answer for people."""
    if isinstance(answer, bool):
        return "yes" if answer else "no"
    return answer if isinstance(answer, str) else ", ".join(answer) or "none"
