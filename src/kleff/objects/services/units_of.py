"""What a service manager keeps of units besides the files that packages own: units of one's own, drop-ins, links that enable them, masks,
the times at which timers ran, and what the helper of maintainer scripts has noted (systemd.unit(5), systemd.timer(5),
deb-systemd-helper(1p)).
"""

import re
from collections.abc import Iterator
from typing import Annotated

from msgspec import Meta

from kleff.errors import LinkOnTheWay
from kleff.objects.base.action import ABSENT, REFUSED, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Claimed, Kind, Words
from kleff.objects.base.own import AT_MOST, AtMost, pattern_objection, refuse, refuse_own, width_objection
from kleff.objects.base.unreadable import why
from kleff.objects.paths.several import exact, plan_several, still_there
from kleff.procedure.globs import name_matches
from kleff.procedure.loaded import LoadedStep, StepOf
from kleff.procedure.model import AccountStep, Step, Text
from kleff.workstation.files.folders import inside
from kleff.workstation.identity import path_id
from kleff.workstation.paths import WPath
from kleff.workstation.things import Account

TYPES = "service|socket|timer|path|mount|automount|target|slice|swap"
UNIT = re.compile(rf"(?P<name>.+?)\.(?:{TYPES})(?:\.d|\.dsh-also)?\Z")
SYSTEM = (
    "/etc/systemd/system", "/etc/systemd/user", "/usr/local/lib/systemd/system", "/var/lib/systemd/deb-systemd-helper-enabled",
    "/var/lib/systemd/deb-systemd-helper-masked", "/var/lib/systemd/deb-systemd-user-helper-enabled",
    "/var/lib/systemd/deb-systemd-user-helper-masked", "/var/lib/systemd/timers",
)  # fmt: skip
OF_ACCOUNT = ("systemd", "user")  # below an account's own settings
STAMP = "stamp-"
LINKS = (".wants", ".requires")


class UnitsDelete(AccountStep, kw_only=True, frozen=True):
    """Take away what belongs to units and no package owns: own units, drop-ins, links, masks, timer stamps, in every account too."""

    units_of: Annotated[Text, Meta(description="name of the unit without its type, so that its timer and socket are meant too; wildcards")]
    at_most: AtMost = AT_MOST


class UnitsKind(Kind):
    """`units_of`."""

    names = ("units_of",)
    systems = ("linux",)
    models: dict[str, type[Step]] = {"delete": UnitsDelete}

    def words(self, phase: str) -> Words:
        return Words("Set aside", ("item", "items"), total="aside", frees=True)

    def plan(self, step: StepOf[UnitsDelete], here: Here) -> Iterator[Action]:
        model = step.model
        objection = pattern_objection(model.units_of) or here.guard.check_name("service", model.units_of).reason
        if objection:
            yield refuse(here.action(step, "set aside", f"what belongs to the units {model.units_of}"), objection)
            return
        any_there = False
        for account, tops in _tops(here, model):
            action = here.action(step, "set aside", f"what belongs to the units {model.units_of}", account=account.name if account else "")
            try:
                found = list(_found(here, tops, model.units_of))
                if not found:
                    continue
                self._judge(model, here, action, found, account)
            except (OSError, LinkOnTheWay) as error:
                action.state, action.reason = UNREADABLE, why(error)
            any_there = True
            yield action
        if not any_there:
            yield here.action(step, "set aside", f"what belongs to the units {model.units_of}", state=ABSENT, reason="there is nothing")

    def _judge(self, model: UnitsDelete, here: Here, action: Action, found: list[WPath], account: Account | None) -> None:
        units = sorted({_unit(path.name) for path in found})
        refuse(action, width_objection(model.units_of, len(units), model.at_most))
        if action.state != REFUSED:
            refuse_own(action, here, "service", units)
        if action.state == REFUSED:
            return
        going = plan_several(action, here, found, account)
        action.about = [path_id(path) for path in going]
        action.shows += [str(path) for path in going]

    def do(self, action: Action, step: LoadedStep, work: Work) -> Outcome:
        from kleff.case.effects.starting.units_changed import units_changed

        targets = still_there(action, work.here)
        if not targets:
            return Outcome(note="already gone")
        work.progress.start("setting aside", items=action.items)
        units_changed(work.hands, action.number, sorted({_unit(t.path.name) or _unit(t.path.parent.name) for t in targets}), targets)
        return Outcome(items=action.items)

    def claims(self, step: StepOf[UnitsDelete], here: Here) -> Claimed:
        """Each path, so that what packages own of them is known to stay."""
        found = [(path, account) for account, tops in _tops(here, step.model) for path in _found(here, tops, step.model.units_of)]
        return Claimed(targets=[(exact(path, account), True) for path, account in found])

    def always_refused(self, step: LoadedStep, here: Here) -> Iterator[str]:
        if isinstance(step.model, UnitsDelete):
            own = here.guard.check_name("service", step.model.units_of)
            if why := pattern_objection(step.model.units_of) or own.reason:
                yield f"units_of {step.model.units_of}: {why}; name the product's own units"

    def needs_rights(self, action: Action, here: Here) -> bool:
        return not action.account


def _tops(here: Here, model: UnitsDelete) -> Iterator[tuple[Account | None, list[WPath]]]:
    """The folders of the system, then those of each account."""
    files = here.workstation.files
    if not model.accounts:
        yield None, [path for text in SYSTEM if (path := files.path(text)) is not None]
    for account in here.resolver.accounts(model.accounts):
        settings = here.workstation.accounts.folder(account, "user.roaming")
        if settings is not None:
            yield account, [settings.child(*OF_ACCOUNT)]


def _unit(name: str) -> str:
    """A unit's name without its type, of a file that belongs to it; "" if it belongs to none."""
    found = UNIT.match(name.removeprefix(STAMP))
    return found["name"] if found else ""


def _found(here: Here, tops: list[WPath], pattern: str) -> Iterator[WPath]:
    """What belongs to such units; an instance belongs to its template."""
    files = here.workstation.files

    def meant(name: str) -> bool:
        unit = _unit(name)
        return bool(unit) and any(
            name_matches(pattern, text, False) for text in (unit, unit.partition("@")[0], f"{unit.partition('@')[0]}@")
        )

    for top in tops:
        for path in inside(files, top):
            if path.name.endswith(LINKS):
                yield from (link for link in inside(files, path) if meant(link.name))
            elif meant(path.name):
                yield path


KINDS = (UnitsKind(),)
