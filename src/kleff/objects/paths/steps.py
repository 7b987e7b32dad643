"""How steps name files and folders."""

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, field

from kleff.errors import NotTold
from kleff.objects.base.here import Here
from kleff.objects.base.resolve import Expanded
from kleff.procedure.globs import check_glob, is_glob, name_matches
from kleff.procedure.model import AccountStep, SavingAccountStep, Step, Text, Texts
from kleff.procedure.texts import Problem, path_problem, path_problems
from kleff.workstation.paths import Look, WPath


class PathEvidence(Step, kw_only=True, frozen=True):
    """A path that is there only with the product."""

    path: Text

    @property
    def written_paths(self) -> list[str]:
        return [self.path]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.path, places)
        if wrong:
            yield ("path",), wrong


class NamedPaths(AccountStep, kw_only=True, frozen=True):
    paths: Texts

    @property
    def written_paths(self) -> list[str]:
        return self.paths

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from path_problems("paths", self.paths, places)


class PathsBackup(SavingAccountStep, kw_only=True, frozen=True):
    """Save files and folders."""

    paths: Texts
    rescue: Annotated[bool, Meta(description="also copied to where the person will find it")] = False
    only: Annotated[list[Text], Meta(description='only files with such names, e.g. ["*.pdf"]')] = field(default_factory=list)
    not_: Annotated[list[Text], Meta(description='no files and folders with such names, e.g. ["cache", "*.tmp"]')] = field(
        default_factory=list, name="not"
    )

    @property
    def written_paths(self) -> list[str]:
        return self.paths

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from path_problems("paths", self.paths, places)
        for key, texts in (("only", self.only), ("not", self.not_)):
            for index, text in enumerate(texts):
                wrong = "is a name, without folders" if "/" in text or "\\" in text else check_glob(text)
                if wrong:
                    yield (key, index), wrong

    def leaves_out(self, path: WPath, look: Look) -> bool:
        """Whether something below what the paths name is not saved."""
        folded = path.style.folded
        if any(name_matches(text, path.name, folded) for text in self.not_):
            return True
        return bool(self.only) and not look.is_folder and not any(name_matches(text, path.name, folded) for text in self.only)


class PathsDelete(NamedPaths, kw_only=True, frozen=True):
    """Delete files and folders: they are set aside."""

    only_if_empty: Annotated[bool, Meta(description="only a folder with nothing in it")] = False
    at_most: Annotated[int, Meta(ge=1, description="how many paths one pattern may match per account")] = 50
    before_uninstall: Annotated[
        bool,
        Meta(description="before anything is uninstalled: big folders that an uninstaller would take long for, or must not take along"),
    ] = False
    even_if_shared: Annotated[bool, Meta(description="also what lies in a folder that packages which stay own; no wildcards")] = False

    @property
    def early(self) -> bool:
        return self.before_uninstall

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        if self.before_uninstall and self.after_restart:
            yield ("before_uninstall",), "is before, but after_restart is later; write one of them"
        for index, text in enumerate(self.paths):
            if self.even_if_shared and is_glob(text):
                yield ("paths", index), "has a wildcard, but even_if_shared is for exact paths"


class PathsVerify(NamedPaths, kw_only=True, frozen=True):
    """Paths that must be gone."""


def found_paths(expanded: Expanded, here: Here, at_most: int = 0) -> list[WPath]:
    """What a pattern matches; empty if nothing.

    Args:
        at_most: if given, far more than these need not be found; that they are too many is certain then.

    Raises:
        LinkOnTheWay, OSError, NotTold: it could not be looked at.
    """
    if expanded.unknown:
        raise NotTold(expanded.unknown, remedy="mend that, then try again")
    if expanded.absent:
        return []
    return list(here.workstation.files.expand(expanded.volume, expanded.pattern, 100 * at_most))
