"""What every registry has to do."""

from __future__ import annotations

from kleff.procedure.globs import fold
from kleff.registry.regfile import RegKey
from kleff.registry.registry import Registry, RegistryApi
from kleff.registry.values import REG_DWORD, REG_LINK, REG_SZ, RegValue, list_value, number_value, text_value
from kleff.workstation.windows.contract.checks import Check, expect, refused

TOP = r"SOFTWARE\Alder Row\Contract"
TOP_32 = r"SOFTWARE\Wow6432Node\Alder Row\Contract"
APP_PATHS = r"Software\Microsoft\Windows\CurrentVersion\App Paths"
OURS_TOO = APP_PATHS.replace("Software", r"Software\Wow6432Node", 1)
RAW = (
    b"", b"\0", b"x", b"b\0e\0d\0", b"b\0e\0d\0\0\0", b"a\0\0\0b\0\0\0", bytes(range(256)), b"line\0\r\0\n\0\0\0", b"\xff\xff\xff\xff\xff",
)  # fmt: skip
TYPES = (0, 1, 2, 3, 4, 5, 6, 7, 8, 11, 0x1234, 0xDEADBEEF)
NAMES = ("Beds", "with ] and [", r"with a / and a \ "[:12], "grün", "\U0001f331 seed", "x" * 200, " leading", "trailing ", "{8a1f}")


class RegistryContract:
    """Args: api: the registry; everything happens below `TOP` in both views, which is taken away afterwards."""

    def __init__(self, api: RegistryApi) -> None:
        self._api = api

    def checks(self) -> dict[str, Check]:
        return {
            "letter case": self._letter_case, "what is missing": self._missing, "every type": self._types, "names": self._names,
            "many": self._many, "a large value": self._large, "a key with others below it": self._not_empty, "views": self._views,
            "shared by both views": self._shared, "links": self._links,
            "a link is made once": self._link_once, "a tree there and back": self._tree,
        }  # fmt: skip

    def clear(self) -> None:
        """Take away what the checks have made."""
        for path in (TOP, TOP_32):
            self._delete(path)
            above = path.rpartition("\\")[0]
            if self._api.subkeys("HKLM", above) == []:
                self._api.delete_key("HKLM", above)
        self._api.flush()

    def _delete(self, path: str) -> None:
        if self._api.link("HKLM", path) is None:
            for name in self._api.subkeys("HKLM", path) or []:
                self._delete(f"{path}\\{name}")
        self._api.delete_key("HKLM", path)

    def _letter_case(self) -> None:
        """Found in any, kept as first written."""
        self._api.create("HKLM", f"{TOP}\\Letter\\Beds")
        self._api.create("HKLM", f"{TOP}\\LETTER\\bEDS")
        expect("keys", self._api.subkeys("HKLM", f"{TOP}\\lETTER"), ["Beds"])
        self._api.set("HKLM", f"{TOP}\\letter", text_value("Name", "a"))
        self._api.set("HKLM", f"{TOP}\\letter", text_value("NAME", "b"))
        expect("values", self._api.values("HKLM", f"{TOP}\\Letter"), [text_value("Name", "b")])
        self._api.delete_value("HKLM", f"{TOP}\\Letter", "nAmE")
        expect("values after one is deleted", self._api.values("HKLM", f"{TOP}\\Letter"), [])

    def _missing(self) -> None:
        """Is told, and no error to take away."""
        path = f"{TOP}\\Nowhere\\At all"
        expect("keys below", self._api.subkeys("HKLM", path), None)
        expect("values", self._api.values("HKLM", path), None)
        expect("link", self._api.link("HKLM", path), None)
        self._api.delete_value("HKLM", path, "x")
        self._api.delete_key("HKLM", path)
        self._api.create("HKLM", f"{TOP}\\There")
        self._api.delete_value("HKLM", f"{TOP}\\There", "x")
        expect("values of an empty key", self._api.values("HKLM", f"{TOP}\\There"), [])
        self._api.set("HKLM", path, text_value("", "made"))
        expect("a value whose key was missing", self._api.values("HKLM", path), [text_value("", "made")])

    def _types(self) -> None:
        """Every type with any bytes is what was written."""
        for kind in TYPES:
            path = f"{TOP}\\Types\\{kind:x}"
            wanted = {f"v{at}": RegValue(f"v{at}", kind, raw) for at, raw in enumerate(RAW)}
            self._api.create("HKLM", path)
            for value in wanted.values():
                self._api.set("HKLM", path, value)
            found = {value.name: value for value in self._api.values("HKLM", path) or []}
            expect(f"values of type {kind:#x}", found, wanted)

    def _names(self) -> None:
        for name in NAMES:
            path = f"{TOP}\\Names\\{name}"
            self._api.create("HKLM", path)
            self._api.set("HKLM", path, number_value(name, 7))
            expect(f"values of {name!r}", self._api.values("HKLM", path), [number_value(name, 7)])
        found = self._api.subkeys("HKLM", f"{TOP}\\Names") or []
        expect("names", sorted(map(fold, found)), sorted(map(fold, NAMES)))

    def _many(self) -> None:
        names = [f"bed {number}" for number in range(300)]
        for name in names:
            self._api.create("HKLM", f"{TOP}\\Many\\{name}")
            self._api.set("HKLM", f"{TOP}\\Many", text_value(name, name * 3))
        expect("keys", sorted(self._api.subkeys("HKLM", f"{TOP}\\Many") or []), sorted(names))
        expect("values", sorted(v.name for v in self._api.values("HKLM", f"{TOP}\\Many") or []), sorted(names))

    def _large(self) -> None:
        value = RegValue("large", 3, bytes(range(256)) * 4096)
        self._api.set("HKLM", f"{TOP}\\Large", value)
        self._api.set("HKLM", f"{TOP}\\Large", text_value("small", "x"))
        found = {v.name: v for v in self._api.values("HKLM", f"{TOP}\\Large") or []}
        expect("values", found, {"large": value, "small": text_value("small", "x")})

    def _not_empty(self) -> None:
        self._api.create("HKLM", f"{TOP}\\Above\\Below")
        refused("deleting a key with another below it", lambda: self._api.delete_key("HKLM", f"{TOP}\\Above"))
        expect("the key below", self._api.subkeys("HKLM", f"{TOP}\\Above"), ["Below"])
        self._api.delete_key("HKLM", f"{TOP}\\Above\\Below")
        self._api.delete_key("HKLM", f"{TOP}\\Above")
        expect("the key itself", self._api.values("HKLM", f"{TOP}\\Above"), None)

    def _views(self) -> None:
        """The 32-bit view is a place of its own; what is deleted in one stays in the other."""
        self._api.set("HKLM", f"{TOP}\\View", number_value("bits", 64))
        expect("of the other view", self._api.values("HKLM", f"{TOP_32}\\View"), None)
        self._api.set("HKLM", f"{TOP_32}\\View", number_value("bits", 32))
        expect("of this view", self._api.values("HKLM", f"{TOP}\\View"), [number_value("bits", 64)])
        self._api.delete_key("HKLM", f"{TOP_32}\\View")
        expect("of this view still", self._api.values("HKLM", f"{TOP}\\View"), [number_value("bits", 64)])

    def _shared(self) -> None:
        """A key whose 32-bit name is a link to the other is one key, by either name; so are those that the system itself shares."""
        registry = Registry(self._api)
        self._api.create("HKLM", f"{TOP}\\Shared\\Beds")
        self._api.create("HKLM", TOP_32)
        self._api.make_link("HKLM", f"{TOP_32}\\Shared", self._to("Shared"))
        for name in (f"{TOP}\\Shared\\Beds", f"{TOP_32}\\Shared\\Beds"):
            expect("the key", [key.physical for key in registry.canonical(f"HKLM\\{name}")], [f"{TOP}\\Shared\\Beds"])
        self._api.set("HKLM", f"{TOP_32}\\Shared\\Beds", text_value("x", "y"))
        expect("by its other name", self._api.values("HKLM", f"{TOP}\\Shared\\Beds"), [text_value("x", "y")])
        link = self._api.link("HKLM", OURS_TOO)
        if link is not None:
            leads = link.raw.decode("utf-16-le", "replace")
            expect("where App Paths leads", fold(leads), fold(f"\\Registry\\Machine\\{APP_PATHS}"))

    def _links(self) -> None:
        """Leaves: what a link leads to is seen below its name only, and stays when it is deleted."""
        self._api.set("HKLM", f"{TOP}\\Target\\Below", text_value("x", "y"))
        link = self._to("Target")
        self._api.make_link("HKLM", f"{TOP}\\Link", link)
        expect("where it leads", self._api.link("HKLM", f"{TOP}\\Link"), link)
        expect("its own values", self._api.values("HKLM", f"{TOP}\\Link"), [link])
        expect("keys of its own", self._api.subkeys("HKLM", f"{TOP}\\Link"), [])
        expect("of what is no link", self._api.link("HKLM", f"{TOP}\\Target"), None)
        expect("a key behind it", self._api.values("HKLM", f"{TOP}\\Link\\Below"), [text_value("x", "y")])
        self._api.delete_key("HKLM", f"{TOP}\\Link")
        expect("the link", self._api.link("HKLM", f"{TOP}\\Link"), None)
        expect("what it led to", self._api.values("HKLM", f"{TOP}\\Target\\Below"), [text_value("x", "y")])

    def _link_once(self) -> None:
        self._api.set("HKLM", f"{TOP}\\Taken", text_value("x", "y"))
        self._api.make_link("HKLM", f"{TOP}\\Taken", self._to("Target"))
        expect("what was there", self._api.values("HKLM", f"{TOP}\\Taken"), [text_value("x", "y")])

    def _to(self, name: str) -> RegValue:
        return RegValue("SymbolicLinkValue", REG_LINK, f"\\Registry\\Machine\\{TOP}\\{name}".encode("utf-16-le"))

    def _tree(self) -> None:
        """Read, deleted and written back by what works with it, in the view it came from."""
        registry = Registry(self._api)
        (key,) = (k for k in registry.canonical(f"HKLM\\{TOP}\\Tree") if k.view == 64)
        tree = RegKey("Tree")
        tree.set(text_value("", "default"))
        tree.make(["a", "b"]).set(list_value("list", ["one", "", "two"]))
        tree.make(["c"]).set(RegValue("odd", REG_DWORD, b"\1\2"))
        tree.make(["c"]).set(RegValue("cut", REG_SZ, b"o\0d\0d\0x"))
        expect("what was in the way", registry.write_tree(key, tree), [])
        found = registry.tree(key)
        expect("what was written", found and found.keys, tree.keys)
        registry.delete_tree(key)
        expect("the key", registry.exists(key), False)
