"""Where a saved key belongs on this workstation."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from kleff.objects.base.restoring import Nowhere
from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef

if TYPE_CHECKING:
    from kleff.case.bag.index import SavedItem
    from kleff.objects.base.restoring import Restoring

from kleff.objects.keys.meaning import for_people, meant_keys
from kleff.objects.keys.steps import KeyBackup, ValueBackup


def keys_here(item: "SavedItem", restoring: "Restoring") -> Iterator[tuple[KeyRef, RegKey]]:
    """Each saved key where it belongs here: this account's hive, this control set; only what the procedure claims.

    Raises:
        Nowhere.
    """
    here = restoring.here
    if here.workstation.registry is None:
        raise Nowhere("this workstation has no registry")
    whole, single = _claimed(restoring)
    account = restoring.account(item)
    for export in item.exports:
        saved, tree = restoring.bag.read_key(export)
        key = _key_here(saved, account.id if account else "", restoring)
        if key.key not in whole:
            names = single.get(key.key)
            if names is None:
                raise Nowhere(f"the procedure saves nothing from {for_people(key)}, or that account's hive is not loaded")
            if tree.keys or not set(tree.values) <= names:
                raise Nowhere(f"of {for_people(key)} the procedure saves single values alone, and the bag holds others")
        verdict = here.guard.check_key(key, value=item.object == "value")
        if not verdict.ok:
            raise Nowhere(f"{for_people(key)}: {verdict.reason}")
        yield key, tree


def _claimed(restoring: "Restoring") -> tuple[set[object], dict[object, set[str]]]:
    """The keys that the procedure's own steps save whole, and those of which they save single values, by their names."""
    whole: set[object] = set()
    single: dict[object, set[str]] = {}
    for keys in restoring.steps(KeyBackup):
        assert isinstance(keys, KeyBackup)
        whole |= {key.key for key, _ in meant_keys(restoring.here, keys.key, keys.view, keys.accounts)}
    for values in restoring.steps(ValueBackup):
        assert isinstance(values, ValueBackup)
        for key, _ in meant_keys(restoring.here, values.in_key, values.view, values.accounts):
            single.setdefault(key.key, set()).add(fold(values.value))
    return whole, single


def _key_here(saved: KeyRef, sid: str, restoring: "Restoring") -> KeyRef:
    registry = restoring.here.workstation.registry
    assert registry is not None
    if saved.hive == "HKU":
        text, path = "\\".join(["HKCU", *saved.parts[1:]]), "\\".join([sid, *saved.parts[1:]])
    else:
        text = "HKLM\\" + saved.path
        if len(saved.parts) > 2 and saved.parts[0].upper() == "SYSTEM" and saved.parts[1].upper().startswith("CONTROLSET"):
            text = "\\".join(["HKLM", "SYSTEM", "CurrentControlSet", *saved.parts[2:]])
        path = saved.path
    found = registry.canonical(text, sid, saved.view or None)
    return found[0] if found else KeyRef(saved.hive, path, 0)
