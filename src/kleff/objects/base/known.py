"""Which kinds there are: those that ship stand in a table and are loaded when they are named, others are made known by a call."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from importlib import import_module

from kleff.objects.base.kind import Kind
from kleff.objects.base.table import KINDS, OF_WHOLE
from kleff.procedure.loaded import PHASES
from kleff.procedure.model import Step

_kinds: dict[str, Kind] = {}


def register(*kinds: Kind) -> None:
    """Make kinds known that do not ship with Kleff, under all their names."""
    for kind in kinds:
        for name in kind.names:
            _kinds[name] = kind


def forget(kind: Kind) -> None:
    """The inverse."""
    for name in kind.names:
        _kinds.pop(name, None)


def kind_of(name: str) -> Kind:
    """The kind of that name; a nameless one that can do nothing where there is none (any more)."""
    if name not in _kinds and name in KINDS:
        _load(KINDS[name].module)
    return _kinds.get(name) or Kind()


def _load(module: str) -> None:
    """What a module offers; nobody who has taken a name before loses it."""
    for kind in import_module(f"kleff.objects.{module}").KINDS:
        for name in kind.names:
            _kinds.setdefault(name, kind)


def kinds() -> Iterable[Kind]:
    """Every kind once, those that ship first, in the order of their table."""
    return dict.fromkeys(kind_of(name) for name in (*KINDS, *_kinds))


def kinds_of_whole() -> Iterable[Kind]:
    """Those that have a say in every plan, also where no step names them (`Keeps`, `Adds`)."""
    return dict.fromkeys(kind_of(name) for name in (*OF_WHOLE, *(n for n in _kinds if n not in KINDS)))


class _Models(Mapping[str, type[Step]]):
    """The step models of one phase by their keys; a kind is loaded when its model is asked for."""

    def __init__(self, phase: str) -> None:
        self._phase = phase

    def __getitem__(self, name: str) -> type[Step]:
        model = self._model(kind_of(name), name) if self._has(name) else None
        if model is None:
            raise KeyError(name)
        return model

    def __iter__(self) -> Iterator[str]:
        return (name for name in dict.fromkeys((*KINDS, *_kinds)) if self._has(name))

    def __len__(self) -> int:
        return sum(1 for _ in self)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self._has(name)

    def _has(self, name: str) -> bool:
        if name in KINDS:
            return self._phase in KINDS[name].phases
        return name in _kinds and self._model(_kinds[name], name) is not None

    def _model(self, kind: Kind, name: str) -> type[Step] | None:
        model = kind.models.get(self._phase)
        if model is not None and name in model.__struct_fields__:
            return model
        evidence = kind.models.get("evidence") if self._phase == "before" and kind.condition else None
        return kind.condition_model if evidence is not None and name in evidence.__struct_fields__ else None


def model_table() -> Mapping[str, Mapping[str, type[Step]]]:
    """For each phase, the step model each object key stands for."""
    return {phase: _Models(phase) for phase in ("evidence", *PHASES)}


def phases_of(kind: Kind, name: str) -> tuple[str, ...]:
    """The phases in which a kind has a step of that name, as the table of kinds keeps them."""
    return tuple(phase for phase in ("evidence", *PHASES) if _Models(phase)._model(kind, name) is not None)
