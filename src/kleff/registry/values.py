"""Registry values: a name, a type number and raw bytes, as the system stores them."""

from __future__ import annotations

from dataclasses import dataclass

REG_SZ, REG_EXPAND_SZ, REG_BINARY, REG_DWORD = 1, 2, 3, 4
REG_LINK, REG_MULTI_SZ, REG_QWORD = 6, 7, 11


@dataclass(frozen=True)
class RegValue:
    """One value. `raw` is what the system stores: UTF-16LE with its NUL for texts, little-endian numbers."""

    name: str
    type: int
    raw: bytes

    @property
    def text(self) -> str:
        """The value as a text, cut at its first NUL; numbers in decimal."""
        if self.type in (REG_SZ, REG_EXPAND_SZ):
            return self.raw[: len(self.raw) // 2 * 2].decode("utf-16-le", "surrogatepass").split("\0")[0]
        if self.type in (REG_DWORD, REG_QWORD):
            return str(int.from_bytes(self.raw, "little"))
        return self.raw.hex(" ")

    @property
    def texts(self) -> list[str]:
        """A list of texts; a single text is a list of one."""
        if self.type != REG_MULTI_SZ:
            return [self.text] if self.text else []
        return [t for t in self.raw[: len(self.raw) // 2 * 2].decode("utf-16-le", "surrogatepass").split("\0") if t]

    @property
    def number(self) -> int | None:
        return int.from_bytes(self.raw, "little") if self.type in (REG_DWORD, REG_QWORD) else None


def text_value(name: str, text: str, expand: bool = False) -> RegValue:
    """A text value as the system stores it."""
    raw = (text + "\0").encode("utf-16-le", "surrogatepass")
    return RegValue(name, REG_EXPAND_SZ if expand else REG_SZ, raw)


def list_value(name: str, texts: list[str]) -> RegValue:
    """A list of texts as the system stores it."""
    return RegValue(name, REG_MULTI_SZ, ("".join(f"{t}\0" for t in texts) + "\0").encode("utf-16-le", "surrogatepass"))


def number_value(name: str, number: int) -> RegValue:
    """A 32-bit number."""
    return RegValue(name, REG_DWORD, number.to_bytes(4, "little"))
