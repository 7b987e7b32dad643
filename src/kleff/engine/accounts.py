"""Working for some accounts alone: whose they are, and whose things nobody looks at then."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from difflib import get_close_matches
from typing import Protocol, TypeVar

from kleff.case.guard.kept import Kept
from kleff.errors import UsageError
from kleff.objects.base.here import Here, Options
from kleff.objects.base.resolve import Resolver
from kleff.procedure.globs import fold
from kleff.procedure.loaded import Procedure
from kleff.workstation.facets import Workstation
from kleff.workstation.things import Account


class _OfAccount(Protocol):
    account: str


Of = TypeVar("Of", bound=_OfAccount)


def named(workstation: Workstation, options: Options) -> Options:
    """The same, with accounts as they are called here.

    Raises:
        UsageError: one is not here.
    """
    if not options.accounts:
        return options
    known = {fold(a.name): a.name for a in workstation.accounts.all()}
    for name in options.accounts:
        if fold(name) not in known:
            meant = next(iter(get_close_matches(name, list(known.values()), 1)), "")
            raise UsageError(
                f"there is no account {name!r} on {workstation.name}{f'; did you mean {meant}?' if meant else ''}", where=workstation.spec,
                remedy="name an account with --account, or leave it out to work for all",
            )  # fmt: skip
    return replace(options, accounts=frozenset(known[fold(name)] for name in options.accounts))


def left_out(here: Here) -> list[Account]:
    """The ordinary accounts that nobody looks at."""
    wanted = here.options.accounts
    return [a for a in here.workstation.accounts.all() if a.ordinary and a.name not in wanted] if wanted else []


def for_all(here: Here, procedure: Procedure) -> Here:
    """The same for every account: what has to stay stays whoever is looked at."""
    return replace(here, resolver=Resolver(here.workstation, procedure))


def keep_left_out(here: Here, kept: Kept) -> None:
    """Nothing in the home of an account that nobody looks at is touched, whatever names it."""
    kept.places += [(a.home, f"of {a.name}, an account that was not named with --account") for a in left_out(here) if a.home.parts]


def looked_at(found: Iterable[Of], here: Here) -> Iterator[Of]:
    """Of what was found, all that is not of an account which is left out. What an administrator's own account runs is the workstation's."""
    theirs = {a.name for a in left_out(here) if a.uid != 0}
    return (one for one in found if one.account not in theirs)
