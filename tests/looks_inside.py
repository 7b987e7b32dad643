"""Run in a booted workstation: every lie that is told there while single reads fail, a line each.

Usage: looks_inside.py PROCEDURE [HOW MANY FAULTS FOR A STEP] [SEED]
"""

from __future__ import annotations

import sys
from pathlib import Path

import test_looks

if __name__ == "__main__":
    if len(sys.argv) > 2:
        test_looks.DRAWN = int(sys.argv[2])
    for lie in test_looks.told_wrongly(Path(sys.argv[1]), "this", Path("/"), int(sys.argv[3]) if len(sys.argv) > 3 else 0):
        print(lie)
