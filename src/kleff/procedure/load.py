"""Loading a procedure: every problem is found in one go, each with file, line and column."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping
from difflib import get_close_matches
from functools import cache, cached_property
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from kleff import __version__
from kleff.errors import ProcedureError
from kleff.procedure.conditions import FACTS, BadCondition, parse_condition
from kleff.procedure.loaded import PHASES, RULES, LoadedStep, Procedure, StepOf
from kleff.procedure.model import Ask, Keep, Product, Section, Step
from kleff.procedure.source import Address, Source, parse_source, read_source
from kleff.procedure.texts import NewProblem, path_problems
from kleff.procedure.versions import parse_range

MAX_TOLD = 100  # problems; who has more reads the first
KindTable = Mapping[str, Mapping[str, type[Step]]]
SECTIONS = ("format", "product", "places", "keep", "ask", "evidence", *PHASES)
S = TypeVar("S", bound=Section)


def load_procedure(path: Path, kinds: KindTable) -> Procedure:
    """Load a procedure file.

    Args:
        path: the file.
        kinds: for each phase, the step model that each object key stands for.

    Raises:
        ProcedureError: with every problem that was found.
    """
    return _Loader(read_source(path), kinds, RULES).procedure()


def parse_procedure(raw: bytes, name: str, kinds: KindTable, rules: int = RULES) -> Procedure:
    """The same for bytes already read (the copy in a case).

    Args:
        rules: those it is read by; of a case, those it was begun under.

    Raises:
        ProcedureError: as `load_procedure`, or this Kleff does not know these rules yet.
    """
    if not 1 <= rules <= RULES:
        raise ProcedureError([f"{name}: is read by rules that this Kleff does not know ({rules})"], remedy="use a newer Kleff")
    return _Loader(parse_source(raw, name), kinds, rules).procedure()


@cache
def _fields(model: type[Section]) -> tuple[msgspec.structs.FieldInfo, ...]:
    return msgspec.structs.fields(model)


@cache
def _names(model: type[Section]) -> frozenset[str]:
    return frozenset(f.encode_name for f in _fields(model))


class _Loader:
    def __init__(self, source: Source, kinds: KindTable, rules: int) -> None:
        self.source = source
        self.kinds = kinds
        self.rules = rules
        self.problems: list[tuple[tuple[int, int], str]] = []
        self.places: dict[str, list[str]] = {}

    def procedure(self) -> Procedure:
        data = self.source.data
        self._check_needs(data)
        self._format(data)
        self._unknown(data, SECTIONS, ())
        self.places = self._places(data.get("places", {}))
        product = self._section(Product, data.get("product"), ("product",))
        keep = self._section(Keep, data.get("keep", {}), ("keep",))
        evidence = tuple(self._steps("evidence"))
        steps = tuple(s for phase in PHASES for s in self._steps(phase))
        asks = self._asks()
        self._conditions((*evidence, *steps), asks)
        if not self.problems and not evidence:
            self._problem((), "no [[evidence]]: nothing says how the product is recognised")
        if self.problems or product is None or keep is None:
            raise ProcedureError(self._told(), remedy="correct the procedure; nothing was changed")
        return Procedure(self.source.name, self.source.raw, product, self.places, keep, evidence, steps, asks, self.rules)

    def _told(self) -> list[str]:
        found = [text for _, text in sorted(self.problems)]
        more = len(found) - MAX_TOLD
        return found if more <= 0 else [*found[:MAX_TOLD], f"{self.source.name}: and {more} more problems"]

    def _problem(self, address: Address, text: str, code: str = "invalid") -> None:
        self.problems.append((self.source.position(address), self.source.located(address, code, text)))

    def _check_needs(self, data: dict[str, Any]) -> None:
        """Said alone, before anything that this Kleff may not know is called wrong.

        Raises:
            ProcedureError: the procedure is written for another Kleff.
        """
        product = data.get("product")
        needs = product.get("needs") if isinstance(product, dict) else None
        if not isinstance(needs, str):
            return
        with contextlib.suppress(ValueError):  # told with the other problems
            if not parse_range(needs).holds(__version__):
                place = self.source.place(("product", "needs"))
                raise ProcedureError(
                    [f"{place}: written for Kleff {needs}; this is {__version__}"], remedy="install that Kleff; nothing was changed"
                )

    def _format(self, data: dict[str, Any]) -> None:
        if "format" not in data:
            self._problem((), "the first line must be  format = 1")
        elif data["format"] != 1 or isinstance(data["format"], bool):
            self._problem(("format",), f"format = {data['format']!r} is not known; this Kleff reads format 1")

    def _unknown(self, table: dict[str, Any], allowed: tuple[str, ...], address: Address) -> set[str]:
        """Tell the keys that do not belong there; gives them."""
        odd = {key for key in table if key not in allowed}
        for key in odd:
            others = self._others_with(key, address)
            hint = f"; it belongs to a step with  {' or '.join(others)}" if others else _hint(key, allowed)
            self._problem((*address, key), f"unknown key {key!r}{hint}", "unknown-key")
        return odd

    def _others_with(self, key: str, address: Address) -> list[str]:
        """The kinds of steps that have that key, of this phase before those of others; the usual ones first."""
        phase = str(address[0]) if address else ""
        if phase not in self.kinds:
            return []
        found = self._holders.get(key, [])
        here = [kind for p, kind in found if p == phase]
        return (here or [f"{kind}  in [[{p}]]" for p, kind in found if p != "evidence"])[:3]

    @cached_property
    def _holders(self) -> dict[str, list[tuple[str, str]]]:
        """By every key: (phase, kind) of the steps that have it."""
        found: dict[str, list[tuple[str, str]]] = {}
        for phase, kinds in self.kinds.items():
            for kind, model in kinds.items():
                for key in _names(model):
                    found.setdefault(key, []).append((phase, kind))
        return found

    def _places(self, table: Any) -> dict[str, list[str]]:
        if not isinstance(table, dict):
            self._problem(("places",), "[places] is a table of folder lists")
            return {}
        places: dict[str, list[str]] = {}
        for name, value in table.items():
            texts = [value] if isinstance(value, str) else value
            if not re.fullmatch(r"[a-z_]+", name):
                self._problem(("places", name), f"{name!r} is not a name; use a-z and _")
            elif not isinstance(texts, list) or not texts or not all(isinstance(t, str) for t in texts):
                self._problem(("places", name), "a place is a folder or a list of folders")
            else:
                places[name] = texts
                for where, text in path_problems(name, texts, ()):
                    self._problem(("places", *where), text)
        return places

    def _steps(self, phase: str) -> Iterator[LoadedStep]:
        tables = self.source.data.get(phase, [])
        if not isinstance(tables, list) or not all(isinstance(t, dict) for t in tables):
            self._problem((phase,), f"write [[{phase}]], with two brackets: it is a list of steps")
            return
        for index, table in enumerate(tables):
            address: Address = (phase, index)
            kind = self._kind(phase, table, address)
            model = self._section(self.kinds[phase][kind], table, address) if kind else None
            if kind and model is not None:
                if model.together and phase != "evidence":
                    self._problem((*address, "together"), "together is for pieces of [[evidence]]")
                yield StepOf(phase, kind, index, self.source.position(address)[0], model)

    def _asks(self) -> tuple[Ask, ...]:
        tables = self.source.data.get("ask", [])
        if not isinstance(tables, list) or not all(isinstance(t, dict) for t in tables):
            self._problem(("ask",), "write [[ask]], with two brackets: it is a list of questions")
            return ()
        found = [(n, self._section(Ask, table, ("ask", n))) for n, table in enumerate(tables)]
        asks = [(n, ask) for n, ask in found if ask is not None]
        for number, ask in asks:
            if any(other.id == ask.id for n, other in asks if n < number):
                self._problem(("ask", number, "id"), f"{ask.id!r} is asked twice")
        return tuple(ask for _, ask in asks)

    def _conditions(self, steps: tuple[LoadedStep, ...], asks: tuple[Ask, ...]) -> None:
        """What `when` and `unless` refer to must be asked, or be a fact."""
        known = {ask.id: ask for ask in asks}
        for step in steps:
            for key in ("when", "unless"):
                text = getattr(step.model, key)
                for problem in _condition_problems(text, known) if text else ():
                    self._problem((step.phase, step.index, key), f"{key} = {_shown(text)}: {problem}")
            found = [ask.id for ask in asks if ask.from_]
            if step.model.chosen and step.model.chosen not in found:
                hint = _hint(step.model.chosen, tuple(found)) if found else "; give a question  from = ..."
                self._problem((step.phase, step.index, "chosen"), f"no question of what is found has the id {step.model.chosen!r}{hint}")

    def _kind(self, phase: str, table: dict[str, Any], address: Address) -> str | None:
        allowed = self.kinds.get(phase, {})
        named = [key for key in table if key in allowed]
        # A key of one kind may be the name of another: of both, the one that knows the other is meant.
        fields = {key: _names(allowed[key]) for key in named}
        named = [key for key in named if not any(key in fields[other] and other not in fields[key] for other in named if other != key)]
        listed = ", ".join(sorted(allowed))
        if len(named) == 1:
            return named[0]
        if named:
            self._problem((*address, named[1]), f"names two objects ({' and '.join(named)}); a step names one of: {listed}")
            return None
        common = (*Step.__struct_fields__, "accounts")
        odd = next((key for key in table if key not in common), None)
        close = get_close_matches(odd, list(allowed), n=1) if odd else []
        hint = f" ({odd!r}: did you mean {close[0]!r}?)" if close else ""
        self._problem((*address, odd) if odd else address, f"a [[{phase}]] step must name one of: {listed}{hint}")
        return None

    def _section(self, model: type[S], table: Any, address: Address) -> S | None:
        if not isinstance(table, dict):
            self._problem(address, f"[{address[0]}] is missing" if table is None else f"[{address[0]}] is a table")
            return None
        before = len(self.problems)
        names = tuple(f.encode_name for f in _fields(model))
        wrong = self._unknown(table, names, address) | self._values(model, table, address)
        try:  # what else is wrong is told too
            section = msgspec.convert({key: value for key, value in table.items() if key not in wrong}, model)
        except msgspec.ValidationError:
            return None
        for where, text in section.problems(self.places):
            if not isinstance(text, NewProblem) or self.rules >= text.since:
                self._problem((*address, *where), text)
        return section if len(self.problems) == before else None

    def _values(self, model: type[Section], table: dict[str, Any], address: Address) -> set[str]:
        """Tell the values that are not of their type; gives their keys."""
        wrong = set()
        for item in _fields(model):
            key = item.encode_name
            if key not in table:
                if item.required:
                    self._problem(address, f"{key!r} is missing", "missing-key")
                continue
            try:
                msgspec.convert(table[key], item.type)
            except msgspec.ValidationError as error:
                where, text = _explain(str(error), table[key], item.type)
                self._problem((*address, key, *where), f"{key} = {_shown(table[key])}: {text}", "wrong-value")
                wrong.add(key)
        return wrong


def _condition_problems(text: str, known: dict[str, Ask]) -> Iterator[str]:
    try:
        terms = parse_condition(text)
    except BadCondition as error:
        yield str(error)
        return
    for term in terms:
        ask = known.get(term.name)
        if ask is None and term.name not in FACTS:
            yield f"nothing is asked with the id {term.name!r}{_hint(term.name, (*known, *FACTS))}"
            continue
        kind = ask.type if ask else "one"
        wanted = "in" if term.name == "version" else {"yes-no": "", "one": "is", "some": "has"}[kind]
        if term.name == "version" and term.how != wanted:
            yield "'version' is written  version RANGE, such as  version >=4,<5"
            continue
        if term.how != wanted:
            yield f"{term.name!r} is written  {term.name}{' ' + wanted + ' VALUE' if wanted else ''}"
        elif ask is not None and wanted and not ask.from_ and term.value not in ask.choices:
            yield f"{term.value!r} is none of its choices{_hint(term.value, tuple(ask.choices))}"


def _hint(key: str, allowed: tuple[str, ...]) -> str:
    close = get_close_matches(key, allowed, n=1)
    return f"; did you mean {close[0]!r}?" if close else f"; allowed are {', '.join(allowed)}"


_KINDS = {"str": "a text", "int": "a whole number", "bool": "true or false", "array": "a list", "object": "a table"}


def _explain(message: str, value: Any, wanted: Any) -> tuple[Address, str]:
    """Turn the validator's message into one for people, with the address inside the value."""
    text, _, path = message.partition(" - at `$")
    where: Address = tuple(int(n) for n in re.findall(r"\[(\d+)\]", path))
    options = getattr(wanted, "__args__", ())
    if "Invalid enum value" in text or (options and all(isinstance(o, str) for o in options)):
        allowed = re.findall(r"'([^']+)'", repr(wanted))
        close = get_close_matches(str(value), allowed, n=1)
        return where, f"must be one of {', '.join(allowed)}" + (f"; did you mean {close[0]!r}?" if close else "")
    found = re.fullmatch(r"Expected `(.+)`, got `(\w+)`", text)
    if found:
        kinds = [_KINDS.get(k.strip(), k.strip()) for k in found[1].split("|") if k.strip() != "null"]
        return where, f"must be {' or '.join(kinds)}, not {_KINDS.get(found[2], found[2])}"
    if "matching regex" in text:
        return where, "is not written as it must be: small letters a-z, digits and -"
    at_least = re.search(r">= (\d+)$", text)
    if at_least:
        return where, f"must be {at_least[1]} or more" if "length" not in text else "must not be empty"
    return where, text.replace("`", "")


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "..."
