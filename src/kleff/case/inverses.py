"""What really happened of an effect after a kill, and the inverse of each kind of effect."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from kleff.case.aside.area import moved_from
from kleff.case.effect_names import (
    COMMAND,
    KEY,
    MOVED,
    PACKAGE,
    PLACED,
    PROCESS,
    SERVICE,
    STAGED,
    TASK,
    UNINSTALLER,
    UNIT,
    VALUE,
    WRITTEN,
)  # fmt: skip
from kleff.case.effects import Hands, modes_of, package_spare_of, spare_of
from kleff.case.record.exports import read_export
from kleff.case.record.journal import Effect
from kleff.texts import plain
from kleff.workstation.facets import Service


class _Kind(Protocol):
    def happened(self, hands: Hands, effect: Effect) -> bool: ...

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        """Take an effect back. Returns the effect's new state and a note for the technician."""


class _MovedKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Where a copy was cut off, what was begun is brought to one end or the other first."""
        moved = moved_from(hands.workstation.files, effect.place, effect.data)
        if effect.data.get("copied") == "making":
            hands.area.drop_copy(moved)
        elif effect.data.get("copied") == "made":
            hands.area.delete_original(moved)
        return hands.area.lies_aside(moved)

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        moved = moved_from(hands.workstation.files, effect.place, effect.data)
        note = hands.area.put_back(moved)
        if hands.area.stands_in_place(moved):
            hands.area.set_modes(moved.place, modes_of(effect.data))
            hands.progress.step(moved.items, moved.size)
            return "undone", plain(note)
        return "stays", plain(note)


class _RegistryKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Believed whenever it was intended: putting back what is still there changes nothing."""
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        key, tree = read_export(hands.case.folder / "undo", str(effect.data["stem"]), str(effect.data["sha256"]))
        try:
            left = hands.registry.write_tree(key, tree)
        except OSError as error:
            return "stays", f"{key} cannot be written: {error.strerror}"
        finally:
            hands.registry.api.flush()
        return ("stays" if left else "undone"), "; ".join(left)


class _ServiceKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        services, data = hands.workstation.services, effect.data
        if services is None or services.get(str(data["name"])) is None:
            return "stays", f"the service {data['name']} is no longer registered"
        services.restore(Service(str(data["name"]), bool(data["running"]), str(data["start"])))
        return "undone", ""


class _TaskKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        tasks, name = hands.workstation.tasks, str(effect.data["name"])
        if tasks is None or name not in {t.name for t in tasks.all()}:
            return "stays", f"the task {plain(name)} is no longer registered"
        tasks.set_enabled(name, bool(effect.data["enabled"]))
        return "undone", ""


class _UnitKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        units, data = hands.workstation.units, effect.data
        account = next((a for a in hands.workstation.accounts.all() if a.id == data["account"]), None)
        if units is None or account is None:
            return "stays", f"the unit {plain(str(data['name']))} is in no account's session any more"
        units.restore(account, Service(str(data["name"]), bool(data["running"]), str(data["start"])))
        return "undone", ""


class _UninstallerKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Believed from the moment its spare was complete: better one comparison too many."""
        return effect.data.get("spare") != "making"

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        what = plain(str(effect.data.get("what", "")))
        if not effect.data.get("index"):
            return "stays", f"what the uninstaller of {what} removed is not taken back; install the product again"
        stays = spare_of(hands, effect.id).bring_back(str(effect.data["index"]))
        return ("stays", plain("; ".join(stays))) if stays else ("undone", f"brought back from the spare: {what}")


class _PackageKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Believed from the moment its spare was complete: better one comparison too many."""
        return effect.data.get("spare") != "making"

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        what = plain(str(effect.data["what"]))
        if effect.data.get("earlier"):
            return "undone", ""  # the spare of the try before holds it all
        if not effect.data.get("index"):
            return "stays", f"the package manager removed {what}; install again, its saved configuration is in the case"
        hands.progress.say(f"building anew and installing {what}")
        stays = package_spare_of(hands, effect.id).put_back(str(effect.data["records"]), str(effect.data["index"]))
        return ("stays", plain("; ".join(stays))) if stays else ("undone", f"installed again from the spare: {what}")


class _StagedKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """What was prepared and not put in place is thrown away; the action prepares it anew."""
        from kleff.case.placing import drop_staged

        drop_staged(hands, effect)
        return False

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        raise AssertionError("never done")


class _PlacedKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        from kleff.case.placing import is_in_place

        return is_in_place(hands, effect)

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        from kleff.case.placing import take_away

        bag = hands.case.text("bag_folder")
        if bag and not (Path(bag) / "bagit.txt").is_file():
            return "stays", f"what was put back is left: its bag {plain(bag)} is not there, and it may be the only copy"
        state, note = take_away(hands, effect)
        return state, plain(note)


class _WrittenKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Believed whenever it was intended: taking back what was not written changes nothing."""
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        from kleff.case.writing import unwrite_key

        try:
            left = unwrite_key(hands, effect)
        except OSError as error:
            return "stays", f"{effect.data.get('key', '')} cannot be changed: {error.strerror}"
        return ("stays" if left else "undone"), plain("; ".join(left))


class _NoInverse:
    def __init__(self, text: str, state: str = "stays") -> None:
        self._text = text
        self._state = state

    def happened(self, hands: Hands, effect: Effect) -> bool:
        """Believed whenever it was intended: better one warning too many."""
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        return self._state, plain(self._text.replace("{what}", str(effect.data.get("what", ""))))


class _CommandKind:
    def happened(self, hands: Hands, effect: Effect) -> bool:
        return True

    def undo(self, hands: Hands, effect: Effect) -> tuple[str, str]:
        what = plain(str(effect.data["what"]))
        return ("stays", f"{what} cannot be taken back") if what else ("undone", "")


KINDS: dict[str, _Kind] = {
    MOVED: _MovedKind(),
    KEY: _RegistryKind(),
    VALUE: _RegistryKind(),
    SERVICE: _ServiceKind(),
    TASK: _TaskKind(),
    UNIT: _UnitKind(),
    PROCESS: _NoInverse("{what} was ended; start it again if it is wanted", "noted"),
    UNINSTALLER: _UninstallerKind(),
    PACKAGE: _PackageKind(),
    STAGED: _StagedKind(),
    PLACED: _PlacedKind(),
    WRITTEN: _WrittenKind(),
    COMMAND: _CommandKind(),
}


def reconcile(hands: Hands) -> None:
    """After a kill or a failure: of every intent without confirmation, ask the workstation whether it happened."""
    for effect in hands.case.journal.effects():
        if effect.state == "intended":
            happened = KINDS[effect.kind].happened(hands, effect)
            hands.case.journal.mark([effect.id], "done" if happened else "void")
