"""What a program says as evidence: that the product is there, and in which version."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import ActionFailed
from kleff.objects.base.action import Sighting
from kleff.objects.base.here import Here
from kleff.objects.commands.programs import arguments, objection_to, output_of
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Step, Text, Texts
from kleff.procedure.texts import Problem
from kleff.procedure.variables import BadTemplate, parse_template
from kleff.workstation.identity import NameId

PATIENCE = 15.0  # seconds a program may take to say it
VERSION = re.compile(r"\d+(?:\.\d+)+(?:[-+~.][0-9A-Za-z]+)*|\d+")


class CommandEvidence(Step, kw_only=True, frozen=True):
    """What a program of the product says. One that is not there shows nothing; what it says of its version counts."""

    command: Annotated[Texts, Meta(description="program and arguments, no shell; it only tells something, and changes nothing")]
    says: Annotated[Text, Meta(description='what a line of its output is like; * and ? are wildcards, e.g. "Hoe *"')]

    @property
    def written_paths(self) -> list[str]:
        return self.command[:1]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        try:
            parse_template(self.command[0], places)
        except BadTemplate as error:
            yield ("command", 0), str(error)
        if not any(c.isalnum() for c in self.says):
            yield ("says",), f"{self.says!r} is like every line; write what the program says"


def look_at_output(step: StepOf[CommandEvidence], here: Here) -> Iterator[Sighting]:
    """The line a program says, and the first number in it that looks like a version."""
    model = step.model
    argv = arguments(list(model.command), here)
    if argv is None:
        return
    told = " ".join(argv)
    objection = objection_to(argv, here)
    try:
        if objection:
            raise ActionFailed(objection)
        text = output_of(here, argv, PATIENCE)
    except ActionFailed as error:
        yield Sighting(kind="command", what=f"{told} ({error.what})", line=step.line, unreadable=True)
        return
    line = next((line.strip() for line in text.splitlines() if name_matches(model.says, line.strip(), False)), None)
    if line is not None:
        found = VERSION.search(line)
        version = found[0] if found else ""
        yield Sighting(
            kind="command", what=told, about=NameId("command", argv[0]), version=version, where=f"says: {line[:100]}", line=step.line,
            in_range=here.version_in_range(version, model.says),
        )  # fmt: skip
