"""Which physical keys a text of a procedure means on a workstation."""

from collections.abc import Iterator

from kleff.objects.base.here import Here
from kleff.procedure.variables import literal_key
from kleff.registry.registry import KeyRef


def meant_keys(here: Here, text: str, view: int | None, accounts: list[str]) -> Iterator[tuple[KeyRef, str]]:
    """The physical keys a text means here, with the account of each."""
    registry = here.workstation.registry
    if registry is None:
        return
    text = literal_key(text)
    root = text.partition("\\")[0].upper()
    if root not in ("HKCU", "HKEY_CURRENT_USER"):
        for key in registry.canonical(text, view=view):
            yield key, ""
    if root not in ("HKLM", "HKEY_LOCAL_MACHINE"):
        hives = set(registry.api.hives())
        for account in here.resolver.accounts(accounts):
            if account.id in hives or account.ordinary:  # whose settings are missing is told by who looks into them
                for key in registry.canonical(text, account.id, view):
                    yield key, account.name


def for_people(key: KeyRef) -> str:
    """A key as it is written in a procedure; whose hive it is stands beside it as the account."""
    if key.hive == "HKU":
        return str(KeyRef("HKCU", "\\".join(key.parts[1:]), key.view))
    return str(key)
