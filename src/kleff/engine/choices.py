"""Choices: the procedure's questions settled before anything is planned, and what another answer would change."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Mapping

import msgspec

from kleff.engine.plan import Plan
from kleff.engine.survey import survey
from kleff.engine.systems import applies
from kleff.errors import Refused, UsageError
from kleff.objects.base.action import TO_DO, Action
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Lists, able
from kleff.objects.base.known import kind_of
from kleff.procedure.conditions import Answer, show_answer
from kleff.procedure.loaded import Procedure
from kleff.procedure.model import Ask

YES, NO = ("yes", "y", "true"), ("no", "n", "false")


class OtherAnswer(msgspec.Struct, kw_only=True):
    """What another answer would change: actions that would be done besides or not be done, and their bytes."""

    answer: str
    more: int
    more_size: int
    fewer: int
    fewer_size: int


class Choice(msgspec.Struct, kw_only=True):
    """A question with its answer; `given` if it was answered, not taken from the procedure."""

    id: str
    question: str
    answer: str
    given: bool
    others: list[OtherAnswer]


def with_found(procedure: Procedure, here: Callable[[], Here]) -> Procedure:
    """The procedure with the choices of its questions put in that depend on what is found here."""
    if not any(ask.from_ for ask in procedure.asks):
        return procedure
    context = here()
    found = survey(context)
    lists = {
        "accounts": found.accounts,
        "versions": found.versions,
        "components": sorted({s.what for s in (*found.evidence, *found.others) if s.component}),
    }

    def choices_of(ask: Ask) -> list[str]:
        return _listed(ask, procedure, context) if ask.from_ == "lists" else lists[str(ask.from_)]

    asks = tuple(msgspec.structs.replace(a, choices=choices_of(a)) if a.from_ else a for a in procedure.asks)
    return dataclasses.replace(procedure, asks=asks)


def _listed(ask: Ask, procedure: Procedure, here: Here) -> list[str]:
    """What the programs list of the steps in which it is chosen."""
    steps = [(able(kind_of(s.kind), Lists), s) for s in procedure.steps if s.model.chosen == ask.id and applies(s, here.workstation.system)]
    return list(dict.fromkeys(name for kind, step in steps if kind is not None for name in kind.listed(step, here)))


def _default(ask: Ask) -> Answer | None:
    """The answer of a question that is not answered: its default; of one thing found, that one."""
    if not ask.from_:
        return ask.default
    if ask.type == "one":
        return ask.choices[0] if len(ask.choices) == 1 else "" if not ask.choices else None
    return list(ask.choices) if ask.default == "all" or not ask.choices else [] if ask.default == "none" else None


def settle(procedure: Procedure, given: Iterable[str], ask: Callable[[Ask], str] | None = None) -> dict[str, Answer]:
    """An answer to every question: given as `ID=VALUE`, asked for, or the procedure's own default.

    Raises:
        UsageError: a question that is not asked, or an answer it does not know.
        Refused: a question without a default that nobody answers.
    """
    texts = dict(_split(text) for text in given)
    ids = [a.id for a in procedure.asks]
    for name in texts:
        if name not in ids:
            raise UsageError(f"nothing is asked with the id {name!r}", remedy=f"asked is: {', '.join(ids) or 'nothing'}")
    answers = {q.id: read_answer(q, texts[q.id]) for q in procedure.asks if q.id in texts}
    for question in procedure.asks:
        if question.id in answers:
            continue
        text = ask(question) if ask else ""
        if text:
            answers[question.id] = read_answer(question, text)
        elif (default := _default(question)) is not None:
            answers[question.id] = default
        else:
            raise Refused(
                f"not answered: {question.question}", where=procedure.name, remedy=f"add  --answer {question.id}={_possible(question)}"
            )
    return answers


def _split(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise UsageError(f"{text!r} is not an answer", remedy="write  --answer ID=VALUE")
    return name.strip(), value.strip()


def _possible(question: Ask) -> str:
    return "yes|no" if question.type == "yes-no" else "|".join(question.choices)


def read_answer(question: Ask, text: str) -> Answer:
    """An answer as a person writes it.

    Raises:
        UsageError: the question does not know it.
    """
    if question.type == "yes-no" and text.lower() in (*YES, *NO):
        return text.lower() in YES
    if question.type == "one" and text in question.choices:
        return text
    if question.type == "some":
        chosen = [part.strip() for part in text.split(",") if part.strip()]
        if all(part in question.choices for part in chosen):
            return chosen
    if question.type != "yes-no" and not question.choices:
        raise UsageError(f"{text!r} does not answer: {question.question}", remedy="nothing was found to choose from; leave the answer out")
    several = ", several with commas" if question.type == "some" else ""
    raise UsageError(f"{text!r} does not answer: {question.question}", remedy=f"answer with {_possible(question)}{several}")


def choices(
    procedure: Procedure, answers: Mapping[str, Answer], given: Iterable[str], plan: Plan, again: Callable[[dict[str, Answer]], Plan]
) -> list[Choice]:
    """The questions with their answers, and what each other answer would change.

    Args:
        again: plans anew with other answers.
    """
    named = {text.partition("=")[0].strip() for text in given}
    result = []
    for question in procedure.asks:
        others: list[Answer] = [not answers[question.id]] if question.type == "yes-no" else []
        others += [c for c in question.choices if question.type == "one" and c != answers[question.id]]
        result.append(
            Choice(
                id=question.id, question=question.question, answer=show_answer(answers[question.id]), given=question.id in named,
                others=[_difference(other, plan, again({**answers, question.id: other})) for other in others],
            )
        )  # fmt: skip
    return result


def _difference(other: Answer, plan: Plan, changed: Plan) -> OtherAnswer:
    now, then = _to_do(plan), _to_do(changed)
    more, fewer = [then[k] for k in then if k not in now], [now[k] for k in now if k not in then]
    return OtherAnswer(
        answer=show_answer(other),
        more=len(more),
        more_size=sum(a.size for a in more),
        fewer=len(fewer),
        fewer_size=sum(a.size for a in fewer),
    )


def _to_do(plan: Plan) -> dict[tuple[object, ...], Action]:
    found = [a for a in plan.actions if a.state == TO_DO and a.phase != "verify"]
    return {(a.phase, a.kind, tuple(a.about) or a.target, a.account): a for a in found}
