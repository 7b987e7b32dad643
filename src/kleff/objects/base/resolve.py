"""From a path as the procedure writes it to globs on this workstation: variables, places and accounts put in."""

from collections.abc import Collection, Iterator
from dataclasses import dataclass, replace
from difflib import get_close_matches
from itertools import takewhile

from kleff.case.guard.guard import Target
from kleff.errors import NotTold
from kleff.procedure.globs import PathStyle, is_glob, literal, literal_count
from kleff.procedure.loaded import Procedure
from kleff.procedure.variables import Template, as_written, parse_template
from kleff.workstation.facets import Workstation
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account


@dataclass(frozen=True)
class Expanded:
    """One meaning of a path text here.

    Attributes:
        text: for people, with the variable put in.
        pattern: glob parts below the volume; names from a variable are literal. Empty if `absent` or `unknown` says why.
        account: whose variable it hangs on.
        base: what the variable stands for.
        absent: why such a workstation cannot have it.
        unknown: why it cannot be told where that is: nobody has looked there.
    """

    text: str
    volume: str = ""
    pattern: tuple[str, ...] = ()
    account: Account | None = None
    variable: str = ""
    base: WPath | None = None
    absent: str = ""
    unknown: str = ""

    @property
    def is_glob(self) -> bool:
        return any(is_glob(p) for p in self.pattern)

    def literal_path(self, style: PathStyle) -> WPath:
        """The one path it means, where it has no wildcard; links on the way are not followed."""
        return WPath(style, self.volume, tuple(literal(name) for name in self.pattern))


class Resolver:
    """Puts a workstation's folders and accounts into a procedure's paths.

    Args:
        only: the names of the accounts that are looked at; none for all.
    """

    def __init__(self, workstation: Workstation, procedure: Procedure, only: Collection[str] = ()) -> None:
        self.workstation = workstation
        self._places = procedure.places
        self._all = workstation.accounts.all()
        self._looked_at = [a for a in self._all if a.name in only] if only else self._all
        self._last: tuple[WPath | None, int] = (None, 0)

    def accounts(self, named: list[str]) -> list[Account]:
        """The accounts a step concerns: the ordinary ones, or those it names."""
        if not named:
            return [a for a in self._looked_at if a.ordinary]
        wanted = {n.lower() for n in named}
        return [a for a in self._looked_at if a.name.lower() in wanted or a.id.lower() in wanted]

    def not_here(self, named: list[str]) -> list[tuple[str, str]]:
        """The accounts a step names that are not here, each with the name that was perhaps meant, or ""."""
        known = {text.lower() for a in self._all for text in (a.name, a.id)}
        names = [a.name for a in self._all]
        return [(n, next(iter(get_close_matches(n, names, 1)), "")) for n in named if n.lower() not in known]

    def account(self, id: str) -> Account | None:
        """The account with this id (uid or SID)."""
        return next((a for a in self._all if a.id == id), None)

    def expand(self, text: str, accounts: list[str] | None = None) -> Iterator[Expanded]:
        """Every meaning of a path text, one per account and per folder a variable stands for.

        Raises:
            NotTold: where one of them is cannot be told.
        """
        for found in self.meanings(text, accounts):
            if found.unknown:
                raise NotTold(found.unknown, remedy="mend that, then try again")
            yield found

    def meanings(self, text: str, accounts: list[str] | None = None) -> Iterator[Expanded]:
        """The same, with those of which it cannot be told where they are."""
        template = parse_template(text, self._places)
        if template.variable.startswith("place."):
            for inner in self._places[template.variable[6:]]:
                for found in self.meanings(inner, accounts):
                    yield self._long(self._append(found, template))
        elif template.per_account:
            for account in self.accounts(accounts or []):
                yield self._of_account(template, account)
        elif template.variable:
            yield from self._of_system(template)
        else:
            yield self._long(self._absolute(template))

    def folder_of(self, account: Account, variable: str) -> WPath | NotTold | None:
        """What `{user...}` means for an account, or why that cannot be told; None if such a system has none."""
        try:
            return self.workstation.accounts.folder(account, variable)
        except NotTold as error:
            return error

    def _of_account(self, template: Template, account: Account) -> Expanded:
        base = self.folder_of(account, template.variable)
        if isinstance(base, NotTold):
            return Expanded(template.text, account=account, variable=template.variable, unknown=base.what)
        return self._long(self._join(template, base, account))

    def _of_system(self, template: Template) -> Iterator[Expanded]:
        try:
            folders = self.workstation.variables.folders(template.variable)
        except NotTold as error:
            yield Expanded(template.text, variable=template.variable, unknown=error.what)
            return
        for base in folders:
            yield self._long(self._join(template, base, None))
        if not folders:
            yield self._join(template, None, None)

    def _long(self, found: Expanded) -> Expanded:
        """With the long names of what is called by short ones, as far as no wildcard comes before."""
        names = tuple(literal(name) for name in takewhile(lambda part: not is_glob(part), found.pattern))
        style, files = self.workstation.style, self.workstation.files
        if not style.folded or not any("~" in name for name in names):
            return found
        path = files.path(str(WPath(style, found.volume, names)))
        pattern = (*_literal(path.parts), *found.pattern[len(names) :]) if path is not None else found.pattern
        return replace(found, text=style.join(found.volume, pattern), pattern=pattern)

    def _absolute(self, template: Template) -> Expanded:
        style = self.workstation.style
        split = style.split(template.rest)
        if split is None:
            return Expanded(template.text, absent=f"not a path of a {self.workstation.system} workstation")
        if split[0] not in self.workstation.files.volumes:
            return Expanded(template.text, absent=f"the workstation has no volume {split[0]}")
        return Expanded(style.join(*split), split[0], split[1])

    def _join(self, template: Template, base: WPath | None, account: Account | None) -> Expanded:
        root = base is not None and not base.parts and template.variable != "env.SystemDrive"  # which is a root by its nature
        if base is None or root:
            absent = f"{as_written(template.variable)} is not set here"
            return Expanded(template.text, account=account, variable=template.variable, absent=absent)
        found = Expanded(str(base), base.volume, _literal(base.parts), account, template.variable, base)
        return self._append(found, template)

    def _append(self, found: Expanded, template: Template) -> Expanded:
        if found.absent or found.unknown:
            return found
        style = self.workstation.style
        if not style.drives and "\\" in template.rest:
            return Expanded(
                template.text, account=found.account, absent=f"written for Windows, not for a {self.workstation.system} workstation"
            )
        parts = style.relative(template.rest) or ()
        pattern = found.pattern + parts
        text = style.join(found.volume, pattern)
        return Expanded(text, found.volume, pattern, found.account, found.variable, found.base)

    def target(self, expanded: Expanded, path: WPath) -> Target:
        """The guard's view of a path that an expanded text led to."""
        names = list(takewhile(lambda part: not is_glob(part), expanded.pattern))
        literal_names = len(path.parts)
        if len(names) < len(expanded.pattern):
            # Links on the way may have changed the length of the part before the first wildcard.
            literal_names = self._depth(WPath(path.style, path.volume, (*(literal(n) for n in names), "-"))) - 1
        return Target(path, literal_names, literal_count(expanded.pattern[-1]) if expanded.pattern else 0, expanded.account, expanded.base)

    def _depth(self, path: WPath) -> int:
        """How many names a path has once its links are resolved; of the last that was asked, as it was then."""
        if self._last[0] != path:
            self._last = path, len(self.workstation.files.resolve(path).path.parts)
        return self._last[1]

    def first_path(self, text: str) -> WPath | None:
        """The first existing path a text without wildcards means, links resolved."""
        for expanded in self.expand(text):
            if not expanded.absent and not expanded.is_glob:
                for path in self.workstation.files.expand(expanded.volume, expanded.pattern):
                    return path
        return None


def _literal(parts: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(p.replace("[", "[[]").replace("*", "[*]").replace("?", "[?]") for p in parts)
