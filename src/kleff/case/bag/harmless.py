"""What a bag from elsewhere may hold: nothing that could do harm where it is put."""

from __future__ import annotations

import os
from base64 import b64decode

from kleff.case.bag.index import Member, SavedItem
from kleff.case.bag.links import Names, below_a_link, leads_out, own_place
from kleff.case.bag.members import relative_names
from kleff.case.bag.opened import SavedBag
from kleff.errors import Refused
from kleff.texts import plain

UNSAFE = 0o7000  # runs with its owner's or group's rights


def check_harmless(bag: SavedBag) -> None:
    """Refuse a bag from elsewhere whole if anything in it could do harm where it is put.

    Raises:
        Refused: naming the thing.
    """
    for item in bag.items.values():
        links = {relative_names(m): os.fsdecode(b64decode(m.link)) for m in item.members if m.type == "link"}
        folders = {relative_names(m) for m in item.members if m.type == "folder"}
        for member in item.members:
            why = _harm(member) or _harm_of_links(item, member, links, folders)
            if why:
                raise Refused(f"the bag is not used: {plain(member.path)} {why}", where=str(bag.folder), remedy="look at it by hand")


def _harm(member: Member) -> str:
    if member.mode & UNSAFE:
        return "would run with the rights of its owner (setuid, setgid or sticky)"
    if any(name == "security.capability" or name.startswith("trusted.") for name in member.attributes):
        return "carries rights of its own (a capability or the like)"
    if any(not name or "\0" in name for name in member.attributes):
        return "has an attribute with a name that cannot be one"
    return ""


def _harm_of_links(item: SavedItem, member: Member, links: dict[Names, str], folders: set[Names]) -> str:
    """A link stays within what its item hangs on; where that is nothing, within the item's own topmost folder."""
    names = relative_names(member)
    if below_a_link(names, links):
        return "lies below a link of the same bag"
    top = 0 if item.variable else own_place(names, folders)
    if member.type == "link" and (not links[names] or "\0" in links[names]):
        return "is a link to a name that cannot be one"
    if member.type == "link" and leads_out(names, links[names], links, top):
        return f"is a link that leads out, to {plain(links[names])}"
    return ""
