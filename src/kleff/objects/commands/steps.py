"""How steps name programs."""

import unicodedata
from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta, field

from kleff.procedure.model import SavingStep, Step, Text, Texts
from kleff.procedure.texts import Problem, duration_problem
from kleff.procedure.variables import BadTemplate, parse_template

ITEM, SAVED, CHOSEN = "{item}", "{saved}", "{chosen}"
BY_INPUT = "standard input"


def item_problem(item: str) -> str:
    """Why the name of one thing cannot be given to a program as an argument; "" if it can."""
    if item.startswith("-"):
        return "the program could take its name for an option"
    if any(c in "/\\" or unicodedata.category(c) == "Cc" for c in item):
        return "its name has a separator or a control character"
    return ""


class CommandBackup(SavingStep, kw_only=True, frozen=True):
    """Save what a program exports on its standard output."""

    command: Annotated[Texts, Meta(description="program and arguments, no shell; with {item} one export for each thing that `lists` tells")]
    saves_as: Annotated[Text, Meta(description="name of the file in the bag; with {item} where the command has it")]
    lists: Annotated[list[Text], Meta(description="program and arguments that list what there is; no output: nothing to save")] = field(
        default_factory=list
    )
    restore: Annotated[
        list[Text], Meta(description="program and arguments that take it in again: from standard input, or from the file {saved}")
    ] = field(default_factory=list)
    secret: Annotated[str, Meta(description="what it needs to be told, e.g. database password; asked for, never stored")] = ""
    secret_as: Annotated[str, Meta(description='the environment variable it is handed on by, or "standard input"')] = BY_INPUT
    patience: Annotated[str, Meta(description="how long it may take")] = "10m"

    @property
    def written_paths(self) -> list[str]:
        return [*self.command[:1], *self.lists[:1], *self.restore[:1]]

    @property
    def need(self) -> tuple[str, str]:
        """(name of the secret, how it is handed on); empty if none is needed."""
        return (self.secret, self.secret_as) if self.secret else ("", "")

    @property
    def needs_secret(self) -> str:
        return self.secret

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        yield from duration_problem("patience", self.patience)
        for key, words in (("command", self.command), ("lists", self.lists), ("restore", self.restore)):
            for index, word in enumerate(words):
                if index == 0 or (word.startswith("{") and not word.startswith((ITEM, SAVED))):
                    try:
                        parse_template(word, places)
                    except BadTemplate as error:
                        yield (key, index), str(error)
        if "/" in self.saves_as or "\\" in self.saves_as:
            yield ("saves_as",), "is a file name, without folders"
        each = any(ITEM in word for word in self.command)
        if each and not self.lists:
            yield ("command",), f"{ITEM} needs  lists  to tell what there is"
        if each != (ITEM in self.saves_as):
            yield ("saves_as",), f"{ITEM} stands in both command and saves_as, or in neither"
        if self.secret and self.secret_as == BY_INPUT and self.restore and not any(SAVED in word for word in self.restore):
            yield ("secret_as",), f"standard input is needed for the data; name an environment variable, or use {SAVED} in restore"


class CommandRun(Step, kw_only=True, frozen=True):
    """What every command that is run for what it does has in common."""

    command: Annotated[Texts, Meta(description="program and arguments, no shell")]
    secret: Annotated[str, Meta(description="what it needs to be told; asked for, never stored")] = ""
    secret_as: Annotated[str, Meta(description='the environment variable it is handed on by, or "standard input"')] = BY_INPUT
    patience: Annotated[str, Meta(description="how long it may take")] = "2m"
    ok: Annotated[list[int], Meta(description="exit codes that mean: done")] = field(default_factory=lambda: [0])
    restart: Annotated[list[int], Meta(description="exit codes that mean: done, and the workstation must be restarted")] = field(
        default_factory=list
    )
    absent: Annotated[list[int], Meta(description="exit codes that mean: there was nothing to do")] = field(default_factory=list)

    @property
    def written_paths(self) -> list[str]:
        return self.command[:1]

    @property
    def fine(self) -> tuple[int, ...]:
        """The exit codes that are no failure."""
        return (*self.ok, *self.restart, *self.absent)

    @property
    def final(self) -> bool:
        """Whether what it does cannot be taken back."""
        return False

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from duration_problem("patience", self.patience)
        if len(self.fine) != len(set(self.fine)):
            yield (), "an exit code stands in one of ok, restart and absent alone"
        try:
            parse_template(self.command[0], places)
        except BadTemplate as error:
            yield ("command", 0), str(error)

    @property
    def need(self) -> tuple[str, str]:
        """(name of the secret, how it is handed on); empty if none is needed."""
        return (self.secret, self.secret_as) if self.secret else ("", "")

    @property
    def needs_secret(self) -> str:
        return self.secret


class CommandStop(CommandRun, kw_only=True, frozen=True):
    """Run a command of the product: its own quit, its sign-out, the release of a licence seat."""

    without_return: Annotated[bool, Meta(description="what it does cannot be taken back: marked so, and before anything is removed")] = (
        False
    )
    releases: Annotated[
        str, Meta(description="what it gives back to the vendor, e.g. a licence seat; if that fails one may go on, with a note for them")
    ] = ""

    @property
    def final(self) -> bool:
        return self.without_return

    @property
    def owed(self) -> str:
        return self.releases


class CommandAfter(CommandRun, kw_only=True, frozen=True):
    """Run a command once all is done: a check of the system's files, a refresh of what it has cached."""


class CommandUninstall(CommandRun, kw_only=True, frozen=True):
    """Run a vendor's removal tool. It is never run twice; what it removes of the product is brought back from the spare."""

    patience: Annotated[str, Meta(description="how long it may take; never cut off earlier, nor after")] = "45m"
    restart: Annotated[list[int], Meta(description="exit codes that mean: done, and the workstation must be restarted")] = field(
        default_factory=lambda: [3010, 1641]
    )
    lists: Annotated[
        list[Text], Meta(description="program and arguments that list what it can remove, a line each; chosen from in a question")
    ] = field(default_factory=list)

    @property
    def written_paths(self) -> list[str]:
        return [*self.command[:1], *self.lists[:1]]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        yield from super().problems(places)
        if bool(self.lists) != (CHOSEN in self.command):
            yield ("lists",) if self.lists else ("command",), f"{CHOSEN} in command stands for what is chosen of what  lists  tells"
        if self.lists and not self.chosen:
            yield ("lists",), 'name the question in which it is chosen:  chosen = "ID", with  from = "lists"'
        if self.lists:
            try:
                parse_template(self.lists[0], places)
            except BadTemplate as error:
                yield ("lists", 0), str(error)


class CommandVerify(Step, kw_only=True, frozen=True):
    """A command that must be found no more: by the search path, nor where an account has its own programs (~/.local/bin, ~/bin)."""

    command_missing: Text
