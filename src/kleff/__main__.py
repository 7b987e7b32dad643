"""Entry point. Answers `--version` without loading anything; the rest is the command line's."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command line; never returns."""
    from kleff.cli.streams import make_sound

    make_sound()
    if sys.argv[1:] == ["--version"]:
        from kleff import __version__

        print(f"kleff {__version__}")
        sys.exit(0)
    from kleff.cli.app import run

    run()


if __name__ == "__main__":
    main()
