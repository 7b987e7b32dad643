"""Links of a carried bag: judged with every other link of the bag on the way, against what the file system makes of them."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kleff.case.bag.links import below_a_link, leads_out, own_place

PARTS = st.lists(st.sampled_from(["..", ".", "a", "b", "s", "t"]), min_size=1, max_size=6).map("/".join)
NAMES = st.sampled_from([("s",), ("t",), ("a", "s"), ("a", "t"), ("a", "b", "s")])


@settings(max_examples=300, deadline=None)
@given(links=st.dictionaries(NAMES, PARTS, min_size=1, max_size=4), top=st.integers(0, 1))
def test_what_is_let_through_stays_inside(links: dict[tuple[str, ...], str], top: int) -> None:
    """If every link of a bag is let through, none of them leads out of its place on the disk."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(os.path.realpath(folder)) / "place"
        (place / "a" / "b").mkdir(parents=True)
        for names, target in links.items():
            (place.joinpath(*names)).symlink_to(target)
        judged = {names: leads_out(names, target, links, min(top, len(names) - 1)) for names, target in links.items()}
        if any(judged.values()):
            return
        for names in links:
            inside = place.joinpath(*names[: min(top, len(names) - 1)])
            real = Path(os.path.realpath(place.joinpath(*names)))
            assert real == inside or inside in real.parents, (names, links[names], real)


@pytest.mark.parametrize(("names", "target", "links", "top", "out"), [
    ("a/l", "../x", {}, 0, False), ("l", "..", {}, 0, True), ("a/l", "../a/b", {}, 1, False), ("a/l", "../b", {}, 1, True),
    ("l", "s/s/../..", {"s": "."}, 0, True), ("opt/shed/l", "../../etc/passwd", {}, 2, True), ("opt/shed/l", "sub/x", {}, 2, False),
    ("l", "l", {"l": "l"}, 0, True), ("l", "x/../../y", {"x": "deep/deeper"}, 0, False), ("l", "x/../../y", {"x": "deep"}, 0, True),
    ("l", "/etc", {}, 0, True), ("l", "C:\\x", {}, 0, True), ("l", "x", {"x": "/etc"}, 0, True),
])  # fmt: skip
def test_one_link(names: str, target: str, links: dict[str, str], top: int, out: bool) -> None:
    assert leads_out(tuple(names.split("/")), target, {tuple(k.split("/")): v for k, v in links.items()}, top) == out


def test_places_of_an_item() -> None:
    """Without a variable a link may not leave the topmost folder that was saved with it; nothing is put through a link."""
    folders = {("opt", "shed"), ("opt", "shed", "data")}
    assert own_place(("opt", "shed", "data", "l"), folders) == 2
    assert own_place(("etc", "l"), folders) == 1
    assert below_a_link(("opt", "l", "x"), {("opt", "l"): "."})
    assert not below_a_link(("opt", "l"), {("opt", "l"): "."})
