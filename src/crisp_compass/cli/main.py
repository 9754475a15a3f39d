"""The command tree."""

from __future__ import annotations

import io
import re
import sys

import typer

from crisp_compass.cli.bench import check, export, report, simulate
from crisp_compass.cli.commutation import commutation
from crisp_compass.cli.drive import drive
from crisp_compass.cli.drive_identify import identify as _identify_drive  # noqa: F401 - a command of its own file
from crisp_compass.cli.identify import identify
from crisp_compass.cli.motion import motion
from crisp_compass.cli.sensorless import observe
from crisp_compass.cli.study import study
from crisp_compass.cli.tune import tune
from crisp_compass.safe_text import line

app = typer.Typer(
    name="crisp-compass",
    help="The navigator of the motor bench. Without a command the window opens, with FILE.bench.json on that bench.",
    no_args_is_help=True,
    add_completion=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
app.add_typer(identify, name="identify")
app.add_typer(commutation, name="commutation")
app.add_typer(tune, name="tune")
app.add_typer(study, name="study")
app.add_typer(motion, name="motion")
app.add_typer(drive, name="drive")
for function in (simulate, check, export, report, observe):
    app.command()(function)


#: What a command ends with that Ctrl+C stopped.
STOPPED = 130
#: Typer shows its usage errors only through their best known kind.
_UsageError: type[Exception] = typer.BadParameter.__bases__[0]


def run(arguments: list[str]) -> int:
    """Run one command; usage errors are one line on standard error and 2."""
    tree = typer.main.get_command(app)
    for stream in (sys.stdout, sys.stderr):  # a terminal without these characters, or a name that is no text, stops nothing
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    try:
        result = tree.main(arguments, prog_name="crisp-compass", standalone_mode=False)
        if result == STOPPED:
            print("Stopped.", file=sys.stderr)
        return int(result) if isinstance(result, int) else 0
    except typer.Exit as leave:
        if leave.exit_code == STOPPED:
            print("Stopped.", file=sys.stderr)
        return leave.exit_code
    except _UsageError as error:
        return _usage(error)
    except (typer.Abort, KeyboardInterrupt):
        print("Stopped.", file=sys.stderr)
        return STOPPED


def _usage(error: Exception) -> int:
    """Print what is wrong with the words of a command, beginning with the option at fault where it is known."""
    option = getattr(error, "option_name", "")
    parameter = getattr(error, "param", None)
    if parameter is not None:
        option = next((name for name in parameter.opts if name.startswith("--")), parameter.metavar or parameter.name)
    message = " ".join(str(getattr(error, "format_message", error.__str__)()).split()).rstrip(".")
    if message.startswith("Usage:"):
        message = "A command is missing"
    message = re.sub(r"^Invalid value for [^:]*: ", "", message).removeprefix(f"{option}: ")
    print(line(f"{option + ': ' if option else ''}{message}. Try --help."), file=sys.stderr)
    return 2
