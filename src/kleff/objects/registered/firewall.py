"""Rules of the firewall, by their program or by their name."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Annotated

from msgspec import Meta

from kleff.objects.base.here import Here
from kleff.objects.base.staging import Stage, shown_as
from kleff.objects.registered.found import Found, Into, RegisteredKind, Sort, is_path, too_short
from kleff.procedure.globs import name_matches
from kleff.procedure.model import Step, Text
from kleff.procedure.texts import Problem, path_problem
from kleff.registry.registry import Registry

# Each a value "v2.30|Action=Allow|Dir=In|App=C:\...|Name=...|" ([MS-GPFAS] 2.2.2.19, Firewall Rule and the Firewall Rule Grammar Rule).
POLICY = r"HKLM\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy"
# The workstation's own rules, those of packaged apps, and those that an administrator's policy has brought.
RULES = (
    rf"{POLICY}\FirewallRules", rf"{POLICY}\RestrictedServices\AppIso\FirewallRules",
    r"HKLM\SOFTWARE\Policies\Microsoft\WindowsFirewall\FirewallRules",
)  # fmt: skip


class _Firewall(Step, kw_only=True, frozen=True):
    firewall: Annotated[Text, Meta(description="the program, as a path with * and ?, or the rule's name")]

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        wrong = path_problem(self.firewall, places) if is_path(self.firewall) else too_short(self.firewall)
        if wrong:
            yield ("firewall",), wrong


class FirewallDelete(_Firewall, kw_only=True, frozen=True):
    """Delete rules of the firewall that a product has made."""

    at_most: Annotated[int, Meta(ge=1, description="how many rules")] = 50


class FirewallVerify(_Firewall, kw_only=True, frozen=True):
    """Rules that must be gone."""


def _stage(model: _Firewall, stage: Stage) -> None:
    program = next(iter(stage.named(model.firewall)), "") if is_path(model.firewall) else rf"{stage.home}\sample.exe"
    stage.add("firewall", name="Sample rule" if is_path(model.firewall) else shown_as(model.firewall), program=program)


def _find(model: _Firewall, registry: Registry, here: Here) -> Iterator[Found]:
    into = Into(here, [model.firewall]) if is_path(model.firewall) else None
    for key in (key for text in RULES for key in registry.canonical(text)):
        for value in registry.values(key):
            told = dict(part.partition("=")[::2] for part in value.text.split("|"))
            name, program = told.get("Name", ""), told.get("App", "")
            if into.leads(program) if into is not None else name_matches(model.firewall, name, True):
                how = f"{told.get('Action', '')} {told.get('Dir', '')}".strip().lower()
                yield Found(name or value.name, values=((key, value.name),), shows=(f"{how}, {program or 'any program'}",))


FIREWALL = Sort("firewall", ("firewall rule", "firewall rules"), FirewallDelete, FirewallVerify, _find, _stage)


KINDS = (RegisteredKind(FIREWALL),)
