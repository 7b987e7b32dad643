"""What holds of every workstation and procedure, tried on generated ones in memory."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path, PurePosixPath
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from memory import Bench, delete, killed_at
from test_engine import goes_on

NAMES = st.sampled_from(["a", "b", "Tag", "tag", "x.design", "y.design", ".hidden", "ü", "c d", "soft\u00adhyphen"])
PATHS = st.lists(NAMES, min_size=1, max_size=4).map("/".join)
TOPS = ["/opt/rakeworks", "/var/lib/rake", "/srv/rake"]
KEEPS = ["/opt/rakeworks/**/*.design", "/var/lib/rake/a", "/srv/rake/**/tag", "/opt/rakeworks/Tag/**"]
MANY = settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))

LINKED = st.sampled_from(["/home/mira", "a", "../x", "/opt/neighbour"])
TARGETS = st.sampled_from([*TOPS, "/opt/rakeworks/Tag", "/opt/rakeworks/**/*.design", "/srv/rake/*", "/var/lib/rake/[ab]"])

benches = st.fixed_dictionaries({
    "files": st.dictionaries(st.tuples(st.sampled_from(TOPS), PATHS), st.sampled_from(["", "one", "two"]), max_size=12),
    "links": st.dictionaries(st.tuples(st.sampled_from(TOPS), PATHS), LINKED, max_size=3),
    "targets": st.lists(TARGETS, min_size=1, max_size=4),
    "keeps": st.lists(st.sampled_from(KEEPS), max_size=2, unique=True),
    "owned": st.lists(PATHS, max_size=2, unique=True),
    "empty_only": st.booleans(),
})  # fmt: skip


def build(folder: Path, what: dict[str, Any]) -> Bench:
    """A workstation with such files, beside those of a neighbour; `owned` are a package's that stays."""
    bench = Bench(folder, "linux")
    files = bench.on.files
    for name in TOPS:
        files.add(name, folder=True)
    files.add("/opt/neighbour/own", "neighbour's")
    for (top, below), content in what["files"].items():
        put(bench, f"{top}/{below}", content=content)
    for (top, below), target in what["links"].items():
        put(bench, f"{top}/{below}", target=target)
    owned = [f"/opt/rakeworks/{below}" for below in what["owned"]]
    there = [text for text in owned if free(bench, text)]
    bench.on.packages.add("stays", "1", there[:1])
    return bench


def free(bench: Bench, text: str) -> bool:
    """Whether a new file can stand there: nothing does, and what is above are folders, no links."""
    files = bench.on.files
    try:
        looks = [files.look(files.path(str(above))) for above in PurePosixPath(text).parents]
    except OSError:  # below a link
        return False
    return all(look is None or look.is_folder for look in looks) and files.look(files.path(text)) is None


def put(bench: Bench, text: str, **more: str) -> None:
    if free(bench, text):
        bench.on.files.add(text, **more)


def procedure_of(what: dict[str, Any]) -> str:
    keep = "[keep]\npaths = [" + ", ".join(f"'{k}'" for k in what["keeps"]) + "]\n"
    more = "at_most = 1000\n" + ("only_if_empty = true\n" if what["empty_only"] else "")
    return keep + "".join(delete(target, more="at_most = 1000\n" if "*" in target or "[" in target else more) for target in what["targets"])


def kept_by(what: dict[str, Any], path: tuple[str, ...]) -> bool:
    """Whether the procedure keeps a path, told anew from the words of the format."""
    text = "/" + "/".join(path[1:])
    return any((
        "/opt/rakeworks/**/*.design" in what["keeps"] and text.startswith("/opt/rakeworks/") and text.endswith(".design"),
        "/var/lib/rake/a" in what["keeps"] and (text == "/var/lib/rake/a" or text.startswith("/var/lib/rake/a/")),
        "/srv/rake/**/tag" in what["keeps"] and text.startswith("/srv/rake/") and path[-1] == "tag",
        "/opt/rakeworks/Tag/**" in what["keeps"] and text.startswith("/opt/rakeworks/Tag/"),
    ))  # fmt: skip


@MANY
@given(benches)
def test_only_what_is_named_goes_and_all_of_it_comes_back(what: dict[str, Any]) -> None:
    """Nothing outside the targets changes, nothing kept or owned goes, a clean end means that nothing named is there; undo is identity."""
    folder = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    try:
        bench = build(folder, what)
        before = bench.files
        job, ended = bench.run(procedure_of(what))
        now = bench.files
        gone = set(before) - set(now)
        for path in gone:
            text = "/" + "/".join(path[1:])
            assert any(text == top or text.startswith(f"{top}/") for top in TOPS), text
            assert not kept_by(what, path), text
            assert text not in bench.on.packages.owners([bench.on.files.path(text)], below=False), text
        assert set(now) <= set(before)
        contents = {path: data[3:5] for path, data in now.items()}
        assert contents == {path: before[path][3:5] for path in now}
        left = {f.state for f in ended.verification.findings}
        assert ended.clean == (left <= {"kept"})
        if ended.clean and not left:
            for target in what["targets"]:
                if not set(target) & set("*["):
                    assert bench.on.files.look(bench.on.files.path(target)) is None, target
        assert job.undo().stays == []
        assert bench.files == before
    finally:
        shutil.rmtree(folder)


@settings(MANY, max_examples=100)
@given(benches, st.integers(1, 60), st.booleans(), st.sampled_from(["resume", "undo"]))
def test_killed_anywhere(what: dict[str, Any], write: int, after: bool, way: str) -> None:
    """Resumed it ends as if it had not been, taken back as if nothing had been."""
    folder = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    try:
        whole = build(folder / "whole", what)
        before = set(whole.files)
        with killed_at(0, False) as writes:
            whole.run(procedure_of(what))
        bench = build(folder / "killed", what)
        with killed_at(min(write, writes[0]), after):
            bench.run(procedure_of(what))
        case = next((folder / "killed/cases").iterdir())
        begun = goes_on(bench, bench.job(procedure_of(what)), case, way)
        if way == "resume" and begun:
            assert set(bench.files) == set(whole.files)
        else:
            assert set(bench.files) == before
    finally:
        shutil.rmtree(folder)
