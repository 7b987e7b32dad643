"""What a procedure says of packages."""

from typing import Annotated, Literal

from msgspec import Meta

from kleff.objects.base.own import AT_MOST, AtMost
from kleff.procedure.model import Step, Text, Texts

Names = Annotated[Text | Texts, Meta(description="name or names of packages; * and ? are wildcards")]
CameAlong = Literal["these", "all", "none"]


class Packages(Step, kw_only=True, frozen=True):
    """A step that names packages."""

    package: Names

    @property
    def names(self) -> list[str]:
        return [self.package] if isinstance(self.package, str) else self.package


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
