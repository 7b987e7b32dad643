"""What a spare is to be made of; apart from the making, so that a preview need not load that."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.registry.values import RegValue
from kleff.workstation.paths import WPath

COPIED_UP_TO = 64 * 1024  # bytes; what is larger is linked


@dataclass
class AroundPlan:
    """What lies around packages: places with all below whose files are copied, files that are linked since they are only ever replaced,
    and folders and links by themselves.
    """

    copied: list[WPath] = field(default_factory=list)
    linked: list[WPath] = field(default_factory=list)
    alone: list[WPath] = field(default_factory=list)

    @property
    def all(self) -> list[WPath]:
        return [*self.copied, *self.linked, *self.alone]


@dataclass
class SparePlan:
    """What a spare is made of.

    Attributes:
        places: topmost paths of the product; keys: with all below them; values: single ones by key and name.
        full: copy everything, link nothing.
        singles: paths without what is below them.
        around: what is others' as well and may be changed by scripts.
        before: values that this case has changed, as they were; a spare holds those.
    """

    places: list[WPath]
    keys: list[KeyRef] = field(default_factory=list)
    values: list[tuple[KeyRef, str]] = field(default_factory=list)
    full: bool = False
    singles: list[WPath] = field(default_factory=list)
    before: list[tuple[KeyRef, RegValue]] = field(default_factory=list)
    around: AroundPlan = field(default_factory=AroundPlan)

    def settle_before(self, key: KeyRef, tree: RegKey) -> None:
        """Put the values that this case has changed into what was read of a key, as they were."""
        for changed, value in self.before:
            below = _found(key, tree, changed)
            if below is not None:
                below.set(value)


def leave_out(key: KeyRef, tree: RegKey, changed: Sequence[KeyRef], names: Sequence[str]) -> None:
    """Take values out of what was read of a key: each of `changed` the one of `names` beside it."""
    for other, name in zip(changed, names, strict=True):
        below = _found(key, tree, other)
        if below is not None:
            below.values.pop(fold(name), None)


def _found(key: KeyRef, tree: RegKey, other: KeyRef) -> RegKey | None:
    """What was read of another key with `key`; None if it does not lie in it."""
    inside = other.view == key.view and other.hive == key.hive and fold(other.path + "\\").startswith(fold(key.path + "\\"))
    return tree.find(other.parts[len(key.parts) :]) if inside else None
