"""Entry point. Answers `--version` without loading anything; the rest is the command line's."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command line; never returns."""
    from kleff.cli.terminal import clock
    from kleff.cli.terminal.signals import stop_at_once
    from kleff.cli.terminal.streams import make_sound

    clock.start()
    make_sound()
    stop_at_once()
    if sys.argv[1:] == ["--version"]:
        from kleff import __version__

        print(f"kleff {__version__}")
        sys.exit(0)
    from kleff.cli.app import run

    run()


if __name__ == "__main__":
    main()
