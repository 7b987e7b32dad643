"""Sections that a product has written into settings files which others use too: `[Brindlewort Bridge]` of an .ini, or a marked block."""

import re
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.kind import Words
from kleff.objects.base.own import pattern_objection
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.texts.doubts import SHOWN, goes_on
from kleff.objects.texts.lines import IN_FILE, InFile, TextKind
from kleff.procedure.globs import is_glob, name_matches
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Text
from kleff.procedure.texts import Problem, path_problem
from kleff.workstation.files.lines import Edit, edits

HEADER = re.compile(r"\s*\[(?P<name>[^\]]+)\]\s*([;#].*)?$")
LIKE_ONE = re.compile(r"\s*\[(?P<name>[^\]]*)\]")  # some programs allow anything behind it: another section begins there
REMARK = re.compile(r"\s*[;#]")


class _Section(InFile, kw_only=True, frozen=True):
    section: Annotated[
        Text, Meta(description="its name, without the brackets, * and ? are wildcards; with `up_to` the text of its first line")
    ]
    in_file: IN_FILE
    up_to: Annotated[str, Meta(description="the text of its last line, for a block that is marked by its first and last line")] = ""

    @property
    def file(self) -> str:
        return self.in_file

    @property
    def written_paths(self) -> list[str]:
        return [self.in_file]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := path_problem(self.in_file, places):
            yield ("in_file",), wrong
        if wrong := pattern_objection(self.section):
            yield ("section",), wrong
        for key, text in (("section", self.section), ("up_to", self.up_to)):
            if "\n" in text or "\r" in text:
                yield (key,), "is more than one line"
        if not self.up_to and self.section.strip().startswith("["):
            yield ("section",), "is written without its brackets"

    @property
    def meant(self) -> list[str]:
        return [] if is_glob(self.section) else [self.section.strip()]

    def doubts(self, lines: list[str], made: list[Edit], folded: bool) -> list[str]:
        """Headers of that name, in another form or of a section that is not taken; what else the name stands in is another's."""
        gone = {edit.at for edit in made}
        like = [(at, LIKE_ONE.match(line)) for at, line in enumerate(lines) if not self.up_to and at not in gone]
        named = [at for at, found in like if found and name_matches(self.section, found["name"].strip(), True)]
        return [f"line {at + 1}: {lines[at].strip()[:SHOWN]}" for at in named]

    def sure(self, lines: list[str], folded: bool) -> list[Edit]:
        """A section goes as a whole, and only if no line of it is part of one that is not its own."""
        return [edit for block in self._blocks(lines) if folded or _apart(lines, *block) for edit in edits(lines, _taken(block))]

    def edits(self, lines: list[str], folded: bool) -> list[Edit]:
        return [edit for block in self._blocks(lines) for edit in edits(lines, _taken(block))]

    def _blocks(self, lines: list[str]) -> Iterator[tuple[int, int]]:
        return _blocks(lines, self.section, self.up_to) if self.up_to else _sections(lines, self.section)


class SectionDelete(_Section, kw_only=True, frozen=True):
    """Take a section out of a settings file that others use too, from its header to the next; the rest stays as it is."""

    at_most: Annotated[int, Meta(ge=1, description="how many lines of one file")] = 200

    @property
    def bound(self) -> int:
        return self.at_most


class SectionVerify(_Section, kw_only=True, frozen=True):
    """Sections that must be gone."""


class SectionKind(TextKind[_Section]):
    """`section`."""

    names = ("section",)
    thing = "section"
    models = {"delete": SectionDelete, "verify": SectionVerify}

    def stage(self, step: StepOf[_Section], stage: Stage) -> None:
        model = step.model
        block = f"{model.section}\r\nsample\r\n{model.up_to}\r\n" if model.up_to else f"[{shown_as(model.section)}]\r\nsample = 1\r\n"
        for path in stage.named(model.in_file, model.accounts):
            stage.file(path, f"[Neighbour]\r\nstays = 1\r\n{block}[Last]\r\n")

    def words(self, phase: str) -> Words:
        return Words("Lines taken out" if phase == "delete" else "Looked for", ("line", "lines"), within=True)

    def shown(self, made: list[Edit]) -> list[str]:
        starts = [edit for n, edit in enumerate(made) if not n or edit.at != made[n - 1].at + 1 or HEADER.match(edit.old.rstrip())]
        return [edit.old.strip() for edit in starts[:5]]


def _taken(block: tuple[int, int]) -> list[tuple[int, str | None, str]]:
    return [(at, None, "") for at in range(*block)]


def _apart(lines: list[str], start: int, end: int) -> bool:
    """Whether neither the line before goes on in these, nor the last of them in the next."""
    return not (start and goes_on(lines[start - 1])) and not goes_on(lines[end - 1])


def _sections(lines: list[str], pattern: str) -> Iterator[tuple[int, int]]:
    """(first line, the one after the last) of each section of that name; a remark right above the next header is that one's."""
    headers = [
        (at, found["name"].strip() if (found := HEADER.match(line)) else "") for at, line in enumerate(lines) if LIKE_ONE.match(line)
    ]
    for n, (start, name) in enumerate(headers):
        if not name or not name_matches(pattern, name, True):
            continue
        end = headers[n + 1][0] if n + 1 < len(headers) else len(lines)
        if n + 1 < len(headers):
            above = end
            while above > start + 1 and REMARK.match(lines[above - 1]):
                above -= 1
            end = above if above == end or not lines[above - 1].strip() else end
        yield start, end


def _blocks(lines: list[str], first: str, last: str) -> Iterator[tuple[int, int]]:
    """(first line, the one after the last) of each block between two lines of those texts; one without its last line is none."""
    start = None
    for at, line in enumerate(lines):
        if line.strip() == first.strip():
            start = at
        elif start is not None and line.strip() == last.strip():
            yield start, at + 1
            start = None


KINDS = (SectionKind(),)
