"""The models of the procedure's own sections, and what every step has in common."""

import datetime as dt
from collections.abc import Collection, Iterator
from typing import Annotated, Literal

from msgspec import Meta, Struct, field, structs

from kleff.procedure.conditions import FACTS
from kleff.procedure.texts import Problem, duration_problem, path_problem, path_problems
from kleff.procedure.versions import VersionRange, parse_range

Text = Annotated[str, Meta(min_length=1)]
Texts = Annotated[list[Text], Meta(min_length=1)]


class Section(Struct, kw_only=True, forbid_unknown_fields=True, frozen=True):
    """A table of the procedure."""

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        """What is wrong beyond the types: (address inside the table, message)."""
        return iter(())


class Product(Section, kw_only=True, frozen=True):
    """What the procedure is about."""

    id: Annotated[str, Meta(pattern=r"^[a-z0-9][a-z0-9-]*$", description="short name, a-z 0-9 and -")]
    name: Text
    vendor: str = ""
    versions: Annotated[str, Meta(description="only these are touched, e.g. >=4,<5")] = ""
    reviewed: dt.date | None = None
    on: Annotated[list[Literal["windows", "linux", "macos"]], Meta(description="the systems it is for; else its steps show that")] = field(
        default_factory=list
    )
    needs: Annotated[str, Meta(description='the Kleff it is written for, e.g. ">=0.2"; an older one says that it is too old')] = ""
    restart: Literal["if-needed", "always", "never"] = "if-needed"
    documents: Annotated[list[Text], Meta(description='names of files that people make with it, e.g. ["*.tagdesign"]')] = field(
        default_factory=list
    )

    @property
    def range(self) -> VersionRange:
        return parse_range(self.versions)

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        for key, text in (("versions", self.versions), ("needs", self.needs)):
            try:
                parse_range(text)
            except ValueError as error:
                yield (key,), str(error)


class Keep(Section, kw_only=True, frozen=True):
    """What is never removed, whichever step would reach it."""

    paths: list[Text] = field(default_factory=list)

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from path_problems("paths", self.paths, places)


class Ask(Section, kw_only=True, frozen=True):
    """A question whose answer changes what is done."""

    id: Annotated[str, Meta(pattern=r"^[a-z0-9][a-z0-9-]*$", description="short name that steps refer to")]
    question: Text
    type: Annotated[Literal["yes-no", "one", "some"], Meta(description="yes or no, one of the choices, or any number of them")] = "yes-no"
    choices: Annotated[list[Text], Meta(description="for one and some")] = field(default_factory=list)
    from_: Annotated[
        Literal["accounts", "versions", "components", "lists"] | None,
        Meta(description="the choices are what is found: accounts that use it, versions or components, or what a removal tool lists"),
    ] = field(default=None, name="from")
    default: Annotated[bool | str | list[str] | None, Meta(description='without one it must be answered; with from: "all" or "none"')] = (
        None
    )

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.id in FACTS:
            yield ("id",), f"{self.id!r} is the name of a fact"
        if self.from_ is not None:
            yield from self._found_problems()
            return
        if self.type == "yes-no" and self.choices:
            yield ("choices",), 'a yes-no question has no choices; add  type = "one"  or  "some"'
        if self.type != "yes-no" and len(self.choices) < 2:
            yield ("choices",) if self.choices else (), f"type = {self.type!r} needs at least two choices"
        kinds = {"yes-no": bool, "one": str, "some": list}
        if self.default is not None and not isinstance(self.default, kinds[self.type]):
            wanted = {"yes-no": "true or false", "one": "one of the choices", "some": "a list of choices"}[self.type]
            yield ("default",), f"the default of type = {self.type!r} is {wanted}"
        elif isinstance(self.default, str | list):
            for value in [self.default] if isinstance(self.default, str) else self.default:
                if value not in self.choices:
                    yield ("default",), f"{value!r} is none of the choices"

    def _found_problems(self) -> Iterator[Problem]:
        if self.type == "yes-no":
            yield ("from",), 'what is found is chosen from with  type = "one"  or  "some"'
        if self.choices:
            yield ("choices",), "are what is found; leave them out"
        if self.default not in (None, "all", "none") or (self.type == "one" and self.default is not None):
            yield ("default",), 'of what is found is "all" or "none", and there is none with  type = "one"'


class Step(Section, kw_only=True, frozen=True):
    """What every step has in common."""

    label: Annotated[str, Meta(description="name of the step in previews, bags and reports")] = ""
    note: Annotated[str, Meta(description="why the step is there")] = ""
    on: Annotated[Literal["windows", "linux", "macos"] | None, Meta(description="only on this system")] = None
    when: Annotated[str, Meta(description="only with this answer or fact")] = ""
    unless: Annotated[str, Meta(description="not with this answer or fact")] = ""
    chosen: Annotated[str, Meta(description="only the accounts, versions or components chosen in this question")] = ""
    optional: Annotated[bool, Meta(description="a failure is reported and does not stop the run")] = False
    after_restart: Annotated[bool, Meta(description="done once the workstation was restarted")] = False
    together: Annotated[str, Meta(description="of evidence: pieces with the same name count only if all of them are there")] = ""

    # What some kinds of step say and others do not.

    @property
    def written_paths(self) -> list[str]:
        """The paths it names, programs too, as they are written."""
        return []

    @property
    def concerns(self) -> list[str]:
        """The accounts it names."""
        return []

    @property
    def names_accounts(self) -> list[str]:
        """The accounts it means, where it does not mean every ordinary one."""
        return []

    @property
    def only_if_here(self) -> bool:
        """Whether an account that it names may be missing."""
        return False

    def of_account(self, name: str) -> "Step | None":
        """The same for one account alone; None if it concerns no accounts."""
        return None

    @property
    def may_fail(self) -> bool:
        """Whether the run goes on if it fails."""
        return self.optional

    @property
    def saves(self) -> str:
        """What kind of data it saves, if it says so."""
        return ""

    @property
    def after_stop(self) -> bool:
        """Of a step that saves: whether it does so once the product is stopped."""
        return False

    @property
    def early(self) -> bool:
        """Of a step that deletes: whether it does so before anything is uninstalled."""
        return False

    @property
    def synced(self) -> "Synced | None":
        """What would show that its data is in the person's own account elsewhere."""
        return None

    @property
    def needs_secret(self) -> str:
        """The name of a secret it needs, or ""."""
        return ""

    @property
    def expected(self) -> str:
        """Of a condition on something that can be looked for: `there` or `absent`."""
        return ""

    @property
    def may_be_waived(self) -> bool:
        return False

    @property
    def has_proof(self) -> bool:
        """Of a step that a person does: whether something shows that it is done."""
        return False

    @property
    def confirmed_as(self) -> str:
        """The id by which a person confirms that it is done, or ""."""
        return ""

    @property
    def removes_registered(self) -> bool:
        """Whether it uninstalls products that are registered as installed."""
        return False

    @property
    def owed(self) -> str:
        """What the vendor is to be told of if it fails, or ""."""
        return ""


class Synced(Section, kw_only=True, frozen=True):
    """What shows that data is in the person's own account elsewhere already."""

    path: Annotated[Text, Meta(description="a file that the synchronisation writes")]
    newer_than: Annotated[str, Meta(description="how old it may be, e.g. 7d")] = "7d"


class SavingStep(Step, kw_only=True, frozen=True):
    """What every step that saves has in common."""

    kind: Annotated[
        Literal["licence", "user-data", "settings", "logs", "database"] | None,
        Meta(description="what is saved; a bag that may hold a licence is never discarded without a question of its own"),
    ] = None
    stopped: Annotated[bool, Meta(description="save after the stop phase, not before it")] = False
    required: Annotated[bool, Meta(description="nothing is removed if it cannot be saved")] = True
    unless_synced: Annotated[Synced | None, Meta(description="not saved if a sync program has been at work lately")] = None

    @property
    def may_fail(self) -> bool:
        return self.optional or not self.required

    @property
    def saves(self) -> str:
        return self.kind or ""

    @property
    def after_stop(self) -> bool:
        return self.stopped

    @property
    def synced(self) -> Synced | None:
        return self.unless_synced

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if self.unless_synced is not None:
            wrong = path_problem(self.unless_synced.path, places)
            if wrong:
                yield ("unless_synced", "path"), wrong
            yield from ((("unless_synced", *where), text) for where, text in duration_problem("newer_than", self.unless_synced.newer_than))


class SavingAccountStep(SavingStep, kw_only=True, frozen=True):
    """A step that saves, and may concern each account."""

    accounts: Annotated[list[Text], Meta(description="only these accounts, also default, public or system ones")] = field(
        default_factory=list
    )
    if_here: Annotated[bool, Meta(description="an account named here may be missing on a workstation")] = False

    @property
    def names_accounts(self) -> list[str]:
        return self.accounts

    @property
    def only_if_here(self) -> bool:
        return self.if_here


class AccountStep(Step, kw_only=True, frozen=True):
    """A step that may concern each account."""

    accounts: Annotated[list[Text], Meta(description="only these accounts, also default, public or system ones")] = field(
        default_factory=list
    )
    if_here: Annotated[bool, Meta(description="an account named here may be missing on a workstation")] = False

    @property
    def names_accounts(self) -> list[str]:
        return self.accounts

    @property
    def only_if_here(self) -> bool:
        return self.if_here

    @property
    def concerns(self) -> list[str]:
        return self.accounts

    def of_account(self, name: str) -> "Step | None":
        return structs.replace(self, accounts=[name])
