"""Shortcuts as the system itself writes them, by its own object for that."""

from __future__ import annotations

from uuid import UUID

from kleff.workstation.windows.native.api import Api
from kleff.workstation.windows.native.caller import number
from wine.remote import RemoteCaller

SHELL_LINK, LINK = UUID("00021401-0000-0000-c000-000000000046"), UUID("000214f9-0000-0000-c000-000000000046")
PERSIST_FILE = UUID("0000010b-0000-0000-c000-000000000046")
SET_PATH, SET_ARGUMENTS, SET_FOLDER, SET_TITLE, SAVE = 20, 11, 9, 7, 6  # places of methods in the headers' tables


def write_shortcut(caller: RemoteCaller, file: str, target: str, arguments: str, folder: str, title: str) -> None:
    """Args: file, target, folder: paths on that Windows."""
    api, place = Api(caller), bytearray(8)
    api.code("CoInitializeEx", None, 0)
    api.CoCreateInstance(SHELL_LINK.bytes_le, None, 1, LINK.bytes_le, place)
    link, saver = number(place), bytearray(8)
    for slot, text in ((SET_PATH, target), (SET_ARGUMENTS, arguments), (SET_FOLDER, folder), (SET_TITLE, title)):
        _call(caller, link, slot, text)
    _call(caller, link, 0, PERSIST_FILE.bytes_le, saver)
    _call(caller, number(saver), SAVE, file, 1)


def _call(caller: RemoteCaller, one: int, slot: int, *arguments: object) -> None:
    method = number(caller.read(number(caller.read(one, 8)) + 8 * slot, 8))
    code = caller.call_at(method, one, *arguments).result & 0xFFFFFFFF  # type: ignore[arg-type]
    assert code == 0, (hex(code), slot, arguments)
