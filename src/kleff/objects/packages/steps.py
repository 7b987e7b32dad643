"""What a procedure says of packages."""

from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta

from kleff.objects.base.own import AT_MOST, AtMost
from kleff.procedure.globs import name_matches
from kleff.procedure.model import Step, Text, Texts
from kleff.procedure.texts import Problem, path_problem

Names = Annotated[Text | Texts, Meta(description="name or names of packages; * and ? are wildcards")]
CameAlong = Literal["these", "all", "none"]


class Packages(Step, kw_only=True, frozen=True):
    """A step that names packages."""

    package: Names
    section: Annotated[str, Meta(description='only packages of this section of the archive, e.g. "games"; * and ? are wildcards')] = ""
    from_source: Annotated[str, Meta(description="only packages that this source offers: the name of its file in sources.list.d")] = ""
    owns: Annotated[str, Meta(description="only packages that own this path, or something below it")] = ""

    @property
    def names(self) -> list[str]:
        return [self.package] if isinstance(self.package, str) else self.package

    @property
    def narrowed(self) -> bool:
        """It says by more than a name which packages are meant."""
        return bool(self.from_source or self.owns)

    @property
    def written_paths(self) -> list[str]:
        return [self.owns] if self.owns else []

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.owns and (wrong := path_problem(self.owns, places)):
            yield ("owns",), wrong
        if "/" in self.from_source:
            yield ("from_source",), "is the name of a file in /etc/apt/sources.list.d, without folders"


class PackageEvidence(Packages, kw_only=True, frozen=True):
    """A package that is installed."""


class PackagePurge(Packages, kw_only=True, frozen=True):
    """Remove packages, by default with their configuration."""

    mode: Annotated[Literal["purge", "remove"], Meta(description="remove leaves the configuration files")] = "purge"
    allows: Annotated[Texts, Meta(description="packages that need these and go with them; any other refuses the run")] = []
    came_along: Annotated[
        CameAlong | None,
        Meta(description="of what was installed for these and nothing needs then: what these brought, all that nothing needs, or none"),
    ] = None
    at_most: AtMost = AT_MOST
    even_if_held: Annotated[bool, Meta(description="also packages that an administrator has put on hold")] = False


class PackageVerify(Packages, kw_only=True, frozen=True):
    """Packages that must be gone."""


def source_problem(name: str) -> str:
    """Why a name is no source's; "" if it may be one."""
    if "/" not in name and name.endswith((".list", ".sources")):
        return ""
    return f"{name!r} is not the name of a file in /etc/apt/sources.list.d, ending in .list or .sources"


class ShadowedPurge(Step, kw_only=True, frozen=True):
    """Change packages that came from a source, and that no step purges, to the newest version that the other sources have. It is done
    while the source is still there; a `[[delete]] source` takes it away afterwards.
    """

    shadowed_by: Annotated[Text, Meta(description="name of its file in /etc/apt/sources.list.d")]
    packages: Annotated[Texts, Meta(description="only these; * and ? are wildcards; empty for all")] = []
    even_if_held: Annotated[bool, Meta(description="also packages that an administrator has put on hold")] = False

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if wrong := source_problem(self.shadowed_by):
            yield ("shadowed_by",), wrong

    def means(self, name: str) -> bool:
        """Whether a package of the source is one of those it changes."""
        return not self.packages or any(name_matches(pattern, name, False) for pattern in self.packages)
