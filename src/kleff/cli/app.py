"""The commands, and the one place where an error becomes a line and an exit code."""

from __future__ import annotations

import gc
import sys
from collections.abc import Callable
from typing import NoReturn

import typer

from kleff.cli import case_commands, demo, lab, look, restoring, selftest, undoing, unneeded, work
from kleff.cli.terminal.errors import tell
from kleff.errors import KleffError, Refused, StopAtOnce, remedy_for

COMMANDS: dict[str, Callable[..., None]] = {
    "demo": demo.demo, "check": look.check, "list": look.list_procedures, "survey": look.survey, "preview": look.preview, "run": work.run,
    "resume": work.resume, "undo": undoing.undo, "restore": restoring.restore, "discard": undoing.discard, "verify": look.verify,
    "unneeded": unneeded.unneeded, "cases": case_commands.cases, "report": case_commands.report, "selftest": selftest.selftest,
}  # fmt: skip
GROUPS = {"lab": lab.app}


def app(asked: str = "") -> typer.Typer:
    """The command line; of one command alone, if that is asked for: to make all of them ready takes longer than most have to do."""
    made = typer.Typer(
        name="kleff",
        help="Removes a product from a workstation by a written procedure: looks first, saves what matters, proves it is gone, "
        "and can take it back.",
        no_args_is_help=True,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    made.callback(invoke_without_command=True)(_main)
    alone = asked in COMMANDS or asked in GROUPS
    for name, command in COMMANDS.items():
        if name == asked or not alone:
            made.command(name)(command)
    for name, group in GROUPS.items():
        if name == asked or not alone:
            made.add_typer(group, name=name)
    return made


def _main(version: bool = typer.Option(False, "--version", help="Print the version.")) -> None:
    if version:
        from kleff import __version__

        typer.echo(f"kleff {__version__}")
        raise typer.Exit


def run() -> NoReturn:
    """Run the command line and end the process; no error a person can cause shows a traceback."""
    gc.set_threshold(100_000, 20, 20)  # a large plan is many small things that live to the end
    try:
        app("".join(sys.argv[1:2]))(prog_name="kleff")
    except KleffError as error:
        tell(error)
        _leave(error.exit_code)
    except (StopAtOnce, KeyboardInterrupt):
        print("kleff: stopped at once\n  What to do: if a case had begun it is open;  kleff cases  says how to finish it", file=sys.stderr)
        _leave(130)
    except OSError as error:
        remedy = remedy_for(error, "try again", "mend that")
        print(f"kleff: {error.filename or 'the system'}: {error.strerror}\n  What to do: {remedy}", file=sys.stderr)
        _leave(3)
    except SystemExit as end:
        _leave(end.code if isinstance(end.code, int) else 0)
    _leave(0)


def _leave(code: int) -> NoReturn:
    """What was asked for and could not be written was not done; what was done to a workstation is told by its own code."""
    from kleff.cli.terminal import signals
    from kleff.cli.terminal.streams import lost
    from kleff.closing import close_all

    for text in close_all():
        print(f"kleff: {text}", file=sys.stderr)
    error = lost()
    if error is not None:
        remedy = remedy_for(error, "ask again")
        print(f"kleff: what there was to say cannot be written: {error.strerror}\n  What to do: {remedy}", file=sys.stderr)
        if code == 0 and not signals.worked:
            code = Refused.exit_code
    sys.exit(code)
