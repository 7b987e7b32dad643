"""What people at the nursery made themselves: plant labels as text, pictures as PNG. Drawn from a seed."""

from __future__ import annotations

import math
import random
import struct
import zlib

PLANTS = (
    "Basil", "Borage", "Calendula", "Chervil", "Comfrey", "Cosmos", "Dahlia", "Dill", "Fennel", "Foxglove", "Hollyhock", "Hyssop",
    "Kohlrabi", "Lavender", "Lovage", "Marjoram", "Nasturtium", "Oregano", "Parsley", "Radish", "Rhubarb", "Rosemary", "Rue",
    "Sage", "Salsify", "Savory", "Sorrel", "Sunflower", "Sweet pea", "Tansy", "Tarragon", "Thyme", "Tomato", "Valerian", "Yarrow",
)  # fmt: skip
WORDS = ("early", "late", "dwarf", "climbing", "white", "crimson", "spotted", "hardy", "lemon", "giant", "winter", "creeping")
LEAF = ("  \\ | /  ", "   \\|/   ", "  --o--  ", "   /|\\   ", "    |    ", "    |    ")


def label(draw: random.Random, plant: str) -> str:
    """A plant label as a design file: a drawing, a name, what the grower must know."""
    name = f"{draw.choice(WORDS).capitalize()} {plant.lower()}"
    facts = [f"sow {draw.randint(1, 9)} mm deep", f"{draw.randint(15, 60)} cm apart", f"{draw.randint(12, 90) / 10:.2f} EUR"]
    width = 34
    lines = ["tagdesign 4", "+" + "-" * width + "+"]
    for row, leaf in enumerate(LEAF):
        text = (name, "", *facts, "")[row]
        lines.append(f"|{leaf} {text:<{width - 10}}|")
    return "\r\n".join([*lines, "+" + "-" * width + "+", f"bed = {draw.randint(1, 40)}", ""])


def picture(draw: random.Random, width: int = 96, height: int = 64) -> bytes:
    """A flower before a sky, as PNG (ISO/IEC 15948)."""
    petals, hue = draw.randint(5, 9), draw.random()
    cx, cy, size = width * draw.uniform(0.35, 0.65), height * draw.uniform(0.35, 0.55), height * draw.uniform(0.25, 0.4)
    colour = tuple(int(127 + 120 * math.sin(6.28 * (hue + k / 3))) for k in range(3))
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            dx, dy = x - cx, y - cy
            edge = size * (0.6 + 0.4 * abs(math.cos(petals / 2 * math.atan2(dy, dx))))
            distance = math.hypot(dx, dy)
            if distance < size * 0.25:
                rows += bytes((240, 200, 60))
            elif distance < edge:
                rows += bytes(colour)
            elif abs(dx) < 1.5 and dy > 0:
                rows += bytes((60, 140, 60))
            else:
                rows += bytes((150 + y, 190 + y // 2, 235) if y < height * 0.8 else (96, 122, 60))
    header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    chunks = ((b"IHDR", header), (b"IDAT", zlib.compress(bytes(rows), 9)), (b"IEND", b""))
    return b"\x89PNG\r\n\x1a\n" + b"".join(_chunk(kind, data) for kind, data in chunks)


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
