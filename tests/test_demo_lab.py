"""The whole way on the demo's lab: everything named is gone, everything else is identical, and it can be taken back."""

from __future__ import annotations

import json
import os
import re
import struct
import subprocess
import sys
from base64 import b64decode
from pathlib import Path

import pytest

from kleff.procedure.globs import fold
from kleff.workstation.lab.lab import Lab
from support import Kleff, differences, hives, tree

# Everything of Tag Studio 4, by place; whatever lies elsewhere must not change in a single byte.
PLACES = (
    "Program Files/Brindlewort/Tag Studio 4", "Program Files (x86)/Brindlewort", "ProgramData/Brindlewort/Tag Studio",
    "ProgramData/Brindlewort/licence.bwl", "AppData/Roaming/Brindlewort/Tag Studio", "AppData/Local/Brindlewort", ".brindlewort",
    "Tag Studio 4.lnk", "till/AppData/Roaming/Brindlewort",
)  # fmt: skip
KEPT = "Program Files/Brindlewort/Tag Studio 4/templates/mine/Heirloom tomatoes, row 3.tagdesign"
KEYS = (
    r"\BRINDLEWORT\TAG STUDIO\ ".strip(),
    r"\.TAGDESIGN",
    r"\BRINDLEWORT.TAGDESIGN",
    "{6F1C2B0A",
    "{0D7A52C4",
    r"\UNINSTALL\TAG STUDIO 4",
)
GONE_KEYS = (*KEYS, r"\APP PATHS\TAGSTUDIO.EXE", r"\SERVICES\BRINDLEWORTPRINTBRIDGE")


def _is_product(path: str) -> bool:
    return any(place in path for place in PLACES) and not KEPT.startswith(path)


def _is_product_key(key: str) -> bool:
    text = fold(key) + "\\"
    return any(part.rstrip("\\") in text for part in GONE_KEYS) and r"\TAG STUDIO 3\ ".strip() not in text


def _unchanged(lab: Path, before: dict[str, tuple[object, ...]], after: dict[str, tuple[object, ...]]) -> list[str]:
    """Differences outside the product, parents of removed things aside (their times change)."""
    removed = {p for p in before if _is_product(p)}
    parents = {os.path.dirname(p) for p in removed} | {"."}

    def rest(found: dict[str, tuple[object, ...]]) -> dict[str, object]:
        return {p: (v[:3] + v[4:] if p in parents else v) for p, v in found.items() if not _is_product(p)}

    return [d for d in differences(rest(before), rest(after)) if "Rescued from" not in d]


def test_demo_runs_and_removes_exactly_the_product(kleff: Kleff, tmp_path: Path) -> None:
    done = kleff("demo", tmp_path / "demo")
    lab, case = tmp_path / "demo/POTTING-02", next((tmp_path / "demo/cases").iterdir())
    assert re.search(rf"kleff undo {re.escape(str(case))}$", done.out, re.MULTILINE)
    assert "nothing is left" in done.out
    after, keys = tree(lab / "files/C"), hives(lab)
    assert KEPT in after
    assert [p for p in after if _is_product(p)] == []
    assert [k for k in keys if _is_product_key(k)] == []
    values = {v for k in keys if fold(k).endswith("\\RUN") for v in keys[k]}
    assert values == {"Stocktake", "Notes"}


def test_everything_else_is_identical(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    before, keys_before = tree(lab / "files/C"), hives(lab)
    assert len(before) > 400
    assert sum(map(_is_product_key, keys_before)) >= 55
    assert sum(not _is_product_key(k) for k in keys_before) > 300
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    assert _unchanged(lab, before, tree(lab / "files/C")) == []
    keys_after = hives(lab)
    run_keys = {k for k in keys_before if fold(k).endswith("\\CURRENTVERSION\\RUN")}
    neighbours = {k: v for k, v in keys_before.items() if not _is_product_key(k) and k not in run_keys}
    assert differences(neighbours, {k: v for k, v in keys_after.items() if k not in run_keys}) == []
    for key in run_keys:
        assert set(keys_before[key]) - set(keys_after[key]) <= {"Tag Studio Tray", "Brindlewort Label Warmer"}
    assert kleff("verify", tag_studio, "--on", f"lab:{lab}").code == 0
    assert "not here" in kleff("list", "--library", lab.parent, "--on", f"lab:{lab}").out


@pytest.mark.parametrize("spare", ["links", "full"])
def test_undo_gives_back_everything_uninstallers_included(kleff: Kleff, lab: Path, tag_studio: Path, spare: str) -> None:
    """The whole workstation is byte-identical again: files, times, both views, every hive, the service running."""
    big = lab / "files/C/Program Files/Brindlewort/Tag Studio 4/lib"
    (big / "huge.dll").write_bytes(b"dll" * 50_000)
    (big / "twin.dll").hardlink_to(big / "huge.dll")
    (big / "link.dll").symlink_to("huge.dll")
    (big / "huge.dll").chmod(0o604)
    entries = ((1, 6, -1), (2, 4, 1001), (4, 4, -1), (16, 4, -1), (32, 0, -1))  # acl(5): owner, user 1001, group, mask, others
    acl = struct.pack("<I", 2) + b"".join(struct.pack("<HHi", *entry) for entry in entries)
    for path in (big, big / "tag00.dll", big.parent / "locale/de.lang"):
        os.setxattr(path, "system.posix_acl_access", acl)
        os.setxattr(path, "user.bench", b"17")
    before, keys_before = tree(lab / "files/C"), hives(lab)
    exported = {path.name: path.read_bytes() for path in (lab / "registry").rglob("*.reg")}
    services = Lab(lab).state().running_services
    out = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--spare", spare).out
    assert "line of no return" not in out
    assert ("146.5 KiB linked" in out) == (spare == "links")
    assert not (big / "huge.dll").exists()
    assert "it removed 39 paths" in kleff("report", kleff.case()).out
    assert differences(before, tree(lab / "files/C")) != []
    done = kleff("undo", kleff.case(), "--yes")
    assert "brought back from the spare: Brindlewort Tag Studio 4.2" in done.out
    assert differences(before, tree(lab / "files/C")) == []
    assert differences(keys_before, hives(lab)) == []
    assert {path.name: path.read_bytes() for path in (lab / "registry").rglob("*.reg")} == exported, "an export is the same text"
    assert sorted(Lab(lab).state().running_services) == sorted(services)
    assert not (lab / "files/C/.kleff").exists()


def test_what_was_changed_in_place_is_never_passed_off_as_the_original(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    index = json.loads(min((kleff.case() / "undo").glob("*-spare.json")).read_text())
    kept = next(t for t in index["things"] if b64decode(t["path"]).endswith(b"tagdb.exe"))
    victim = (lab / "files/C").joinpath(*b64decode(kept["held"]).decode().split("\0")[1:])
    with victim.open("ab") as file:
        file.write(b"changed")
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "it was changed before it was removed" in done.out
    assert victim.exists(), "what there is of it is left"


def test_without_a_spare_undo_gives_back_all_that_kleff_did(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """Byte-identical but for what the uninstallers removed, which is named; the preview has drawn a line of no return."""
    before, keys_before = tree(lab / "files/C"), hives(lab)
    out = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes", "--spare", "off").out
    assert "line of no return before action 23" in out
    done = kleff("undo", kleff.case(), "--yes", code=4)
    assert "what the uninstaller of Brindlewort Tag Studio 4.2 (4.2.0) removed is not taken back" in done.out
    after, keys_after = tree(lab / "files/C"), hives(lab)
    by_uninstaller = {p for p in before if p not in after}
    studio, probe = "Program Files/Brindlewort/Tag Studio 4", "Program Files (x86)/Brindlewort/Tag Studio 4"
    assert all(
        p.startswith((f"{studio}/lib", f"{studio}/bin", f"{studio}/locale")) or p.endswith((".exe", "probe32.dll")) for p in by_uninstaller
    )
    left = {p: v for p, v in before.items() if p not in by_uninstaller and p not in (studio, probe)}
    assert differences(left, {p: v for p, v in after.items() if p not in (studio, probe)}) == []
    gone = {k for k in keys_before if k not in keys_after}
    assert all(_is_product_key(k) for k in gone)
    assert len(gone) == 5  # what the two uninstallers deleted themselves
    assert differences({k: v for k, v in keys_before.items() if k not in gone}, keys_after) == []
    assert not (lab / "files/C/.kleff").exists()
    assert "taken back already" in kleff("undo", kleff.case(), "--yes", code=3).err


def test_bag_is_a_bag_for_everybody(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    bag = kleff.case() / "bag"
    done = subprocess.run([sys.executable, "-m", "bagit", "--validate", str(bag)], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    for path in [kleff.case(), *kleff.case().rglob("*")]:
        assert path.stat().st_mode & 0o077 == 0, path
    assert (bag / "data/018-label-database/labels.sql").read_text().startswith("CREATE TABLE labels")
    text = (bag / "data/013-settings-in-the-registry/001.reg").read_bytes()
    assert text.startswith(b"\xff\xfe")
    assert not list(kleff.case().glob("case.db-*"))


def test_discard_deletes_for_good_and_only_what_was_set_aside(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    state = tree(lab / "files/C")
    assert "not confirmed" in kleff("discard", kleff.case(), code=3).err
    assert (lab / "files/C/.kleff").is_dir()
    kleff("discard", kleff.case(), "--yes")
    assert not (lab / "files/C/.kleff").exists()
    assert differences(state, tree(lab / "files/C")) == []
    assert "discarded" in kleff("undo", kleff.case(), "--yes", code=3).err
    kleff("report", kleff.case())


def test_nothing_to_do_makes_no_case(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    kleff("discard", kleff.case(), "--yes")
    before = tree(lab)
    done = kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    assert "no case was made" in done.err
    assert len(list(kleff.cases.iterdir())) == 1
    changed = [d for d in differences(before, tree(lab)) if "state/" not in d and ": state" not in d]
    assert changed == []


def test_a_part_is_taken_back(kleff: Kleff, lab: Path, tag_studio: Path) -> None:
    """By label and by number; the rest stays removed, the case stays finished, and the whole can still be taken back."""
    before, keys = tree(lab / "files/C"), hives(lab)
    kleff("run", tag_studio, "--on", f"lab:{lab}", "--yes")
    assert "labels are" in kleff("undo", kleff.case(), "--only", "nonsense", "--yes", code=2).err
    kleff("undo", kleff.case(), "--only", "profiles", "--only", "28", "--yes")
    after = tree(lab / "files/C")
    back = {p for p in before if ("/Tag Studio" in p and "AppData" in p) or ".brindlewort" in p or p.endswith("licence.bwl")}
    assert back
    assert all(after[p][4] == before[p][4] for p in back)
    assert not (lab / "files/C/ProgramData/Brindlewort/Tag Studio").exists()
    assert "taken back in part" in json.dumps(kleff("report", kleff.case(), "--json").json()["events"])
    assert kleff("verify", kleff.case(), code=4).code == 4
    kleff("undo", kleff.case(), "--yes")
    assert differences(before, tree(lab / "files/C")) == []
    assert differences(keys, hives(lab)) == []
