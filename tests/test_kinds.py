"""The table of kinds, and how they are typed."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path
from typing import TypeVar, get_args

import pytest

from kleff.case.record.effect_table import EFFECTS
from kleff.objects.base.kind import Kind
from kleff.objects.base.known import kinds
from kleff.procedure.loaded import PHASES
from kleff.procedure.model import Step


def taken_by(kind: Kind, method: str) -> tuple[type[Step], ...]:
    """The step models that a method of a kind is declared for; all where it says nothing."""
    function = getattr(type(kind), method)
    told = function.__annotations__.get("step", "LoadedStep")
    meant = eval(told, vars(sys.modules[function.__module__])) if isinstance(told, str) else told
    model = get_args(meant)[0] if get_args(meant) else Step
    if isinstance(model, TypeVar):
        bases = [base for one in type(kind).__mro__ for base in vars(one).get("__orig_bases__", ())]
        named = [arg for base in bases for arg in get_args(base) if not isinstance(arg, TypeVar)]
        model = named[0] if named else Step  # of one that is made for a sort, by that sort's own models
    return get_args(model) or (model,)


DONE_IN = {"look": ("evidence",), "plan": PHASES, "do": ("backup", "stop", "uninstall", "purge", "delete"), "stage": ("evidence", *PHASES)}


@pytest.mark.parametrize("method", DONE_IN)
def test_kinds_are_typed_by_their_models(method: str) -> None:
    """What a kind offers as a model, its methods take: nothing else holds a step and its kind together."""
    wrong, seen = [], 0
    for kind in kinds():
        if not hasattr(kind, method):
            continue
        taken = taken_by(kind, method)
        for phase in DONE_IN[method]:
            model = kind.models.get(phase)
            seen += model is not None
            if model is not None and not issubclass(model, taken):
                wrong.append(f"{type(kind).__name__}.{method}: {model.__name__} in {phase}")
    assert wrong == []
    assert seen > 10


def test_few_assertions_about_types() -> None:
    source = Path(__file__).parent.parent / "src/kleff"
    found = [line for file in source.rglob("*.py") for line in file.read_text("utf-8").splitlines() if "assert isinstance(" in line]
    assert len(found) <= 12


def test_the_tables_are_as_the_folders_are() -> None:
    """Each kind and each effect stands in its table, in the file where it is."""
    source, script = Path(__file__).parent.parent / "src/kleff", Path(__file__).parent.parent / "scripts/make_tables.py"
    done = subprocess.run([sys.executable, script, "--check"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    effects = [
        f for f in (source / "case/effects").rglob("*.py") if re.search(r"^    kind: ClassVar\[str\] = ", f.read_text(), re.MULTILINE)
    ]
    assert {".".join(f.relative_to(source / "case/effects").with_suffix("").parts) for f in effects} == set(EFFECTS.values())


LOADED = """
import sys
from kleff.engine.library import parse
parse(b'format = 1\\n[product]\\nid = "x"\\nname = "X"\\n[[evidence]]\\npath = "/x"\\n[[delete]]\\npaths = ["/x"]\\n', "x.toml")
print(*[name for name in sys.modules if name.startswith("kleff.objects.") and not name.startswith("kleff.objects.base")])
"""


def test_a_procedure_loads_its_own_kinds_alone() -> None:
    done = subprocess.run([sys.executable, "-c", LOADED], capture_output=True, text=True, check=True)
    foreign = {"registered", "keys", "services", "packages", "drivers", "python", "processes", "tasks", "texts"}
    assert {name.split(".")[2] for name in done.stdout.split()} & foreign == set()
    assert "kleff.objects.paths.kind" in done.stdout.split()
