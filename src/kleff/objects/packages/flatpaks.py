"""Flatpaks: uninstalled for everybody and for each account, with what came along; installed again from a bundle."""

from collections.abc import Iterator
from typing import Annotated, Literal

from msgspec import Meta, Struct

from kleff.objects.base.action import ABSENT, REFUSED, Action, Outcome, Sighting
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Kind, Words
from kleff.objects.base.own import pattern_objection, refuse
from kleff.objects.packages.along import allowed_by, came_along, goes_too, refuse_for
from kleff.objects.paths.several import plan_several, set_aside_several
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Text, Texts
from kleff.workstation.flatpak_facet import Flatpak, named
from kleff.workstation.identity import NameId, path_id
from kleff.workstation.things import Account


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
        return Words("Uninstalled", ("item", "items"), sized=True)

    def look(self, step: StepOf[_Flatpaks], here: Here) -> Iterator[Sighting]:
        for one, _ in _found(step, here):
            yield Sighting(
                kind="flatpak", what=one.name, about=_id(one), version=one.version, where=_where(one), account=one.account, line=step.line,
                in_range=here.version_in_range(one.version, one.name), component=True,
            )  # fmt: skip

    def plan(self, step: StepOf[_Flatpaks], here: Here) -> Iterator[Action]:
        model = step.model
        verb, any_there = "purge" if step.phase == "purge" else "look for", False
        going: list[Flatpak] = []
        for one, others in _found(step, here):
            any_there = True
            action = self._about(step, here, verb, [one])
            if not here.version_in_range(one.version, one.name):
                action.keep(f"version {one.version} is outside {here.procedure.product.versions}")
            elif isinstance(model, FlatpakPurge):
                action, with_it = self._planned(step, model, here, action, one, others)
                going += with_it
            yield action
        if isinstance(model, FlatpakPurge):
            yield from self._along(step, model, here, verb, going)
        yield from self._settings(step, model, here, verb)
        if not any_there:
            reason = "not installed" if here.workstation.flatpaks else "this workstation has no flatpaks"
            yield here.action(step, verb, f"flatpak {model.flatpak}", state=ABSENT, reason=reason, nowhere=not here.workstation.flatpaks)

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
    ) -> tuple[Action, list[Flatpak]]:
        """The action for one, and what goes in it; nothing where it is refused."""
        with_it, left = allowed_by(model.allows, [o for o in others if o.runs_on == one.ref], lambda o: o.name)
        refuse(action, pattern_objection(model.flatpak))
        if refuse_for(action, [o.name for o in left], "runs on it").state == REFUSED:
            return action, []
        going = [*with_it, *_with_extensions([one], others)]
        action = self._about(step, here, action.verb, going)
        goes_too(action, [o.name for o in with_it])
        return action, going

    def _along(self, step: LoadedStep, model: FlatpakPurge, here: Here, verb: str, going: list[Flatpak]) -> Iterator[Action]:
        """What came along, once all that goes is gone: of each installation by itself, since an account cannot change everybody's."""
        along = _came_along(going, list(_everywhere(here))) if going else []
        for whose in dict.fromkeys(one.account for one in along):
            more = self._about(step, here, verb, [one for one in along if one.account == whose])
            came_along(more, model.came_along == "these")
            if model.came_along != "none" and whose == "" and all(one.account for one in going):
                more.keep("it is everybody's, and only an account's application goes")
            yield more

    def _settings(self, step: LoadedStep, model: _Flatpaks, here: Here, verb: str) -> Iterator[Action]:
        """What somebody has set for it beside itself (flatpak-override(1)); that stays when it is uninstalled."""
        flatpaks = here.workstation.flatpaks
        for account in _asked(model, here) if flatpaks else ():
            assert flatpaks is not None
            found = [path for path in flatpaks.settings(account) if name_matches(model.flatpak, path.name, False)]
            if not found:
                continue
            whose = account.name if account else ""
            names = ", ".join(path.name for path in found)
            action = here.action(step, verb, f"settings of {names}", account=whose, about=[path_id(path) for path in found])
            action.label, action.because = action.label or "settings of its own", "what was set for it outlasts it"
            plan_several(action, here, found, account)
            yield action

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        if not any(isinstance(about, NameId) for about in action.about):
            return set_aside_several(action, work)
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


def _everywhere(here: Here) -> Iterator[Flatpak]:
    for name in ("", *(a.name for a in here.workstation.accounts.all())):
        yield from _installed(here, name)


def _asked(model: _Flatpaks, here: Here) -> list[Account | None]:
    """Whose installations a step means; None for everybody's."""
    everybody: list[Account | None] = [] if model.accounts else [None]
    return [*everybody, *here.resolver.accounts(model.accounts)]


def _found(step: StepOf[_Flatpaks], here: Here) -> Iterator[tuple[Flatpak, list[Flatpak]]]:
    """What a step means, each with all of the same installation that could need it, or it."""
    model = step.model
    wanted = {account.name if account else "" for account in _asked(model, here)}
    everywhere = list(_everywhere(here))
    for one in everywhere:
        if one.account in wanted and name_matches(model.flatpak, one.name, False):
            # Any account's application may run on a runtime that is everybody's, never the other way round.
            yield one, [o for o in everywhere if o.account == one.account or not one.account]


def _with_extensions(going: list[Flatpak], others: list[Flatpak]) -> list[Flatpak]:
    """Extensions follow what they extend, so that none is in use when it goes."""
    return [*going, *(o for o in others if o not in going and any(o.extends(one) for one in going))]


def _came_along(going: list[Flatpak], everywhere: list[Flatpak]) -> list[Flatpak]:
    """The runtimes that they ran on and nothing that stays does; an account's application may run on one that is everybody's."""
    staying = [one for one in everywhere if one not in going]
    alone = [
        one for one in staying
        if not one.pinned
        and any(user.runs_on == one.ref and one.account in (user.account, "") for user in going)
        and not any(user.runs_on == one.ref and one.account in (user.account, "") for user in staying)
    ]  # fmt: skip
    found: list[Flatpak] = []
    for one in alone:
        beside = [o for o in staying if o.account == one.account and o not in found]
        found += [o for o in _with_extensions([one], beside) if o not in found]
    return found


def _where(one: Flatpak) -> str:
    return f"a flatpak of {one.account}" if one.account else "a flatpak for everybody"


def _id(one: Flatpak) -> NameId:
    return NameId("flatpak", one.ref, one.account)


KINDS = (FlatpakKind(),)
