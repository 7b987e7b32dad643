"""Single items of lists that many programs share: one folder out of the search path, in the registry or in a settings file."""

from collections.abc import Collection, Iterator
from contextlib import suppress
from typing import Annotated

from msgspec import Meta, Struct
from msgspec.structs import replace

from kleff.case.guard.guard import Target
from kleff.objects.base.action import ABSENT, UNREADABLE, Action, Outcome
from kleff.objects.base.here import Here, Work
from kleff.objects.base.kind import Words
from kleff.objects.base.own import refuse
from kleff.objects.base.staging import Stage
from kleff.objects.base.unreadable import why
from kleff.objects.keys.meaning import for_people, meant_keys
from kleff.objects.keys.steps import View
from kleff.objects.registered.spelling import Spelling
from kleff.objects.texts.doubts import doubtful
from kleff.objects.texts.lines import InFile, TextKind
from kleff.procedure.loaded import StepOf
from kleff.procedure.model import Text, Texts
from kleff.procedure.texts import Problem, key_problem, path_problem
from kleff.procedure.variables import BadTemplate
from kleff.registry.lists import Taken, items_of, same, taken
from kleff.registry.registry import KeyRef
from kleff.workstation.files.lines import Edit, edits
from kleff.workstation.files.listed import listed
from kleff.workstation.identity import PathId, key_id

LETTERS = 4  # of an item that is no path; fewer would mean too many


class _ListItem(InFile, kw_only=True, frozen=True):
    list_item: Annotated[Text | Texts, Meta(description="the item, or items, as a whole: a folder, an ending; variables may stand in it")]
    in_value: Annotated[Text, Meta(description="the value that holds the list, e.g. Path; in a file the name before the =")]
    in_key: Annotated[str, Meta(description="its key; HKCU\\... means every account")] = ""
    in_file: Annotated[str, Meta(description="instead of a key: the settings file, with lines such as Path=C:\\one;C:\\two")] = ""
    between: Annotated[str, Meta(min_length=1, max_length=1, description="what parts the items of a text")] = ";"
    view: View = None

    @property
    def items(self) -> list[str]:
        return [self.list_item] if isinstance(self.list_item, str) else self.list_item

    @property
    def file(self) -> str:
        return self.in_file

    @property
    def written_paths(self) -> list[str]:
        return [self.in_file] if self.in_file else []

    @property
    def meant(self) -> list[str]:
        return [item.rstrip("\\/") for item in self.items]

    def doubts(self, lines: list[str], made: list[Edit], folded: bool) -> list[str]:
        return doubtful(lines, made, [[self.in_value, item] for item in self.meant], folded, whole=True)

    def edits(self, lines: list[str], folded: bool) -> list[Edit]:
        """In a file: the lines that set the value, without the items."""
        wanted, changed = {same(item) for item in self.items}, list[tuple[int, str | None, str]]()
        for at, line in enumerate(lines):
            found = listed(line, self.between)
            gone = [item for item in found.items if item.strip() and same(item) in wanted] if found and found.sets(self.in_value) else []
            if found and gone:
                left = [item for item in found.items if item not in gone]
                changed.append((at, found.written(left), gone[0]))
        return edits(lines, changed, self.between)

    def problems(self, places: Collection[str]) -> Iterator[Problem]:
        if bool(self.in_key) == bool(self.in_file):
            yield ("in_value",), 'stands in one place: write either in_key = "..." or in_file = "..."'
        elif wrong := key_problem(self.in_key) if self.in_key else path_problem(self.in_file, places):
            yield ("in_key" if self.in_key else "in_file",), wrong
        if self.in_file and self.view is not None:
            yield ("view",), "is a thing of the registry; a file has none"
        for item in self.items:
            if item[0] in "{%" or ":" in item:
                if problem := path_problem(item, places):
                    yield ("list_item",), problem
            elif sum(c.isalnum() for c in item) < LETTERS:
                yield ("list_item",), f"{item!r} means too much; write at least {LETTERS} letters or digits"


class ListItemDelete(_ListItem, kw_only=True, frozen=True):
    """Take single items out of a list, in the registry or a settings file; the others, their order and the value's type stay."""

    at_most: Annotated[int, Meta(ge=1, description="in a file: how many lines of it")] = 10

    @property
    def bound(self) -> int:
        return self.at_most


class ListItemVerify(_ListItem, kw_only=True, frozen=True):
    """Items that must be gone."""


class OneItem(Struct, kw_only=True):
    """The item an action is about, as it stood at the preview."""

    item: str
    at: int
    before: str
    after: str
    equal: int


class ListItemKind(TextKind[_ListItem]):
    """`list_item`."""

    names = ("list_item",)
    thing = "item"
    models = {"delete": ListItemDelete, "verify": ListItemVerify}

    def stage(self, step: StepOf[_ListItem], stage: Stage) -> None:
        model = step.model
        items = [next(iter(stage.named(item)), item) if item[0] in "{%" else item for item in model.items]
        text = model.between.join([r"C:\Windows", *items, r"C:\Neighbour"])
        if model.in_key:
            stage.key(model.in_key, {model.in_value: text})
        for path in stage.named(model.in_file, model.accounts) if model.in_file else []:
            stage.file(path, f"{model.in_value}={text}\r\n")

    def words(self, phase: str) -> Words:
        return Words("Taken out of lists" if phase == "delete" else "Looked for", ("item", "items"), within=True)

    def plan(self, step: StepOf[_ListItem], here: Here) -> Iterator[Action]:
        model, registry = step.model, here.workstation.registry
        if model.in_file:
            yield from super().plan(step, here)
            return
        verb, any_there = "take out of" if step.phase == "delete" else "look for in", False
        for key, account in meant_keys(here, model.in_key, model.view, model.accounts) if registry is not None else ():
            target = f"{model.in_value} in {for_people(key)}"
            try:
                found = list(self._items(model, here, key, account))
            except OSError as error:
                any_there = True
                yield here.action(step, verb, target, account=account, state=UNREADABLE, reason=why(error))
                continue
            for count, one in found:
                any_there = True
                action = here.action(step, verb, target, account=account, items=1, about=[key_id(key, model.in_value)])
                action.shows = [f"item {one.at + 1} of {count}: {one.item}"]
                if step.phase == "delete":
                    self._judge_item(action, here, key, model.in_value, one)
                yield action
        if not any_there:
            reason = "no such item" if registry is not None else "this workstation has no registry"
            yield here.action(step, verb, f"{model.in_value} in {model.in_key}", state=ABSENT, reason=reason, nowhere=registry is None)

    def _judge_item(self, action: Action, here: Here, key: KeyRef, value: str, one: Taken) -> None:
        action.undo = "put back where it was"
        action.set_details(OneItem(item=one.item, at=one.at, before=one.before, after=one.after, equal=one.equal))
        verdict = here.guard.check_item(key, value)
        if not verdict.ok:
            action.judged(verdict.word, verdict.reason, verdict.remedy)
        path = here.workstation.files.path(one.item.strip().strip('"').rstrip("\\/"))
        if path is not None and not (verdict := here.guard.check(Target(path, len(path.parts), len(path.name)))).ok:
            refuse(action, f"{one.item}: {verdict.reason}")
        elif path is not None and (stays := here.guard.stays(path)):
            action.keep(stays)

    def _items(self, model: _ListItem, here: Here, key: KeyRef, account: str) -> Iterator[tuple[int, Taken]]:
        """(how many items there are, the item) of each that is meant."""
        registry = here.workstation.registry
        value = registry.value(key, model.in_value) if registry is not None else None
        items = items_of(value, model.between) if value is not None else None
        if not items:
            return
        spelling = Spelling(here, account, {v.name: v.text for v in registry.values(key)} if registry is not None else {})
        wanted = {same(text) for item in model.items for text in _meanings(item, here, account)}
        for at, item in enumerate(items):
            if item.strip() and {same(text) for text in _meanings(item, here, account, spelling)} & wanted:
                yield len(items), taken(items, at)

    def do(self, action: Action, step: StepOf[_ListItem], work: Work) -> Outcome:
        from kleff.case.effects.list_item_taken import take_item

        model = step.model
        if model.in_file:
            return super().do(action, step, work)
        told = action.details_as(OneItem)
        key, _ = action.key()
        one = Taken(told.item, told.at, told.before, told.after, told.equal)
        done = take_item(work.hands, action.number, key, model.in_value, model.between, one)
        return Outcome(items=1) if done else Outcome(note="already gone")

    def settled(self, model: _ListItem, here: Here, account: str) -> _ListItem:
        return replace(model, list_item=[text for item in model.items for text in _meanings(item, here, account)])

    def always_refused(self, step: StepOf[_ListItem], here: Here) -> Iterator[str]:
        model = step.model
        if isinstance(model, ListItemDelete) and model.in_file:
            yield from super().always_refused(step, here)
        elif isinstance(model, ListItemDelete):
            keys = meant_keys(here, model.in_key, model.view, model.accounts)
            why_not = next((v.reason for key, _ in keys if not (v := here.guard.check_item(key, model.in_value)).ok), "")
            if why_not:
                yield f"{model.in_value} in {model.in_key}: {why_not}; no step takes items out of it"

    def needs_rights(self, action: Action, here: Here) -> bool:
        return super().needs_rights(action, here) if action.about and isinstance(action.about[0], PathId) else not action.account


def _meanings(item: str, here: Here, account: str, spelling: Spelling | None = None) -> list[str]:
    """An item as it is written, and as a path, in whatever way it is written."""
    text = item.strip().strip('"')
    meant = [item]
    if text and text[0] in "{%":
        with suppress(BadTemplate):  # a variable that procedures do not know
            meant += [e.text for e in here.resolver.expand(text) if not e.account or e.account.name == account or not account]
    if here.workstation.system != "windows":
        return meant
    spelling = spelling or Spelling(here, account)
    return meant + [str(path) for one in meant if "\\" in one or "/" in one for path in spelling.path(one)]


KINDS = (ListItemKind(),)
