"""What every tree of files of a Windows has to do."""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager

from kleff.procedure.globs import fold
from kleff.workstation.files.protocol import FileTree, Folder
from kleff.workstation.paths import WPath
from kleff.workstation.windows.contract.checks import Broken, Check, expect, refused

ALIKE = ("Seed Planner B.txt", "Seed Planner A.txt")  # in this order
NAMES = ("Beds.txt", "grün", "\U0001f331 seed", " leading", "trailing ", "dots...", "NUL", "com1.txt", "a]b[c", "x" * 250, "half \ud83c")
LONG = ("a long name of a folder, as people make them " * 3).strip()
SECOND = 1_000_000_000  # ns
STREAM = "windows.stream."
WHEN = (1_700_000_000 * SECOND, 1_600_000_000 * SECOND + 700)


class FilesContract:
    """Args:
    tree: the files; folder: an empty one, in which everything happens.
    held: opens a file as a program does that lets nobody else have it, for as long as the block lasts; None if nothing can.
    """

    def __init__(self, tree: FileTree, folder: WPath, held: Callable[[WPath], AbstractContextManager[object]] | None) -> None:
        self._tree, self._top, self._held = tree, folder, held

    def checks(self) -> dict[str, Check]:
        held: dict[str, Check] = {"what a program holds": self._is_held} if self._held else {}
        return {
            "letter case": self._letter_case, "names": self._names, "short names": self._short_names,
            "a short name that is given": self._short_name_given, "a long way down": self._long,
            "renaming replaces nothing": self._rename, "a second name": self._second_name, "deleting": self._delete,
            "a read-only file": self._read_only, "deleting what somebody reads": self._read_meanwhile, "times": self._times,
            "a copy": self._copy, "links": self._links, "streams": self._streams, **held,
        }  # fmt: skip

    def clear(self) -> None:
        """Take away what the checks have made."""
        with self._tree.parent(self._top) as (above, name):
            above.delete_tree(name, lambda count: None)

    # -- help -------------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _folder(self, name: str) -> Iterator[tuple[Folder, WPath]]:
        """A new folder of a check's own."""
        with self._tree.folder(self._top) as top:
            top.make_folder(name)
        with self._tree.folder(self._top.child(name)) as folder:
            yield folder, self._top.child(name)

    def _write(self, folder: Folder, name: str, data: bytes = b"x") -> None:
        file = folder.create(name)
        try:
            file.write(data)
        finally:
            file.close()

    # -- checks -----------------------------------------------------------------------------------------------

    def _letter_case(self) -> None:
        """Found in any, kept as first written."""
        with self._folder("case") as (folder, path):
            self._write(folder, "Beds.txt")
            refused("making a second of another letter case", lambda: folder.create("BEDS.TXT"))
            expect("its size", (self._tree.look(path.child("bEDS.txt")) or folder.look()).size, 1)
            expect("as it is spelled", self._tree.spelled(folder, "BEDS.txt"), "Beds.txt")
            folder.rename("Beds.txt", folder, "Sage.txt")
            expect("names", folder.names(), ["Sage.txt"])

    def _short_names(self) -> None:
        """What is called by its short name is what has it, by whichever way."""
        with self._folder("short") as (folder, path):
            for name in ALIKE:
                self._write(folder, name, name.encode())
            shorts = {name: folder.short_name(name) for name in folder.names()}
            for name, short in shorts.items() if any(shorts.values()) else ():  # or it is a volume without
                expect("as it is spelled", self._tree.spelled(folder, short), name)
                expect("what a text means", self._tree.path(f"{path}\\{short}"), path.child(name))
                expect("where it leads", self._tree.resolve(path.child(short)).path, path.child(name))
                expect("its content", self._tree.read(path.child(short)), name.encode())

    def _short_name_given(self) -> None:
        """Never one that another has."""
        with self._folder("given") as (folder, _):
            for name in ALIKE:
                self._write(folder, name)
            first, second = (folder.short_name(name) for name in ALIKE)
            if first:
                refused("giving a short name that another has", lambda: folder.set_short_name(ALIKE[1], first))
                expect("the short name that was not given", folder.short_name(ALIKE[1]), second)
                folder.rename(ALIKE[0], folder, "Else")
                folder.set_short_name(ALIKE[1], first)
                expect("the short name that was given", fold(folder.short_name(ALIKE[1])), fold(first))

    def _names(self) -> None:
        """Any that can stand on the disk, also those that programs cannot open; none that is more than one step."""
        with self._folder("names") as (folder, path):
            for name in NAMES:
                with contextlib.suppress(FileNotFoundError if "\ud83c" in name else BrokenPipeError):
                    self._write(folder, name, name.encode("utf-16-le", "surrogatepass"))
            found = folder.names()
            expect("names", [name for name in NAMES if name not in found and "\ud83c" not in name], [])
            for name in found:
                expect(f"what is in {name!r}", self._tree.read(path.child(name)), name.encode("utf-16-le", "surrogatepass"))
                folder.remove(name)
            expect("names that are left", folder.names(), [])
            for name in ("a\\b", "..", ".", "", "a:b", "*"):
                refused(f"making a file called {name!r}", lambda name=name: folder.create(name))  # type: ignore[misc]

    def _long(self) -> None:
        """Far beyond what programs can usually open."""
        with self._folder("long") as (_, path):
            for _ in range(5):
                with self._tree.folder(path) as folder:
                    folder.make_folder(LONG)
                path = path.child(LONG)
            with self._tree.folder(path) as folder:
                self._write(folder, "at the end.txt")
            expect("characters of the path", len(str(path)) > 520, True)
            expect("what is there", self._tree.read(path.child("at the end.txt")), b"x")
            expect("how many", self._tree.measure(self._top.child("long")).items, 7)

    def _rename(self) -> None:
        with self._folder("rename") as (folder, _):
            for name in ("a", "b"):
                self._write(folder, name, name.encode())
            refused("renaming onto another file", lambda: folder.rename("a", folder, "b"))
            folder.make_folder("into")
            refused("renaming onto a folder", lambda: folder.rename("a", folder, "into"))
            with folder.folder("into") as into:
                folder.rename("a", into, "c")
                expect("there", into.names(), ["c"])
            folder.rename("into", folder, "elsewhere")
            expect("here", sorted(folder.names()), ["b", "elsewhere"])

    def _second_name(self) -> None:
        with self._folder("second") as (folder, path):
            self._write(folder, "a", b"beds")
            folder.link("a", folder, "b")
            looks = [self._tree.look(path.child(name)) for name in ("a", "b")]
            expect("names of it", [look and look.links for look in looks], [2, 2])
            expect("that it is one", len({look and look.identity for look in looks}), 1)
            refused("a second name that is taken", lambda: folder.link("a", folder, "b"))
            folder.remove("a")
            expect("what is left", self._tree.read(path.child("b")), b"beds")

    def _delete(self) -> None:
        with self._folder("delete") as (folder, _):
            folder.make_folder("full")
            with folder.folder("full") as full:
                self._write(full, "a")
                full.make_folder("deeper")
            folder.remove_if_empty("full")
            expect("a folder that is not empty", folder.names(), ["full"])
            refused("deleting a folder as a file", lambda: folder.remove("full"))
            gone: list[int] = []
            folder.delete_tree("full", gone.append)
            expect("items that are told to go", sum(gone), 2)
            folder.delete_tree("full", gone.append)
            expect("names", folder.names(), [])
            _absent(lambda: folder.look_at("full"))

    def _read_only(self) -> None:
        """Is told, and is deleted as any other."""
        with self._folder("only") as (folder, _):
            self._write(folder, "a")
            with folder.file("a") as file:
                file.set_mode(0o444)
            expect("that it may not be written", folder.look_at("a").mode & 0o222, 0)
            folder.make_folder("b")
            folder.rename("a", folder, "c")
            folder.remove("c")
            expect("names", folder.names(), ["b"])

    def _read_meanwhile(self) -> None:
        """The name is gone at once; who reads it reads on."""
        with self._folder("meanwhile") as (folder, _):
            self._write(folder, "a", b"beds")
            with folder.file("a") as file:
                folder.remove("a")
                expect("names", folder.names(), [])
                self._write(folder, "a", b"new")
                expect("what is read", file.read(10), b"beds")

    def _times(self) -> None:
        with self._folder("times") as (folder, path):
            folder.make_folder("a")
            with folder.folder("a") as below:
                below.set_times(WHEN)
            look = self._tree.look(path.child("a"))
            expect("times", look and look.times, WHEN)

    def _copy(self) -> None:
        """With times and all that belongs to it, whole."""
        with self._folder("copy") as (folder, path):
            folder.make_folder("from")
            with folder.folder("from") as source:
                self._write(source, "a", bytes(range(256)) * 5000)
                source.make_folder("b")
                source.set_times(WHEN)
            told: list[int] = []
            folder.copy_tree("from", folder, "to", lambda items, size: told.append(size))
            found = {p.parts[-1]: look.size for p, look in self._tree.walk(path.child("to")) if look.is_file}
            expect("what is there", (found, self._tree.names(path.child("to"))), ({"a": 1280000}, ["a", "b"]))
            expect("sums", self._tree.sha256(path.child("to", "a")), self._tree.sha256(path.child("from", "a")))
            with folder.folder("from") as source, folder.folder("to") as copy:
                expect("times", copy.look().times[1], WHEN[1])
                expect("attributes", copy.attributes(), source.attributes())

    def _links(self) -> None:
        """A link to a folder is a leaf: nothing goes by it, and with it nothing goes of what it leads to."""
        with self._folder("links") as (folder, path):
            folder.make_folder("target")
            with folder.folder("target") as target:
                self._write(target, "kept")
            folder.make_link("link", str(path.child("target")))
            look = folder.look_at("link")
            expect("what it is", look.word, "link")
            expect("where it leads", folder.read_link("link").casefold(), str(path.child("target")).casefold())
            refused("entering it", lambda: folder.folder("link").__enter__())
            expect("what is found", sorted(p.name for p, _ in self._tree.walk(path)), ["kept", "link", "links", "target"])
            folder.delete_tree("link", lambda count: None)
            expect("what it led to", self._tree.names(path.child("target")), ["kept"])

    def _streams(self) -> None:
        """What else a file holds goes with its copy."""
        with self._folder("streams") as (folder, path):
            self._write(folder, "a", b"main")
            with folder.file("a") as file:
                kept = {name for name in file.attributes() if name.startswith(STREAM)}
            expect("streams of a plain file", kept, set())
            with folder.file("a") as file:
                file.set_attribute(f"{STREAM}beds", b"12 of sage")
            folder.make_folder("to")
            with folder.folder("to") as to:
                folder.copy_file("a", to, "a", self._tree.look(path.child("a")) or folder.look())
                with to.file("a") as copied:
                    expect("a stream of the copy", copied.attributes().get(f"{STREAM}beds"), b"12 of sage")

    def _is_held(self) -> None:
        """Neither moved nor deleted, and told so; afterwards it can be."""
        assert self._held is not None
        with self._folder("held") as (folder, path):
            self._write(folder, "a")
            with self._held(path.child("a")):
                for what, act in (("renaming", lambda: folder.rename("a", folder, "b")), ("deleting", lambda: folder.remove("a"))):
                    _busy(f"{what} a file that is held", act)
            folder.remove("a")
            expect("names", folder.names(), [])


def _absent(look: Callable[[], object]) -> None:
    try:
        look()
    except FileNotFoundError:
        return
    raise Broken("what was deleted is there")


def _busy(what: str, act: Callable[[], object]) -> None:
    try:
        act()
    except OSError as error:
        if error.errno not in (errno.EBUSY, errno.EACCES):
            raise
        return
    raise Broken(f"{what} was done")
