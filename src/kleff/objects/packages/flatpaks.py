"""Flatpaks: uninstalled for everybody and for each account, with what came along; installed again from a bundle."""

from collections.abc import Iterator
from typing import Annotated, Literal

from msgspec import Meta, Struct

from kleff.objects.base.action import ABSENT, REFUSED, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import pattern_objection, refuse
from kleff.procedure.globs import name_matches
from kleff.procedure.load import LoadedStep
from kleff.procedure.model import AccountStep, Step, Text, Texts
from kleff.workstation.flatpak_facet import Flatpak, named
from kleff.workstation.identity import NameId

CAME_ALONG = "came along"


class _Flatpaks(AccountStep, kw_only=True, frozen=True):
    flatpak: Annotated[Text, Meta(description="name of the application or runtime; * and ? are wildcards")]


class FlatpakEvidence(_Flatpaks, kw_only=True, frozen=True):
    """A flatpak that is installed, for everybody or by an account."""


class FlatpakPurge(_Flatpaks, kw_only=True, frozen=True):
    """Uninstall a flatpak, with its own extensions."""

    allows: Annotated[Texts, Meta(description="applications that run on it and go with it; any other refuses the run")] = []
    came_along: Annotated[
        Literal["these", "none"], Meta(description="the runtimes it ran on, which nothing else needs and nobody has pinned")
    ] = "none"


class FlatpakVerify(_Flatpaks, kw_only=True, frozen=True):
    """A flatpak that must be gone."""


class Agreed(Struct, kw_only=True):
    """What goes in one action, in this order."""

    going: list[Flatpak]


class FlatpakKind(Kind):
    """`flatpak`."""

    names = ("flatpak",)
    systems = ("linux",)
    condition = "A flatpak that must, or must not, be installed."
    models: dict[str, type[Step]] = {"evidence": FlatpakEvidence, "purge": FlatpakPurge, "verify": FlatpakVerify}

    def words(self, phase: str) -> Words:
        return Words("Uninstalled", ("flatpak", "flatpaks"), sized=True)

    def look(self, step: LoadedStep, here: Here) -> Iterator[Sighting]:
        for one, _ in _found(step, here):
            yield Sighting(
                kind="flatpak", what=one.name, about=_id(one), version=one.version, where=_where(one), account=one.account, line=step.line,
                in_range=here.version_in_range(one.version, one.name), component=True,
            )  # fmt: skip

    def plan(self, step: LoadedStep, here: Here) -> Iterator[Action]:
        model = step.model
        assert isinstance(model, _Flatpaks)
        verb, any_there = "purge" if step.phase == "purge" else "look for", False
        for one, others in _found(step, here):
            any_there = True
            action = self._about(step, here, verb, [one])
            if not here.version_in_range(one.version, one.name):
                action.keep(f"version {one.version} is outside {here.procedure.product.versions}")
            elif isinstance(model, FlatpakPurge):
                yield from self._planned(step, model, here, action, one, others)
                continue
            yield action
        if not any_there:
            reason = "not installed" if here.workstation.flatpaks else "this workstation has no flatpaks"
            yield here.action(step, verb, f"flatpak {model.flatpak}", state=ABSENT, reason=reason)

    def _about(self, step: LoadedStep, here: Here, verb: str, going: list[Flatpak]) -> Action:
        names = ", ".join(f"{one.name} {one.version}".strip() for one in going)
        accounts, about = {one.account for one in going}, [_id(one) for one in going]
        action = here.action(
            step, verb, f"flatpak {names}", account=accounts.pop() if len(accounts) == 1 else "", about=about, items=len(going),
            undo="installed again from its bundle, without network",
        )  # fmt: skip
        action.size = sum(one.size for one in going)
        action.set_details(Agreed(going=going))
        return action

    def _planned(
        self, step: LoadedStep, model: FlatpakPurge, here: Here, action: Action, one: Flatpak, others: list[Flatpak]
    ) -> Iterator[Action]:
        users = [o for o in others if o.runs_on == one.ref]
        with_it = [o for o in users if any(name_matches(a, o.name, True) for a in model.allows)]
        refuse(action, pattern_objection(model.flatpak))
        if len(users) > len(with_it) and action.state != REFUSED:
            listed = ", ".join(o.name for o in users if o not in with_it)
            refuse(action, f"{listed} run{'' if ',' in listed else 's'} on it and would go too; let them go:  allows = [...]")
        if action.state == REFUSED:
            yield action
            return
        going = [*with_it, *_with_extensions([one], others)]
        action = self._about(step, here, action.verb, going)
        action.shows += [f"would not work any more, and goes too: {', '.join(o.name for o in with_it)}"] if with_it else []
        yield action
        along = _came_along(going, others)
        if not along:
            return
        more = self._about(step, here, action.verb, along)
        more.label, more.because = more.label or CAME_ALONG, "it came along with it, and nothing needs it then"
        if model.came_along == "none":
            more.keep('nothing says that they go:  came_along = "these"')
        yield more

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.packages.flatpak_removed import remove_flatpak

        removed = []
        for one in action.details_as(Agreed).going:
            now = [o for o in _installed(work.here, one.account) if o.ref == one.ref]
            if now:
                remove_flatpak(work.hands, action.number, now[0])
                removed += now
        if not removed:
            return Outcome(note="already gone")
        return Outcome(items=len(removed), size=sum(one.size for one in removed), note="saved as a bundle first")

    def needs_rights(self, action: Action, here: Here) -> bool:
        return not action.account

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, FlatpakPurge) and (why := pattern_objection(step.model.flatpak)):
            yield f"flatpak {step.model.flatpak}: {why}; name the product's own"


def _installed(here: Here, account: str) -> list[Flatpak]:
    """What an account has installed; for everybody where it is ""."""
    flatpaks = here.workstation.flatpaks
    if flatpaks is None:
        return []
    if not account:
        return flatpaks.of_all()
    whose = named(here.workstation.accounts.all(), account)
    return flatpaks.of_account(whose) if whose else []


def _found(step: LoadedStep, here: Here) -> Iterator[tuple[Flatpak, list[Flatpak]]]:
    """What a step means, each with all of the same installation that could need it, or it."""
    model = step.model
    assert isinstance(model, _Flatpaks)
    wanted = {a.name for a in here.resolver.accounts(model.accounts)} | (set() if model.accounts else {""})
    everywhere = [one for name in ("", *(a.name for a in here.workstation.accounts.all())) for one in _installed(here, name)]
    for one in everywhere:
        if one.account in wanted and name_matches(model.flatpak, one.name, False):
            # Any account's application may run on a runtime that is everybody's, never the other way round.
            yield one, [o for o in everywhere if o.account == one.account or not one.account]


def _with_extensions(going: list[Flatpak], others: list[Flatpak]) -> list[Flatpak]:
    """Extensions follow what they extend, so that none is in use when it goes."""
    return [*going, *(o for o in others if o not in going and any(o.extends(one) for one in going))]


def _came_along(going: list[Flatpak], others: list[Flatpak]) -> list[Flatpak]:
    """The runtimes that they ran on and nothing that stays does."""
    wanted, needed = {o.runs_on for o in going}, {o.runs_on for o in others if o not in going}
    of_theirs = {one.account for one in going}
    alone = [o for o in others if o.ref in wanted - needed and not o.pinned and o.account in of_theirs and o not in going]
    return _with_extensions(alone, [o for o in others if o not in going])


def _where(one: Flatpak) -> str:
    return f"a flatpak of {one.account}" if one.account else "a flatpak for everybody"


def _id(one: Flatpak) -> NameId:
    return NameId("flatpak", one.ref, one.account)
