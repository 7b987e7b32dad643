"""Variables that a script of the product sets, as evidence."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed, LinkOnTheWay
from kleff.objects.base.action import Sighting
from kleff.objects.base.here import Here
from kleff.objects.base.kind import Kind
from kleff.objects.commands.evidence import VERSION
from kleff.procedure.globs import is_glob, name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, path_problem
from kleff.workstation.identity import NameId
from kleff.workstation.paths import WPath

NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class VariableEvidence(Step, kw_only=True, frozen=True):
    """An environment variable that a script sets. The script is sourced by a clean `sh`, as an account that owns nothing."""

    variable: Annotated[Text, Meta(description="name of the environment variable")]
    set_by: Annotated[Text, Meta(description="the script; only an administrator can write it, else it is not sourced")]
    says: Annotated[Text, Meta(description="what its value is like; * and ? are wildcards")] = "?*"

    @property
    def written_paths(self) -> list[str]:
        return [self.set_by]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if not NAME.fullmatch(self.variable):
            yield ("variable",), f"{self.variable!r} is no name of a variable: letters, digits and _, and no digit first"
        wrong = path_problem(self.set_by, places) or ("names one script, without wildcards" if is_glob(self.set_by) else None)
        if wrong:
            yield ("set_by",), wrong


class VariableKind(Kind):
    """`variable`."""

    names = ("variable",)
    systems = ("linux",)
    condition = "A variable that must, or must not, be set by a script."
    models = {"evidence": VariableEvidence}

    def look(self, step: StepOf[VariableEvidence], here: Here) -> Iterator[Sighting]:
        model = step.model
        try:
            script = here.resolver.first_path(model.set_by)
            if script is None:
                return
            value = self._value(script, model.variable, here)
        except (OSError, LinkOnTheWay, ActionFailed) as error:
            why = error.strerror if isinstance(error, OSError) else error.what
            yield Sighting(kind="variable", what=f"{model.variable} of {model.set_by} ({why})", line=step.line, unreadable=True)
            return
        if not value or not name_matches(model.says, value, False):
            return
        found = VERSION.search(value)
        version = found[0] if found and "." in found[0] else ""
        yield Sighting(
            kind="variable", what=f"{model.variable}={value[:100]}", about=NameId("variable", model.variable, str(script)), version=version,
            where=f"set by {script}, sourced as an account that owns nothing", line=step.line,
            in_range=not version or here.version_in_range(version, model.says),
        )  # fmt: skip

    def _value(self, script: WPath, variable: str, here: Here) -> str:
        """What it is set to.

        Raises:
            ActionFailed: it must not be sourced, or does not end.
        """
        commands, scripts = here.workstation.commands, here.workstation.scripts
        why = commands.objection(script) if commands else ""
        if why or scripts is None:
            raise ActionFailed(why or "no scripts are sourced here")
        return scripts.variable_of(script, variable)


KINDS = (VariableKind(),)
