"""A look that fails is never taken for absence: with something of every kind wholly there, each single read fails with each error, and no
survey, preview or verify says less than before without saying that it could not look.

`KLEFF_ALL_FAULTS=1` lets every read fail with every error; else some are drawn.
"""

from __future__ import annotations

import errno
import os
import random
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import pytest

from blind import CODES, Blind
from kleff.engine.context import make_context, pieces
from kleff.engine.library import load
from kleff.engine.opening import opened_workstation
from kleff.engine.plan import Planning
from kleff.engine.verify import verify
from kleff.errors import KleffError
from kleff.objects.base.table import KINDS
from kleff.procedure.loaded import LoadedStep, Procedure
from needs.lab import HERE
from support import IS_ROOT, Kleff, linux_tree, procedure, write
from whole import STEPS, whole

PACKAGES_OF_PYTHON = "python3/dist-packages"
EVERY = os.environ.get("KLEFF_ALL_FAULTS") == "1"
DRAWN = 14  # for a step, of errors that say that something cannot be read; and half of that of what is gone all at once
DOUBT = ("unreadable", "unknown", "refused")
# What is looked for in other ways than by reading files: tests/test_processes.py, test_commands.py, test_readiness.py and their like.
OTHERWISE = {
    "process", "window", "port", "command", "manual", "holder", "rescue", "driver_files", "power", "rights", "restart", "installers",
    "signed_in", "bits", "system_version", "packages", "unit", "flatpak", "shadowed_by", "variable", "product_code", "cached_package",
    "key", "value", "publisher",
}  # fmt: skip


@dataclass
class Seen:
    """What a look came to: how much of it there is, and whether it says that it could not look."""

    evidence: int
    actions: int
    findings: int
    clean: bool
    doubts: tuple[bool, bool, bool]


def alone(whole: Procedure, step: LoadedStep) -> Procedure:
    is_evidence = step.phase == "evidence"
    return replace(whole, evidence=(step,) if is_evidence else (), steps=() if is_evidence else (step,))


def look(one: Procedure, on: str) -> Seen:
    workstation = opened_workstation(on)
    here = make_context(workstation, one)
    evidence, plan, told = pieces(here), Planning.whole(here).plan(), verify(here)
    workstation.release()
    return Seen(
        evidence=len(evidence), actions=sum(a.state != "absent" for a in plan.actions), findings=len(told.findings), clean=told.clean,
        doubts=(
            any(s.unreadable for s in evidence), any(a.state in DOUBT for a in plan.actions), any(f.state in DOUBT for f in told.findings)
        ),
    )  # fmt: skip


def lies(before: Seen, now: Seen) -> list[str]:
    """Where less is said than before, and no doubt."""
    found = [
        name
        for name, was, there, doubt in zip(
            ("survey", "preview", "verify"), (before.evidence, before.actions, before.findings),
            (now.evidence, now.actions, now.findings), now.doubts, strict=True,
        )
        if there < was and not doubt
    ]  # fmt: skip
    return found + (["gone"] if now.clean and not before.clean else [])


def faults(one: Procedure, on: str, below: Path, seed: int) -> Iterator[Blind]:
    """All, or some drawn."""
    for codes, share in ((("EACCES", "EIO", "ELOOP", "EFBIG"), 1), (("ENOENT",), 2)):
        counted = Blind(below, at=1 << 30, code=CODES[codes[0]])
        with counted.armed():
            look(one, on)
        every = [(at, CODES[code]) for at in range(1, counted.count + 1) for code in codes]
        drawn = every if EVERY else random.Random(seed).sample(every, min(DRAWN // share, len(every)))
        for at, code in drawn:
            yield Blind(below, at, code)
            if code == errno.ENOENT:
                yield Blind(below, at, code, for_good=False)


def told_wrongly(file: Path, on: str, below: Path, seed: int = 0) -> list[str]:
    """Every lie, with the step, the read that failed and who made it."""
    every, wrong = load(file), list[str]()
    for step in (*every.evidence, *every.steps):
        one = alone(every, step)
        before = look(one, on)
        assert before.evidence or before.actions, f"line {step.line}: there is nothing of it"
        for fault in faults(one, on, below, step.line + 1000 * seed):
            try:
                with fault.armed():
                    now = look(one, on)
            except (KleffError, OSError):
                continue  # the command ends with a line for people, and nothing else is said
            if found := lies(before, now):
                wrong.append(f"line {step.line}, {step.kind}: {found} where {fault}")
    return wrong


@pytest.mark.parametrize("file", ["every-kind.procedure.toml"])
def test_on_a_lab(kleff: Kleff, tmp_path: Path, file: str) -> None:
    lab = tmp_path / "lab"
    kleff("lab", "make", lab, "--from", HERE / file, cases=False)
    assert told_wrongly(HERE / file, f"lab:{lab}", lab) == []


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of several accounts")
def test_on_a_tree(tmp_path: Path) -> None:
    top = whole(tmp_path / "tree")
    assert told_wrongly(procedure(tmp_path / "p.toml", STEPS), f"root:{top}", top) == []


OTHERS = {
    "etc/hosts": "127.0.0.1 localhost\n", "etc/environment": "PATH=/usr/bin:/bin\n", "etc/beds.ini": "[rake]\nx=1\n",
    "etc/systemd/system/rake.service": "[Service]\nExecStart=/usr/bin/rake\n", "etc/apt/sources.list.d/rake.list": "deb https://a b c\n",
    "etc/modules-load.d/rake.conf": "rake\n", "etc/group": "root:x:0:\n", "etc/login.defs": "UID_MIN 1000\n",
    "etc/xdg/autostart/rake.desktop": "[Desktop Entry]\nType=Application\nName=Rake\nExec=/usr/bin/rake\n",
    f"usr/lib/{PACKAGES_OF_PYTHON}/rake-1.dist-info/METADATA": "Metadata-Version: 2.1\nName: rake\nVersion: 1\n",
    f"usr/lib/{PACKAGES_OF_PYTHON}/rake-1.dist-info/RECORD": "rake/x.py,,\n",
}  # fmt: skip


def behind_links(top: Path) -> Path:
    """The system's settings lie elsewhere, as an administrator has ordered them; but what says who the accounts are."""
    real = top / "srv/settings"
    real.mkdir(parents=True)
    for number, file in enumerate(sorted((top / "etc").rglob("*"))):
        if file.is_file() and not file.is_symlink() and file.name not in ("passwd", "group", "login.defs"):
            file.rename(real / f"{number}-{file.name}")
            file.symlink_to(f"/srv/settings/{number}-{file.name}")
    return top


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of several accounts")
def test_links_of_an_administrator_are_followed(tmp_path: Path) -> None:
    """What lies behind them is found, or it is said that it is left; where nothing of it lies there, they are no doubt."""
    there, bare = behind_links(whole(tmp_path / "whole")), linux_tree(tmp_path / "bare")
    for path, text in OTHERS.items():
        write(bare / path, text)
    behind_links(bare)
    every = load(procedure(tmp_path / "p.toml", STEPS))
    for step in every.steps:
        found, nothing = look(alone(every, step), f"root:{there}"), look(alone(every, step), f"root:{bare}")
        assert found.actions, step
        assert (nothing.actions, nothing.doubts[1]) == (0, False), step
        assert nothing.clean or step.phase == "backup", step


@pytest.mark.skipif(not IS_ROOT, reason="needs root: files of several accounts")
def test_an_account_that_keeps_its_settings_behind_links(tmp_path: Path) -> None:
    """They are read where they are its own; nobody is led by them to what is another's."""
    top = linux_tree(tmp_path / "tree")
    for name, led_to in (("mira", "kept/profile"), ("tomas", "/home/mira/kept/profile")):
        write(top / "home" / name / "kept/profile", "umask 22\n")
        (top / "home" / name / ".profile").symlink_to(led_to)
        uid = (top / "home" / name).stat().st_uid
        for path in (top / "home" / name).rglob("*"):
            os.chown(path, uid, uid, follow_symlinks=False)
    every = load(procedure(tmp_path / "p.toml", STEPS))
    (step,) = [s for s in every.steps if s.kind == "lines" and "profile" in str(s.model)]
    plans = {}
    for kept in ("umask 22\n", "export HOE_HOME=/opt/hoe\n"):
        (top / "home/mira/kept/profile").write_text(kept)
        workstation = opened_workstation(f"root:{top}")
        plan = Planning.whole(make_context(workstation, alone(every, step))).plan()
        plans[kept] = {action.account: (action.state, action.reason) for action in plan.actions}
        workstation.release()
    without, there = plans.values()
    assert without["mira"] == ("absent", "no such line")
    assert there["mira"][0] in DOUBT
    assert without["tomas"] == there["tomas"]
    assert "another account's" in there["tomas"][1]


def test_what_has_records_and_is_not_told_is_no_absence(tmp_path: Path) -> None:
    """`update-alternatives` says nothing of a name whose record it cannot read."""
    top = linux_tree(tmp_path / "tree")
    (top / "var/lib/dpkg/alternatives").mkdir()
    (top / "var/lib/dpkg/alternatives/dig").symlink_to("/nowhere/dig")
    (step,) = load(file := procedure(tmp_path / "p.toml", '[[delete]]\nalternatives_to = "/opt/hoe"\n')).steps
    seen = look(alone(load(file), step), f"root:{top}")
    assert seen.doubts[1:] == (True, True)
    assert not seen.clean


def test_every_kind_is_among_them() -> None:
    """A kind that is added has to be found in a whole product, and to be looked for while reads fail."""
    there = {step.kind for step in _steps(HERE / "every-kind.procedure.toml")}
    for line in STEPS.splitlines():
        there.add(line.partition(" =")[0])
    assert set(KINDS) - there - OTHERWISE == set()
    assert OTHERWISE - set(KINDS) == set()


def _steps(file: Path) -> tuple[LoadedStep, ...]:
    loaded = load(file)
    return (*loaded.evidence, *loaded.steps)
