"""The command tree."""

from __future__ import annotations

import sys

import typer

from crisp_compass.cli.bench import check, export, report, simulate
from crisp_compass.cli.commutation import commutation
from crisp_compass.cli.identify import identify
from crisp_compass.cli.sensorless import observe
from crisp_compass.cli.study import study
from crisp_compass.cli.tune import tune

app = typer.Typer(
    name="crisp-compass",
    help="The navigator of the motor bench. Without a command the window opens, with FILE.bench.json on that bench.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
app.add_typer(identify, name="identify")
app.add_typer(commutation, name="commutation")
app.add_typer(tune, name="tune")
app.add_typer(study, name="study")
for function in (simulate, check, export, report, observe):
    app.command()(function)


#: Typer shows its usage errors only through their best known kind.
_UsageError: type[Exception] = typer.BadParameter.__bases__[0]


def run(arguments: list[str]) -> int:
    """Run one command; usage errors are one line on standard error and 2."""
    tree = typer.main.get_command(app)
    try:
        result = tree.main(arguments, prog_name="crisp-compass", standalone_mode=False)
        return int(result) if isinstance(result, int) else 0
    except typer.Exit as leave:
        return leave.exit_code
    except _UsageError as error:
        return _usage(error)
    except (typer.Abort, KeyboardInterrupt):
        print("Stopped.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        return 0


def _usage(error: Exception) -> int:
    """Print what is wrong with the words of a command, beginning with the option at fault where it is known."""
    option = getattr(error, "option_name", "")
    parameter = getattr(error, "param", None)
    if parameter is not None:
        option = next((name for name in parameter.opts if name.startswith("--")), parameter.metavar or parameter.name)
    message = " ".join(str(getattr(error, "format_message", error.__str__)()).split()).rstrip(".")
    if message.startswith("Usage:"):
        message = "A command is missing"
    message = message.removeprefix(f"{option}: ")
    print(f"{option + ': ' if option else ''}{message}. Try --help.", file=sys.stderr)
    return 2
