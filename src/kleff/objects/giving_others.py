"""Giving back what are no files: registry keys, what a command exported, service settings; and what is only shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from kleff.case.bag.index import SavedItem
from kleff.errors import ActionFailed
from kleff.objects.base import ABSENT, KEPT, MANUAL, REFUSED, TO_DO, Action, Outcome, Work
from kleff.objects.commands import SAVED, CommandBackup, arguments, earlier, list_of, objection_to, run_program, taken_down
from kleff.objects.giving import Giving, Nowhere
from kleff.objects.keys import KeyBackup, ValueBackup, for_people, meant_keys
from kleff.procedure.versions import parse_duration
from kleff.registry.regfile import RegKey
from kleff.registry.registry import KeyRef
from kleff.texts import plain, plural
from kleff.workstation.paths import WPath


class KeysBack:
    """Registry keys and single values: what is missing is written."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        from kleff.case.writing import would_write

        undo = "what was written is deleted again"
        action = giving.action(item, stem, "write", item.label or item.object, account=item.account, undo=undo)
        registry, differ = giving.scene.workstation.registry, []
        try:
            account = giving.account(item)
            action.account = account.name if account else ""
            for key, tree in _keys_here(item, giving):
                action.target = plain(for_people(key))
                assert registry is not None
                _, difference = would_write(registry, key, tree, giving.replace)
                action.items += difference.keys + difference.values
                differ += difference.differ
                stays = "exported first, then replaced" if giving.replace else "stays"
                action.shows += [f"{stays}: {text} is set otherwise" for text in difference.differ[:8]]
            if not action.items:
                action.state, action.reason = (KEPT, "set otherwise by now") if differ else (ABSENT, "the same is there already")
        except Nowhere as error:
            action.state, action.reason = REFUSED, str(error)
        yield action

    def do(self, action: Action, item: SavedItem, giving: Giving, work: Work) -> Outcome:
        from kleff.case.writing import write_key

        count = 0
        try:
            for key, tree in _keys_here(item, giving):
                difference = write_key(work.hands, action.number, key, tree, giving.replace)
                count += difference.keys + difference.values
        except Nowhere as error:
            raise ActionFailed(str(error), remedy="look at it; then resume") from None
        return Outcome(items=count)

    def missing(self, item: SavedItem, stem: str, giving: Giving, placed: Sequence[WPath]) -> list[str]:
        from kleff.case.writing import compare

        assert giving.scene.workstation.registry is not None
        try:
            found = [(key, compare(giving.scene.workstation.registry, key, tree)) for key, tree in _keys_here(item, giving)]
        except Nowhere as error:
            return [f"{item.label}: {error}"]
        return [f"{plain(for_people(key))}: not all of it is there" for key, difference in found if difference.anything]


def _keys_here(item: SavedItem, giving: Giving) -> Iterator[tuple[KeyRef, RegKey]]:
    """Each saved key where it belongs here: this account's hive, this control set; only what the procedure claims.

    Raises:
        Nowhere.
    """
    scene = giving.scene
    if scene.workstation.registry is None:
        raise Nowhere("this workstation has no registry")
    claimed = set()
    for model in (*giving.steps(KeyBackup), *giving.steps(ValueBackup)):
        text = model.key if isinstance(model, KeyBackup) else model.in_key
        claimed |= {key.key for key, _ in meant_keys(scene, text, model.view, model.accounts)}
    account = giving.account(item)
    for export in item.exports:
        saved, tree = giving.bag.read_key(export)
        key = _key_here(saved, account.id if account else "", giving)
        if key.key not in claimed:
            raise Nowhere(f"the procedure saves nothing from {plain(for_people(key))}, or that account's hive is not loaded")
        verdict = scene.guard.check_key(key, value=item.object == "value")
        if not verdict.ok:
            raise Nowhere(f"{plain(for_people(key))}: {verdict.reason}")
        yield key, tree


def _key_here(saved: KeyRef, sid: str, giving: Giving) -> KeyRef:
    registry = giving.scene.workstation.registry
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


class CommandBack:
    """What a command exported, taken in by the procedure's own `restore` command."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        action = giving.action(item, stem, "take in", item.name, items=1, undo="cannot be taken back by Kleff", final=True)
        model = _step_of(item, giving)
        if model is None or not model.restore:
            action.state = MANUAL
            action.reason = f"the procedure has no restore command for it; it is {giving.bag.payload(item.file)}"
            yield action
            return
        saved = str(giving.bag.payload(item.file))
        argv = arguments(model.restore, giving.scene, _one(item), saved)
        if argv is None:
            action.state, action.reason = MANUAL, f"{plain(model.restore[0])} is not there; install the product first"
            yield action
            return
        action.shows = [plain("runs: " + " ".join(argv))]
        if not giving.own:
            action.shows.append("what it is given comes from elsewhere: it does whatever it finds written there")
        why = objection_to(argv, giving.scene)
        if why:
            action.state, action.reason = MANUAL, plain(why)
        elif model.lists:
            self._compare(item, giving, model, action)
        yield action

    def _compare(self, item: SavedItem, giving: Giving, model: CommandBackup, action: Action) -> None:
        try:
            present = list_of(model, giving.scene)
        except ActionFailed as error:
            action.shows.append(f"could not be listed: {error.what}")
            return
        if _one(item):
            present = [name for name in present if name == _one(item)]
        if present:
            names = f"{', '.join(present[:4])}{' ...' if len(present) > 4 else ''}"
            action.state, action.final = KEPT, False
            what, remain = plural(len(present), "thing"), "remains as it is" if len(present) == 1 else "remain as they are"
            action.reason = f"holds {what} already, which {remain}: {plain(names)}"
        if item.listed:
            action.shows.append(f"saved were {plural(len(item.listed), 'thing')}")

    def do(self, action: Action, item: SavedItem, giving: Giving, work: Work) -> Outcome:
        now = next(self.plan(item, action.details["stem"], giving))
        model = _step_of(item, giving)
        before = earlier(action, work)
        if before == "cut off":
            raise ActionFailed(
                f"{item.name} was being taken in when the last try was cut off; part of it may be there",
                remedy="look what is in it; then resume with --skip",
            )
        if now.state == KEPT or before:
            return Outcome(note="" if before else now.reason)
        if now.state != TO_DO or model is None:
            raise ActionFailed(now.reason, remedy="do it by hand, then resume with --skip")
        work.progress.start(f"taking in {item.name}")
        what = f"what {plain(model.restore[0])} took in of {plain(item.name)}"
        folder = work.hands.case.folder / "output"
        with taken_down(what, action, work) as effect, giving.bag.feeding(item.file, folder / f"passing-{effect.id:04d}") as saved:
            argv = arguments(model.restore, giving.scene, _one(item), str(saved))
            assert argv is not None
            self._run(argv, model, saved, work.hands.case.output(effect.id), giving)
        return Outcome(items=1, size=giving.bag.payload(item.file).stat().st_size)

    def _run(self, argv: list[str], model: CommandBackup, saved: Path, output: Path, giving: Giving) -> None:
        stdin = None if any(SAVED in w for w in model.restore) else saved
        run_program(giving.scene, argv, output, parse_duration(model.patience), stdin=stdin, secret=model.need)

    def missing(self, item: SavedItem, stem: str, giving: Giving, placed: Sequence[WPath]) -> list[str]:
        """Its list again: what was listed when it was saved must be there."""
        model = _step_of(item, giving)
        if model is None or not model.lists or not model.restore or not item.listed:
            return []
        try:
            present = set(list_of(model, giving.scene))
        except ActionFailed as error:
            return [f"{item.name} could not be listed: {error.what}"]
        lacks = [name for name in item.listed if name not in present]
        return (
            [f"{item.name}: {plural(len(lacks), 'thing')} of {len(item.listed)} not there: {plain(', '.join(lacks[:4]))}"] if lacks else []
        )


def _step_of(item: SavedItem, giving: Giving) -> CommandBackup | None:
    """The step of the technician's own procedure that saves this; by its label and the name it saves as."""
    for model in giving.steps(CommandBackup):
        assert isinstance(model, CommandBackup)
        if model.label == item.label and item.name in (model.saves_as, model.saves_as.replace("{item}", _one(item))):
            return model
    return None


def _one(item: SavedItem) -> str:
    """The one thing of a list that this export is of; "" if it is of all."""
    return str(item.settings.get("item", ""))


class ShownBack:
    """What is not written back, only shown: packages, facts, settings of services."""

    def plan(self, item: SavedItem, stem: str, giving: Giving) -> Iterator[Action]:
        action = giving.action(item, stem, "shown", item.name or item.label or item.object)
        action.state, action.reason = ABSENT, "shown only, nothing is put back"
        action.shows = shown_settings(item)
        yield action

    def do(self, action: Action, item: SavedItem, giving: Giving, work: Work) -> Outcome:
        return Outcome()

    def missing(self, item: SavedItem, stem: str, giving: Giving, placed: Sequence[WPath]) -> list[str]:
        return []


def shown_settings(item: SavedItem) -> list[str]:
    """Settings as lines for people; what is private as dots."""
    if item.settings.get("private"):
        return ["\u2022" * 6 + "  (private; it is in the bag)"]
    lines = []
    for name, value in item.settings.items():
        if isinstance(value, list):
            lines += [plain(f"{name}: {_flat(v)}") for v in value[:20]]
        elif name != "private":
            lines.append(plain(f"{name}: {_flat(value)}"))
    return lines


def _flat(value: object) -> str:
    return ", ".join(f"{k} {v}" for k, v in value.items()) if isinstance(value, dict) else str(value)
