"""The task scheduler of a running Windows, as far as Wine can show it: it finds tasks, and does not switch them."""

from __future__ import annotations

import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest

from kleff.errors import ActionFailed
from kleff.registry.registry import Registry
from kleff.workstation.windows.native.api import Api, Failed
from kleff.workstation.windows.system.hives import Hives
from kleff.workstation.windows.system.power.boots import TASK, SystemBoots, definition_of
from kleff.workstation.windows.system.registry import WindowsRegistry
from kleff.workstation.windows.system.tasks import TaskScheduler
from wine.fixtures import on_wine
from wine.remote import WINE, environment

pytestmark = on_wine

DEFINED = """<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers/><Principals/><Settings>{settings}</Settings>
<Actions><Exec><Command>C:\\program.exe</Command></Exec></Actions></Task>"""


def define(prefix: Path, name: str, settings: str) -> None:
    file = prefix / "drive_c/task.xml"
    file.unlink(missing_ok=True)
    file.write_text(DEFINED.format(settings=settings), "utf-16")
    words = [WINE, "schtasks", "/create", "/xml", r"C:\task.xml", "/tn", name, "/f"]
    subprocess.run(words, env=environment(prefix), check=True, capture_output=True, timeout=60)


def test_tasks_by_their_own_definition(api: Api, prefix: Path) -> None:
    """Off if its settings say so, whatever its triggers say. Wine says that it has switched one and has not: no false word."""
    define(prefix, r"Brindlewort\Count", "<Enabled>true</Enabled>")
    define(prefix, r"Brindlewort\Off", "<Enabled>false</Enabled>")
    scheduler = TaskScheduler(api)
    assert not scheduler.disabled(r"Brindlewort\Count")
    assert scheduler.disabled(r"Brindlewort\Off")
    assert not scheduler.disabled(r"Brindlewort\Nowhere")
    scheduler.set_enabled(r"Brindlewort\Count", True)
    with pytest.raises(ActionFailed, match="is on still"):
        scheduler.set_enabled(r"Brindlewort\Count", False)
    with pytest.raises(Failed):
        scheduler.set_enabled(r"Brindlewort\Nowhere", False)


def test_what_it_does_after_a_restart(api: Api) -> None:
    """A task of the system's own, made anew by who arranges again, and gone by who forgets, as often as that is asked."""
    scheduler = TaskScheduler(api)
    boots = SystemBoots(api, Registry(WindowsRegistry(api, Hives(api, str))), scheduler)
    words = [r"C:\stick\python\python.exe", "-m", "kleff", "resume", r"C:\ProgramData\Kleff\cases\two words & more"]
    for _ in range(2):
        boots.arrange("Goes on with a case", words)
    assert not scheduler.disabled(TASK)
    root = ElementTree.fromstring(definition_of("Goes on with a case", words).encode("utf-16"))  # Wine keeps no actions
    found = {element.tag.rpartition("}")[2]: element.text for element in root.iter()}
    assert found["Command"] == words[0]
    assert found["Arguments"] == r'-m kleff resume "C:\ProgramData\Kleff\cases\two words & more"'
    assert found["Description"] == "Goes on with a case"
    assert "BootTrigger" in found
    for _ in range(2):
        boots.cancel()
    with pytest.raises(Failed):
        scheduler.set_enabled(TASK, True)
    assert boots.prompts() == []
    with boots.awake():
        pass
