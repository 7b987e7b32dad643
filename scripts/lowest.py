"""The lowest versions that pyproject.toml allows, as constraints for pip.

pip install -c <(python scripts/lowest.py) -e '.[test]'
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PROJECT = Path(__file__).parent.parent / "pyproject.toml"


def lowest() -> list[str]:
    """`name==version` of everything that has a lower bound."""
    project = tomllib.loads(PROJECT.read_text("utf-8"))["project"]
    wanted = [*project["dependencies"], *(one for name in ("test", "secure") for one in project["optional-dependencies"][name])]
    found = (re.match(r"([A-Za-z0-9_.-]+)>=([0-9.]+)", one) for one in wanted)
    return sorted({f"{one[1]}=={one[2]}" for one in found if one})


if __name__ == "__main__":
    print("\n".join(lowest()))
