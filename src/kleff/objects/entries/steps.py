"""How steps name products that are registered as installed, and say how these are removed."""

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, field

from kleff.procedure.globs import is_glob, literal_count
from kleff.procedure.model import Section, Step, Text
from kleff.procedure.texts import NewestProblem, Problem, duration_problem
from kleff.procedure.variables import BadTemplate, parse_template

FEWEST = 2  # letters besides wildcards; names of products are short at times
GUID = r"^\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$"
Patience = Annotated[str, Meta(description="how long it may take, e.g. 45m; never cut off earlier, nor after")]
Codes = Annotated[list[int], Meta(description="exit codes that mean: done")]
Restarts = Annotated[list[int], Meta(description="exit codes that mean: done, and the workstation must be restarted")]


def _means_all(pattern: str) -> bool:
    """Whether hardly a letter says what is meant."""
    return is_glob(pattern) and literal_count(pattern) < FEWEST


def program_problem(key: str, words: list[str], places: Collection[str]) -> Iterator[Problem]:
    """What is wrong with the variables of a program and its arguments."""
    for index, word in enumerate(words):
        if index == 0 or word.startswith("{"):
            try:
                parse_template(word, places)
            except BadTemplate as error:
                yield (key, index), str(error)


class Otherwise(Section, kw_only=True, frozen=True):
    """Another way to remove a product, taken only if those before it have failed: a command, or the removal without its uninstaller."""

    command: Annotated[list[Text], Meta(description="program and arguments, no shell; variables may stand in them")] = field(
        default_factory=list
    )
    without_uninstaller: Annotated[bool, Meta(description="its folder is set aside, and its registration removed")] = False
    ok: Codes = field(default_factory=lambda: [0])
    restart: Restarts = field(default_factory=lambda: [3010, 1641])
    patience: Patience = "45m"

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if bool(self.command) == self.without_uninstaller:
            yield (), "another way is either a  command = [...]  or  without_uninstaller = true"
        yield from duration_problem("patience", self.patience)
        yield from program_problem("command", self.command, places)
        if set(self.ok) & set(self.restart):
            yield ("restart",), "an exit code stands in ok or in restart, not in both"


class Removing(Step, kw_only=True, frozen=True):
    """How a registered product is removed, however the step names it."""

    patience: Annotated[str, Meta(description="how long it may take, e.g. 45m; never cut off earlier")] = "45m"
    quiet: Annotated[
        list[Text], Meta(description="program and arguments that remove it without a question, instead of what is registered")
    ] = field(default_factory=list)
    also_removes: Annotated[list[Text], Meta(description="arguments with which its uninstaller removes more, e.g. a person's settings")] = (
        field(default_factory=list)
    )
    otherwise: Annotated[
        Otherwise | list[Otherwise], Meta(description="other ways, in order, each only if those before it have failed")
    ] = field(default_factory=list)
    stops_first: Annotated[
        list[Text], Meta(description="programs that are ended before; and if it refuses and one runs again, twice more at most")
    ] = field(default_factory=list)
    refuses: Annotated[list[int], Meta(description="exit codes by which it says that it refuses")] = field(default_factory=list)
    source: Annotated[str, Meta(description="its installer package, with which it is repaired where the system's own copy is missing")] = ""
    attended: Annotated[bool, Meta(description="it asks in a window: a person answers it, with the guide beside")] = False
    guide: Annotated[list[Text], Meta(description="what that person does, a line each")] = field(default_factory=list)

    @property
    def removes_registered(self) -> bool:
        return True

    @property
    def ways(self) -> list[Otherwise]:
        return self.otherwise if isinstance(self.otherwise, list) else [self.otherwise]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("patience", self.patience)
        yield from program_problem("quiet", self.quiet, places)
        several = isinstance(self.otherwise, list)
        for number, way in enumerate(self.ways):
            for where, text in way.problems(places):
                yield (("otherwise", number, *where) if several else ("otherwise", *where)), text
        if self.source:
            try:
                parse_template(self.source, places)
            except BadTemplate as error:
                yield ("source",), str(error)
        if self.guide and not self.attended:
            yield ("guide",), "a guide is for a person who answers; add  attended = true"
        if self.attended and (self.also_removes or self.stops_first):
            yield ("attended",), "a person answers it: also_removes and stops_first are for one that runs by itself"


class Named(Step, kw_only=True, frozen=True):
    """A product by the name and the publisher that are registered."""

    entry: Annotated[Text, Meta(description="name as registered; * and ? are wildcards")]
    publisher: Annotated[str, Meta(description="publisher as registered; * and ? are wildcards")] = ""


class EntryEvidence(Named, kw_only=True, frozen=True):
    """A product registered as installed."""


class EntryVerify(Named, kw_only=True, frozen=True):
    """A product that must not be registered any more."""


class Ordered(Removing, kw_only=True, frozen=True):
    """Several products at once, and which of them come first and last."""

    parts_first: Annotated[list[Text], Meta(description="names of those that come first, in this order; * and ? are wildcards")] = field(
        default_factory=list
    )
    last: Annotated[list[Text], Meta(description="names of those that come last, in this order")] = field(default_factory=list)


class EntryUninstall(Ordered, kw_only=True, frozen=True):
    """Run the registered uninstaller, quietly."""

    entry: Annotated[Text, Meta(description="name as registered; * and ? are wildcards")]
    publisher: Annotated[str, Meta(description="publisher as registered; * and ? are wildcards")] = ""

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        if _means_all(self.entry) and _means_all(self.publisher or "*"):
            yield ("entry",), NewestProblem(f"{self.entry!r} means every product that is registered; write a name, or add its  publisher")


class VendorEvidence(Step, kw_only=True, frozen=True):
    """Anything that a vendor has registered."""

    publisher: Annotated[Text, Meta(description="publisher as registered; * and ? are wildcards")]


class VendorUninstall(Ordered, kw_only=True, frozen=True):
    """Run the registered uninstallers of everything that a vendor has registered."""

    publisher: Annotated[Text, Meta(description="publisher as registered; * and ? are wildcards")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        if _means_all(self.publisher):
            yield ("publisher",), NewestProblem(f"{self.publisher!r} means every product that is registered; write the vendor's name")


class ProductUninstall(Removing, kw_only=True, frozen=True):
    """Remove a product of the system's installer by its code alone, also if its registration is gone or hidden."""

    product_code: Annotated[str, Meta(pattern=GUID, description="with braces, as {11111111-2222-3333-4444-555555555555}")]


class CachedUninstall(Removing, kw_only=True, frozen=True):
    """Remove products of the system's installer by the packages it keeps, which say of themselves what they are; the packages go too."""

    cached_package: Annotated[Text, Meta(description="subject of the package; * and ? are wildcards")]
